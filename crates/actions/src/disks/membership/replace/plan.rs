//! What is wanted of a replacement, what it is about to do, and what it did.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::pool_file::Edit;
use sieve_core::forecast::Forecast;
use sieve_core::pool::DiskSpec;
use sieve_core::units::{ByteLength, DiskId};
use sieve_pool::new_disk::NewDisk;
use sieve_rows::image::ImageLimits;
use std::path::PathBuf;

use crate::disks::membership::successor::About;

/// What is to move, and where.
#[derive(Clone, Debug)]
pub struct ReplaceRequest {
    /// The parity disk.
    pub name: String,
    /// The folder of the disk that takes its place.
    pub onto: PathBuf,
    /// What may be used of that, if another amount than the pool file says of the old one.
    pub capacity: Option<ByteLength>,
    /// The disk of the pool file that the image goes on on where that is full.
    pub rest: Option<String>,
    /// What is known of the new one.
    pub about: About,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ReplacePlan {
    /// The volume.
    pub volume: String,
    /// The parity disk.
    pub disk: String,
    /// Where it is now.
    pub from: String,
    /// Where it goes.
    pub onto: String,
    /// The disk that the image goes on on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rest: Option<String>,
    /// Cells of parity that are copied.
    pub cells: u64,
    /// Those that lie on the first disk.
    pub cells_on_first: u64,
    /// Cells that are not valid where they are: they are computed afterwards.
    pub invalid: u64,
    /// Bytes that are read and written.
    pub bytes: ByteLength,
    /// An interrupted move goes on.
    pub resumes: bool,
    /// How long that takes.
    pub forecast: Forecast,
    /// Something to think about, in words.
    pub doubts: Vec<String>,
}

/// What was done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ReplaceReport {
    /// The volume.
    pub volume: String,
    /// The parity disk.
    pub disk: String,
    /// What the pool file said of the old one: its serial number, bay, price and the like stay in the journal.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub was: Option<DiskSpec>,
    /// Where it is now.
    pub onto: String,
    /// The disk that the image goes on on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rest: Option<String>,
    /// Cells that were copied.
    pub copied: u64,
    /// Cells that were computed, because they were not valid where they were.
    pub computed: u64,
    /// Cells that are still to be computed: the next sync does it.
    pub left: u64,
    /// It was asked to stop before its end: nothing has changed yet.
    pub stopped: bool,
}

/// A disk that takes over cells of the image.
pub(super) struct Target {
    pub(super) row: DiskRow,
    pub(super) new: NewDisk,
    pub(super) usable: ByteLength,
    pub(super) limits: ImageLimits,
}

/// A move that can be begun.
pub struct PreparedReplace {
    /// What it will do.
    pub plan: ReplacePlan,
    pub(super) old: DiskRow,
    pub(super) first: Target,
    pub(super) rest: Option<Target>,
    pub(super) edits: Vec<Edit>,
}

pub(super) fn is_move_of(id: DiskId) -> impl Fn(&Intent) -> bool {
    move |intent| matches!(intent, Intent::Move { disk, .. } if *disk == id)
}
