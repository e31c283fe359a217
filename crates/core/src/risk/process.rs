//! The process of failures and rebuilds, and what is told of it.

use std::collections::BTreeMap;

use serde::Serialize;

/// A disk as the process sees it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RiskDisk {
    /// Its name.
    pub name: String,
    /// Failures per year while it runs.
    pub rate: f64,
    /// Its batch, if that is known.
    pub batch: Option<String>,
    /// Years from its failure until it is replaced and rebuilt.
    pub window: f64,
}

/// What a failure costs.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Loss {
    /// Bytes that are lost even right after a sync.
    pub bytes: f64,
    /// Files that are.
    pub files: f64,
    /// Files more for each day since the last sync.
    pub files_per_day: f64,
    /// The size of each of these, in bytes.
    pub bytes_each: f64,
}

/// Something that happens a number of times by chance, each time at the same cost.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Hazard {
    /// How often it is to be expected: the mean of a Poisson distribution.
    pub events: f64,
    /// Bytes lost each time.
    pub bytes_each: f64,
    /// Files lost each time.
    pub files_each: f64,
}

/// All that the process needs to know.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Process {
    /// The disks.
    pub disks: Vec<RiskDisk>,
    /// So many times likelier a disk fails while another of its batch is being rebuilt.
    pub batch_factor: f64,
    /// Days from one sync to the next.
    pub sync_interval: f64,
    /// Which disks are caches: they hold files, and take part in no parity.
    pub caches: Vec<bool>,
    /// What the failure of each disk costs.
    pub single: Vec<Loss>,
    /// What the failure of a second disk costs besides: first by the first to fail, then by the second.
    pub second: Vec<Vec<Loss>>,
    /// Unreadable sectors met while one disk is rebuilt.
    pub unreadable: Vec<Hazard>,
    /// Unreadable sectors met while two disks are rebuilt.
    pub unreadable_pair: Vec<Vec<Hazard>>,
}

/// Why something is lost.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// One disk fails, and takes what no parity guards.
    Single,
    /// A second disk fails while the first is being rebuilt.
    Second,
    /// A sector cannot be read during a rebuild.
    Unreadable,
    /// A cache fails, and takes what waited on it.
    Cache,
}

impl Cause {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Single, Self::Second, Self::Unreadable, Self::Cache];
}

/// What is to be expected of one cause.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Figure {
    /// How often it costs anything, per year.
    pub events: f64,
    /// Bytes lost per year.
    pub bytes: f64,
    /// Files lost per year.
    pub files: f64,
}

/// What is to be expected in a year.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Odds {
    /// By cause.
    pub causes: BTreeMap<Cause, Figure>,
    /// Failures after which anything is lost, per year.
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
    /// The cause that the failure of a disk counts under while all others are there.
    pub fn cause_of(&self, disk: usize) -> Cause {
        if self.caches.get(disk).copied().unwrap_or(false) { Cause::Cache } else { Cause::Single }
    }

    /// Failures per year of a disk while another is being rebuilt.
    pub fn rate_beside(&self, first: usize, second: usize) -> f64 {
        let (first, second) = (&self.disks[first], &self.disks[second]);
        let is_of_batch = first.batch.is_some() && first.batch == second.batch;
        second.rate * if is_of_batch { self.batch_factor } else { 1.0 }
    }

    /// Failures per year of any other disk while this one is being rebuilt.
    pub fn rate_of_others(&self, first: usize) -> f64 {
        (0..self.disks.len())
            .filter(|other| *other != first)
            .map(|other| self.rate_beside(first, other))
            .sum()
    }
}
