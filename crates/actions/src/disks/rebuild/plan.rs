//! What is wanted of a rebuild, what it is about to do, and what it did.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::label::Role;
use sieve_core::amounts::Amounts;
use sieve_core::count::Totals;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::pool::DiskSpec;
use sieve_core::units::ByteLength;
use sieve_core::units::{DiskId, ObjectId, VersionId};
use sieve_pool::fate::Elsewhere;
use sieve_pool::new_disk::NewDisk;
use std::collections::HashMap;
use std::path::PathBuf;
use uuid::Uuid;

/// One lost disk and where it is to be rebuilt.
#[derive(Clone, Debug)]
pub struct Request {
    /// The lost disk.
    pub name: String,
    /// The folder of the new one.
    pub onto: PathBuf,
}

/// What the user wants besides.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Files below these folders come back before all others.
    pub first: Vec<RelPath>,
    /// What comes back in pieces only is kept beside its name, with zeros for what is missing.
    pub salvage: bool,
}

/// A file that came back in pieces and was kept.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Salvaged {
    /// Its path.
    pub path: String,
    /// What it is called now.
    #[serde(rename = "written_to")]
    pub at: String,
    /// The bytes that are missing, from, up to: zeros are in their place.
    #[serde(serialize_with = "sieve_core::pairs::stretches")]
    #[schemars(with = "Vec<sieve_core::pairs::Stretch>")]
    pub holes: Vec<(u64, u64)>,
}

/// What will be done for one disk.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct TargetPlan {
    /// The lost disk.
    pub disk: String,
    /// What it does.
    pub role: Role,
    /// Where the new one is.
    pub onto: String,
    /// Files that are to be written (held ones included).
    pub files: u64,
    /// Bytes that are to be written.
    pub bytes: ByteLength,
    /// What is free there.
    #[serde(rename = "free_bytes")]
    pub free: ByteLength,
    /// Something to think about, in words.
    pub doubts: Vec<String>,
}

/// What a rebuild will do.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RebuildPlan {
    /// The volume.
    pub volume: String,
    /// Disk by disk.
    pub targets: Vec<TargetPlan>,
    /// The fates of the volume's files (those on other missing disks left out).
    pub predicted: Totals,
    /// Members that are missing besides: they are not rebuilt now.
    pub also_missing: Vec<String>,
    /// Bytes to read at most, by disk.
    pub read_bytes: Amounts,
    /// How long that takes.
    pub forecast: Forecast,
}

/// How a rebuild ended.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct RebuildReport {
    /// What the pool file said of the disks that died: their serial numbers and the like stay in the journal.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub was: Vec<DiskSpec>,
    /// What was predicted.
    pub predicted: Totals,
    /// What came back.
    pub obtained: Totals,
    /// Files that did not come back in their present state: path, fate.
    #[serde(serialize_with = "sieve_core::pairs::with_fate")]
    #[schemars(with = "Vec<sieve_core::pairs::PathAndFate<'static>>")]
    pub not_back: Vec<(String, sieve_core::fate::Fate)>,
    /// Files that came back in pieces and were kept, as was wished.
    pub salvaged: Vec<Salvaged>,
    /// Damage that was met on survivors, in words.
    pub damage: Vec<String>,
    /// Cells of parity that were written, and that could not be computed.
    pub parity_cells: u64,
    /// Cells of parity that could not be computed.
    pub parity_cells_left: u64,
    /// It was asked to stop before its end: what came back whole is there, and running it again goes on from here.
    pub stopped: bool,
    /// Bytes read, by disk.
    pub read_bytes: Amounts,
    /// Bytes written, by disk.
    pub written_bytes: Amounts,
}

/// A rebuild that can be begun.
pub struct Prepared {
    /// What it will do.
    pub plan: RebuildPlan,
    pub(super) targets: Vec<Target>,
    /// The checkpoint of the newest replica that survives; 0 where none does.
    pub(super) newest_replica: u32,
    /// What needs no parity.
    pub(super) copies: Copies,
}

/// A disk to be rebuilt, opened and checked.
pub(super) struct Target {
    pub(super) row: DiskRow,
    pub(super) successor: Uuid,
    pub(super) new: NewDisk,
    /// An earlier rebuild began to fill it.
    pub(super) is_begun: bool,
}

/// Where the copies of lost objects come from.
pub(super) type Copies = HashMap<ObjectId, CopySource>;

/// A copy of a lost object.
pub(super) enum CopySource {
    /// On a survivor.
    Survivor(Elsewhere),
    /// On a disk that is lost as well, where parity has it: what went from one to the other is held on the first until a sync
    /// has passed it.
    Parity {
        /// That disk.
        disk: DiskId,
        /// The content as it was recorded there.
        version: VersionId,
    },
}
