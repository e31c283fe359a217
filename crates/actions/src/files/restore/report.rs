//! Where files that come back go, and what is told of them.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::ByteLength;

/// Where files go.
#[derive(Clone, Copy, Debug)]
pub enum Target<'a> {
    /// To where they were: beside what has their name now.
    Place,
    /// Into a folder outside of the pool.
    Folder(&'a Path),
}

/// What came back.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct RestoreReport {
    /// Files that are there again.
    pub restored: Vec<Restored>,
    /// Files that do not come back: path, why.
    #[serde(serialize_with = "sieve_core::pairs::with_why")]
    #[schemars(with = "Vec<sieve_core::pairs::PathAndWhy<'static>>")]
    pub not_back: Vec<(String, String)>,
    /// It was asked to stop: what is told came back before.
    pub stopped: bool,
}

/// A file that is there again.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Restored {
    /// Its path in the volume.
    pub path: String,
    /// Where it is now.
    #[serde(rename = "written_to")]
    pub at: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// Its name was taken, so it has another one.
    pub beside: bool,
}
