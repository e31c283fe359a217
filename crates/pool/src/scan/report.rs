//! What a scan of one disk found.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;

/// What a scan of one disk found.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct ScanReport {
    /// The disk.
    pub disk: String,
    /// Files there are (names; held ones not counted).
    pub files: u64,
    /// Files that were known before.
    pub known: u64,
    /// New files.
    pub new: u64,
    /// Files whose content changed, or may have.
    pub changed: u64,
    /// Files whose names changed.
    pub renamed: u64,
    /// Names that are gone.
    pub gone: u64,
    /// Files that had content and are empty now.
    pub emptied: u64,
    /// Bytes of new and changed files.
    pub changed_bytes: ByteLength,
    /// What was left alone, in words: special files, names that are none.
    pub left_alone: Vec<String>,
    /// Folders whose content cannot be seen, in words: something is mounted over them, or they cannot be read. What was known
    /// there stays known, and is in doubt.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub out_of_sight: Vec<String>,
}
