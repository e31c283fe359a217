//! What a volume has at stake: its files and disks as the odds of a year are reckoned from them.

use sieve_core::fate::{LostSet, Model};
use sieve_core::pool::DiskSpec;
use sieve_core::units::ByteLength;

/// A disk of such a volume.
pub struct RiskMember {
    /// Its name.
    pub name: String,
    /// What the pool file says of it.
    pub spec: DiskSpec,
    /// All its space.
    pub capacity: ByteLength,
    /// What is free on it, for a data disk.
    pub free: Option<ByteLength>,
    /// Hours that a rebuild of it takes.
    pub rebuild_hours: f64,
}

/// A volume as the risk is worked out for it.
pub struct RiskVolume {
    /// Its name.
    pub name: String,
    /// As it is.
    pub now: Model,
    /// As it would be right after a sync.
    pub synced: Model,
    /// The disks that are missing.
    pub missing: LostSet,
    /// How many names of files each object has.
    pub names: Vec<u32>,
    /// Days since the first sync; none where there was none, or on paper.
    pub seen: Option<f64>,
    /// Its disks, in the model's order.
    pub disks: Vec<RiskMember>,
    /// Hours that disks are busy with a sync now; none where none can be made.
    pub sync_hours: Option<f64>,
}
