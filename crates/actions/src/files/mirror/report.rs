//! What is told of the copies.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::count::Count;

/// What was done about the copies.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Mirrored {
    /// Copies that were made or brought up to date.
    pub copied: Count,
    /// Files of which no copy is what its checksum says.
    pub damaged: Vec<String>,
    /// Files that somebody is at.
    pub left_for_next: Vec<String>,
    /// Files of another user, of whom only the superuser makes copies.
    pub of_others: Vec<String>,
    /// It was asked to stop before its end.
    pub stopped: bool,
}
