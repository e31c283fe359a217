//! A file with its fate.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::{Fate, Unguarded};
use sieve_core::units::{ByteLength, VersionId};

use super::Reason;

/// A file of a volume with its fate.
#[derive(Debug, Serialize, JsonSchema)]
pub struct FileFate<'a> {
    /// The volume.
    pub volume: &'a str,
    /// Its path; what is not UTF-8, or would disturb a terminal, is shown escaped.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is shown escaped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// The disks that it lies on.
    pub disks: Vec<&'a str>,
    /// Its length.
    pub size_bytes: ByteLength,
    /// What becomes of it.
    pub fate: Fate,
    /// How many disks may die without losing it.
    pub guard: u8,
    /// Why none may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unguarded: Option<Unguarded>,
    /// Why its present content does not come back, where that was asked for and it does not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<Reason>,
    /// Its top folder, empty for what lies at the root.
    #[serde(skip)]
    pub top_folder: String,
    /// The position of its object in the model of its volume.
    #[serde(skip)]
    pub position: usize,
    /// Its present content, where it was checksummed.
    #[serde(skip)]
    pub content: Option<VersionId>,
}
