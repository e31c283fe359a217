//! What a verify looks at, and what it found.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::units::CellIndex;
use std::collections::BTreeMap;

/// What a verify found.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct VerifyReport {
    /// Damaged or unreadable files.
    pub damaged: Vec<DamagedFile>,
    /// Damaged cells of parity, by disk.
    pub damaged_parity: BTreeMap<String, Vec<CellIndex>>,
    /// Contents whose every cell was read and is as it was checksummed.
    pub files_checked: u64,
    /// Cells of parity that were read and are what the contents say.
    pub parity_cells_checked: u64,
    /// Cells of parity whose checksum holds, but whose contents are not all there to compare with.
    pub parity_cells_by_checksum: u64,
    /// Files that changed or came after the last sync: there is nothing to compare them with.
    pub not_synced: u64,
    /// Disks that are not there.
    pub missing: Vec<String>,
    /// Cells of parity that there are, where rows were verified.
    pub cells: u64,
    /// Those of them whose rows were verified now.
    pub cells_checked: u64,
    /// When the rows that were not looked at for the longest were last verified, nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub oldest_check: Option<i64>,
    /// It was asked to stop before its end.
    pub stopped: bool,
    /// Bytes read, by disk.
    pub read_bytes: Amounts,
    /// How long it was thought to take; none where only a folder was looked at.
    pub forecast: Option<Forecast>,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// One damaged file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct DamagedFile {
    /// The disk.
    pub disk: String,
    /// Its path, or where it is held.
    pub path: String,
    /// Which of its cells.
    pub cell: u64,
    /// The bytes that are affected: from, up to.
    #[serde(serialize_with = "sieve_core::pairs::stretch")]
    #[schemars(with = "sieve_core::pairs::Stretch")]
    pub bytes: (u64, u64),
    /// What is wrong.
    pub what: String,
}

impl VerifyReport {
    /// Whether nothing is damaged.
    pub fn is_clean(&self) -> bool {
        self.damaged.is_empty() && self.damaged_parity.is_empty()
    }
}

/// What is to be verified.
#[derive(Clone, Debug, Default)]
pub enum Scope {
    /// Everything.
    #[default]
    Whole,
    /// This share (from 0 to 1) of the rows: those whose last check is the longest ago.
    Share(f64),
    /// What lies on these disks, and nothing of the others.
    Disks(Vec<String>),
    /// The files in a folder, or one file.
    Folder(RelPath),
}
