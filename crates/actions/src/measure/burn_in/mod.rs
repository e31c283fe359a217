//! A full write-and-read pass over free space, before a disk holds anything.

mod extents;
mod forecast;
mod pattern;
mod run;
mod target;

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::units::{ByteLength, Rate};

pub use forecast::forecast;
pub use run::run;
pub use target::{amount, overwrites};

/// What is to be tried.
#[derive(Clone, Debug)]
pub struct Request {
    /// A folder, whose free space is filled; or an image or a device, which is overwritten whole.
    pub path: PathBuf,
    /// At most so much; without it all there is.
    pub amount: Option<ByteLength>,
    /// The name of the image or device, typed out: what is on it is destroyed.
    pub overwrite: Option<String>,
}

/// A stretch that did not come back as it was written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BadStretch {
    /// Where in what was written, in bytes.
    #[serde(rename = "offset_bytes")]
    pub offset: u64,
    /// How long, in bytes.
    #[serde(rename = "length_bytes")]
    pub length: u64,
    /// Where on the device, where the filesystem says so.
    #[serde(rename = "on_device_bytes")]
    pub on_device: Option<u64>,
    /// What was wrong.
    pub what: String,
}

/// How a burn-in ended.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Report {
    /// What was written and read.
    pub bytes: ByteLength,
    /// Of that, what an earlier run had written.
    #[serde(rename = "resumed_bytes")]
    pub resumed: ByteLength,
    /// What was wrong.
    pub bad: Vec<BadStretch>,
    /// The page cache was passed by when reading: the bytes came from the medium.
    pub from_the_medium: bool,
    /// It was broken off.
    pub interrupted: bool,
    /// Share of the space from 0 to 1, and how fast it was written there.
    #[serde(serialize_with = "sieve_core::pairs::speeds")]
    #[schemars(with = "Vec<sieve_core::pairs::SpeedPoint>")]
    pub write_curve: Vec<(f64, Rate)>,
    /// Share of the space from 0 to 1, and how fast it was read there.
    #[serde(serialize_with = "sieve_core::pairs::speeds")]
    #[schemars(with = "Vec<sieve_core::pairs::SpeedPoint>")]
    pub read_curve: Vec<(f64, Rate)>,
}
