//! What is wanted of a sync, what it is about to do, and what it did.

use crate::files::mirror::MirrorPlan;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::sync::{LaneChange, Preference};
use sieve_disk::{Error, Kind};
use sieve_pool::scan::ScanReport;
use std::collections::BTreeMap;

/// What the user decided beforehand.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Disks of which everything found on them is right, also if it looks suspicious.
    pub accept: Vec<String>,
    /// Only what changed on these disks is scanned and synced; empty for all.
    pub disks: Vec<String>,
    /// Let as many disks sleep as can be, whatever longer it takes.
    pub let_sleep: bool,
}

impl Options {
    /// Whether a data disk takes part.
    pub(crate) fn includes(&self, disk: &str) -> bool {
        self.disks.is_empty() || self.disks.iter().any(|name| name == disk)
    }

    pub(super) fn preference(&self) -> Preference {
        // Naming disks is a wish to let the others sleep.
        if self.let_sleep || !self.disks.is_empty() { Preference::FewestDisks } else { Preference::LeastTime }
    }
}

/// What a sync will do.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct SyncPlan {
    /// What the scan found, disk by disk.
    pub scans: Vec<ScanReport>,
    /// What enters and leaves parity, by data disk.
    pub changes: BTreeMap<String, LaneChange>,
    /// Bytes to read, by disk.
    pub read_bytes: Amounts,
    /// Bytes of parity to write, by disk.
    pub written_bytes: Amounts,
    /// How long that takes.
    pub forecast: Forecast,
    /// Files to checksum.
    pub files_to_checksum: u64,
    /// Cells of parity to compute.
    pub cells: u64,
    /// Those of them that are computed from the old parity and what changed.
    pub cells_by_delta: u64,
    /// Held files that can be given up afterwards.
    pub held_files: u64,
    /// When the scan began, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub begun_at: i64,
    /// The catalogue changed and its replicas have to follow.
    pub replicas_behind: bool,
    /// What the copies of mirrored volumes lack, by volume.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub mirrors: BTreeMap<String, MirrorPlan>,
    /// Damaged parity that was found already, in words.
    pub damage: Vec<String>,
    /// Files that find no room below the end of the parity drives.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub no_room: Vec<String>,
}

impl SyncPlan {
    /// Bytes read and written, by disk.
    pub(super) fn moved_bytes(&self) -> Amounts {
        self.read_bytes.plus(&self.written_bytes)
    }

    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.computes_nothing() && !self.replicas_behind && self.held_files == 0
    }

    /// Whether no file is to be read, and no parity to be computed.
    pub fn computes_nothing(&self) -> bool {
        self.cells == 0 && self.files_to_checksum == 0 && self.mirrors.values().all(MirrorPlan::is_empty)
    }
}

/// What a sync did.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct SyncReport {
    /// Bytes really read, by disk.
    pub read_bytes: Amounts,
    /// Bytes really written, by disk (the table and the replica of the catalogue included).
    pub written_bytes: Amounts,
    /// Files checksummed.
    pub files_checksummed: u64,
    /// Cells of parity computed.
    pub cells: u64,
    /// Held files given up.
    pub released: u64,
    /// Copies of files of mirrored volumes that were made or brought up to date.
    pub copied: Count,
    /// Files of mirrored volumes whose copies went separate ways.
    pub conflicts: Vec<String>,
    /// Files of mirrored volumes of which one copy was removed behind our back.
    pub one_copy_removed: Vec<String>,
    /// Files that changed while they were read: they wait for the next sync.
    pub left_for_next: Vec<String>,
    /// Files of mirrored volumes that belong to another user: only the superuser copies them without making them its own.
    pub of_others: Vec<String>,
    /// Files that cannot be read.
    pub unreadable: Vec<String>,
    /// Files whose content differs although size and times say that it does not.
    pub suspect: Vec<String>,
    /// Damage that was found, in words.
    pub damage: Vec<String>,
    /// Cells of parity whose rows stayed as they were, because something in them can be neither read nor computed.
    pub rows_left: u64,
    /// Disks that are too full for a replica of the catalogue: the one that is there knows an earlier state.
    pub no_replica: Vec<String>,
    /// Files that find no room below the end of the parity drives.
    pub no_room: Vec<String>,
    /// It was asked to stop before its end, and did at a checkpoint.
    pub stopped: bool,
    /// How long it took, in seconds.
    pub seconds: f64,
}

impl SyncReport {
    /// Whether everything that a sync can guard is guarded now.
    pub fn is_clean(&self) -> bool {
        self.left_for_next.is_empty()
            && self.of_others.is_empty()
            && self.conflicts.is_empty()
            && self.one_copy_removed.is_empty()
            && self.unreadable.is_empty()
            && self.suspect.is_empty()
            && self.damage.is_empty()
            && self.rows_left == 0
            && !self.stopped
            && self.no_room.is_empty()
            && self.no_replica.is_empty()
    }
}

/// The error for a file or disk that stopped a sync.
pub(crate) fn parity_full(disk: &str) -> Error {
    Error::new(Kind::Io, "parity.full", format!("parity disk {disk} is full"))
        .remedy("use a larger parity disk, or less of the data disks (capacity in the pool file)")
}
