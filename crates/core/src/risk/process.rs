//! The process of failures and rebuilds, and what is told of it.

use std::collections::BTreeMap;
use std::rc::Rc;

use schemars::JsonSchema;
use serde::Serialize;

use crate::fate::{DiskIndex, DiskSet};

/// A disk as the process sees it.
#[derive(Clone, Debug, PartialEq)]
pub struct RiskDisk {
    /// Its name.
    pub name: String,
    /// Failures per year while it runs.
    pub rate: f64,
    /// Its batch, if that is known.
    pub batch: Option<String>,
    /// Years from its failure until it is replaced and rebuilt.
    pub window: f64,
    /// It holds files, and takes part in no parity.
    pub is_cache: bool,
}

/// What the loss of a set of disks costs.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Loss {
    /// Bytes that are lost even right after a sync.
    pub bytes: f64,
    /// Files that are.
    pub files: f64,
    /// Files more for each day since the last sync.
    pub fresh_files: f64,
    /// Their bytes, for each day.
    pub fresh_bytes: f64,
    /// Files more that wait on a cache at any moment: the mean of a Poisson distribution.
    pub waiting_files: f64,
    /// Their bytes.
    pub waiting_bytes: f64,
}

impl Loss {
    /// What this costs beyond a smaller set.
    #[must_use]
    pub fn beyond(&self, smaller: &Self) -> Self {
        let more = |all: f64, part: f64| (all - part).max(0.0);
        Self {
            bytes: more(self.bytes, smaller.bytes),
            files: more(self.files, smaller.files),
            fresh_files: more(self.fresh_files, smaller.fresh_files),
            fresh_bytes: more(self.fresh_bytes, smaller.fresh_bytes),
            waiting_files: more(self.waiting_files, smaller.waiting_files),
            waiting_bytes: more(self.waiting_bytes, smaller.waiting_bytes),
        }
    }
}

/// Something that happens a number of times by chance, each time at the same cost.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Hazard {
    /// How often it is to be expected: the mean of a Poisson distribution.
    pub events: f64,
    /// Bytes lost each time.
    pub bytes_each: f64,
    /// Files lost each time.
    pub files_each: f64,
}

/// What losing disks costs.
pub trait Losses {
    /// What the loss of all of these costs.
    fn loss(&self, lost: &DiskSet) -> Loss;
    /// Sectors that turn out to be unreadable, and cost something, while all of these are rebuilt; without those that
    /// did so already with the disks that were down `before`.
    fn hazard(&self, before: &DiskSet, lost: &DiskSet) -> Hazard;
    /// So many disks have to fail before the last guard is gone.
    fn depth(&self) -> usize;
}

/// All that the process needs to know.
#[derive(Clone)]
pub struct Process {
    /// The disks.
    pub disks: Vec<RiskDisk>,
    /// So many times likelier a disk fails while another of its batch is being rebuilt.
    pub batch_factor: f64,
    /// Days from one sync to the next.
    pub sync_interval: f64,
    /// What failures cost.
    pub losses: Rc<dyn Losses>,
}

/// Why something is lost.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// One disk fails, and takes what no parity guards.
    Single,
    /// A second disk fails while the first is being rebuilt.
    Second,
    /// A third or later disk fails while others are being rebuilt.
    Further,
    /// A sector cannot be read during a rebuild.
    Unreadable,
    /// A cache fails, and takes what waited on it.
    Cache,
}

impl Cause {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Single, Self::Second, Self::Further, Self::Unreadable, Self::Cache];

    /// Its position in [`Self::ALL`].
    pub(super) fn position(self) -> usize {
        self as usize
    }
}

/// What is to be expected of one cause.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Figure {
    /// How often it costs anything, per year.
    #[serde(rename = "events_a_year")]
    pub events: f64,
    /// Bytes lost per year.
    #[serde(rename = "bytes_a_year")]
    pub bytes: f64,
    /// Files lost per year.
    #[serde(rename = "files_a_year")]
    pub files: f64,
}

/// What is to be expected in a year.
#[derive(Clone, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Odds {
    /// By cause.
    pub causes: BTreeMap<Cause, Figure>,
    /// Failures after which anything is lost, per year.
    #[serde(rename = "any_a_year")]
    pub any: f64,
}

impl Odds {
    /// All causes together.
    pub fn total(&self) -> Figure {
        self.causes.values().fold(Figure::default(), |sum, figure| Figure {
            events: sum.events + figure.events,
            bytes: sum.bytes + figure.bytes,
            files: sum.files + figure.files,
        })
    }

    /// The probability of losing anything within a year.
    pub fn any_in_a_year(&self) -> f64 {
        -(-self.any).exp_m1()
    }
}

impl Process {
    /// The cause that the failure of a disk counts under, where so many have failed before it.
    pub fn cause_of(&self, disk: usize, before: usize) -> Cause {
        if self.disks[disk].is_cache {
            return Cause::Cache;
        }
        match before {
            0 => Cause::Single,
            1 => Cause::Second,
            _ => Cause::Further,
        }
    }

    /// Failures per year of a disk while these are being rebuilt: none of one of them.
    pub fn rate_beside(&self, down: &DiskSet, disk: usize) -> f64 {
        if down.contains(index(disk)) {
            return 0.0;
        }
        let one = &self.disks[disk];
        let is_of_batch = one.batch.is_some()
            && down.iter().any(|other| self.disks[usize::from(other.0)].batch == one.batch);
        one.rate * if is_of_batch { self.batch_factor } else { 1.0 }
    }
}

/// The disk at a position.
pub(super) fn index(position: usize) -> DiskIndex {
    DiskIndex(u16::try_from(position).unwrap_or(u16::MAX))
}
