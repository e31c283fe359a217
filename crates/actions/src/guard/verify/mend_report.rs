//! What was mended, and what could not be.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// What was mended, and what could not be.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct MendReport {
    /// Cells of files that are what was checksummed again.
    pub mended: Vec<MendedCell>,
    /// Cells of files that stay damaged, and why.
    pub left: Vec<LeftCell>,
    /// Cells of parity that were computed anew, by disk.
    pub parity_mended: BTreeMap<String, u64>,
    /// Cells of parity that stay damaged, by disk.
    pub parity_left: BTreeMap<String, u64>,
    /// It was asked to stop: what it did not come to is as it was.
    pub stopped: bool,
}

/// A cell of a file that was mended.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct MendedCell {
    /// The disk.
    pub disk: String,
    /// The file.
    pub path: String,
    /// The bytes: from, up to.
    #[serde(serialize_with = "sieve_core::pairs::stretch")]
    #[schemars(with = "sieve_core::pairs::Stretch")]
    pub bytes: (u64, u64),
    /// Where on the disk the bytes that were replaced are kept.
    pub kept: String,
    /// The file had no room beside it, has several names, or is of another user: it was mended where it lies.
    pub in_place: bool,
}

/// A cell of a file that stays damaged.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LeftCell {
    /// The disk.
    pub disk: String,
    /// The file.
    pub path: String,
    /// The bytes: from, up to.
    #[serde(serialize_with = "sieve_core::pairs::stretch")]
    #[schemars(with = "sieve_core::pairs::Stretch")]
    pub bytes: (u64, u64),
    /// Why.
    pub why: String,
}

impl MendReport {
    /// Whether nothing stays damaged.
    pub fn is_clean(&self) -> bool {
        self.left.is_empty() && self.parity_left.is_empty() && !self.stopped
    }
}
