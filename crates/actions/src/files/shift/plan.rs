//! What is to go from one data disk of a volume to another.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::units::ByteLength;

use crate::files::moves::{LeftAlone, Move};

/// By what disks are evened out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Measure {
    /// All are to be equally full, by their size.
    Share,
    /// All are to have the same space free.
    Free,
}

/// One file that moves.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ShiftedFile {
    /// Its path.
    pub path: String,
    /// Which piece of it, from 1 on, where it lies in pieces.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub piece: Option<u32>,
    /// Its length, or that of the piece.
    pub size_bytes: ByteLength,
    /// The disk that it leaves.
    pub from: String,
    /// The disk that it comes to.
    pub to: String,
}

/// A disk before and after.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Fill {
    /// The disk.
    pub disk: String,
    /// What may be used of it.
    #[serde(rename = "space_bytes")]
    pub space: ByteLength,
    /// What files take on it.
    #[serde(rename = "before_bytes")]
    pub before: ByteLength,
    /// What they take when a sync has passed what moved.
    #[serde(rename = "after_bytes")]
    pub after: ByteLength,
}

/// What moves.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ShiftPlan {
    /// The volume.
    pub volume: String,
    /// File by file.
    pub files: Vec<ShiftedFile>,
    /// Files and bytes, by the disk that they go to.
    pub by_disk: BTreeMap<String, Count>,
    /// The data disks.
    pub fills: Vec<Fill>,
    /// What stays where it is, and why.
    pub left_alone: Vec<LeftAlone>,
    /// What leaves a disk is held there until a sync has passed it.
    pub holds: bool,
    /// Bytes to read, by disk.
    pub read_bytes: Amounts,
    /// Bytes to write, by disk.
    pub written_bytes: Amounts,
    /// How long that takes, without the sync.
    pub forecast: Forecast,
    #[serde(skip)]
    pub(crate) moves: Vec<Move>,
}

impl ShiftPlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.moves.is_empty()
    }

    /// All that moves.
    pub fn total(&self) -> Count {
        self.by_disk.values().fold(Count::default(), |sum, count| sum.plus(*count))
    }
}
