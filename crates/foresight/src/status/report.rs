//! What is told of a pool at one glance.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_actions::files::settle::CacheStatus;
use sieve_catalogue::label::Role;
use sieve_catalogue::proofs::Proof;
use sieve_core::count::Count;
use sieve_core::fate::{Fate, Unguarded};
use sieve_core::pool::VolumeKind;
use sieve_core::units::ByteLength;
use sieve_disk::Error;
use sieve_pool::member::State;
use sieve_pool::writer::AtWork;

/// How a pool is.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Status {
    /// The pool's name.
    pub pool: String,
    /// In one word.
    pub verdict: Verdict,
    /// How the files would end.
    pub stakes: Stakes,
    /// The long work that is under way.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_work: Option<AtWork>,
    /// Its volumes.
    pub volumes: Vec<VolumeStatus>,
    /// Its disks.
    pub disks: Vec<DiskStatus>,
    /// For each level, from 0 on: what may lose so many disks, whichever they are, and no more.
    pub guard: Vec<GuardLevel>,
    /// Why what is unguarded and should not be is.
    pub unguarded: BTreeMap<Unguarded, Count>,
    /// When the oldest of what came or changed since its last sync did, or came onto a cache; nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub unguarded_since: Option<i64>,
    /// What a sync would guard that is unguarded now, where one can be made and would help.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sync_would_guard: Option<Count>,
    /// What was removed or replaced and is held until the next sync.
    pub held: Count,
    /// When the last sync began, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub synced_at: Option<i64>,
    /// When the last verify that came to its end did, nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub verified_at: Option<i64>,
    /// What the agenda does next.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next: Option<NextJob>,
    /// When the files on the disks were last looked at, where that was not now; nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub as_of: Option<i64>,
    /// Now, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub now: i64,
    /// Files of the same path on two disks of a volume.
    pub conflicts: Vec<Conflict>,
    /// Cells that are known to be damaged.
    pub damaged_cells: u64,
    /// Which losses were proven by a drill, and when.
    pub proven: Vec<Proof>,
    /// Volumes that may hold less than their disks could.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Limited>,
    /// The caches.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<CacheStatus>,
    /// Folders whose content cannot be seen, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub out_of_sight: Vec<String>,
    /// What looks like an accident, so that a sync would stop before it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub suspicious: Option<Advice>,
    /// What is damaged of parity drives besides cells that were read, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub damaged_tables: Vec<String>,
    /// What was noticed, in words.
    pub notes: Vec<String>,
    /// What the pool file says and is not so, or not yet, in words; also among the notes.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub differs: Vec<String>,
}

/// One volume.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct VolumeStatus {
    /// Its name.
    #[serde(rename = "volume")]
    pub name: String,
    /// How it lays files over its disks.
    pub kind: VolumeKind,
    /// What it can hold: by this disks are bought. Copies count once; the cache in front of it does not.
    #[serde(rename = "total_bytes")]
    pub total: ByteLength,
    /// What is on its data disks.
    #[serde(rename = "used_bytes")]
    pub used: ByteLength,
    /// What still fits.
    #[serde(rename = "free_bytes")]
    pub free: ByteLength,
    /// When the first of its data disks will be full, nanoseconds since 1970; none where none grows, or little is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub full_about: Option<i64>,
    /// That disk.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub fills_first: Option<String>,
}

/// A job of the agenda that comes next.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct NextJob {
    /// Its name.
    pub job: String,
    /// When it is wanted, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub at: i64,
}

/// A volume that may hold less than its disks could.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Limited {
    /// The volume.
    pub volume: String,
    /// What it holds.
    #[serde(rename = "used_bytes")]
    pub used: ByteLength,
    /// What it may hold.
    #[serde(rename = "limit_bytes")]
    pub limit: ByteLength,
}

/// One disk.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DiskStatus {
    /// Its name.
    #[serde(rename = "disk")]
    pub name: String,
    /// Its volume.
    pub volume: String,
    /// What it does.
    pub role: Role,
    /// What was found in its place.
    #[serde(flatten)]
    pub state: State,
    /// What is to be done about that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<Advice>,
    /// Where it sits.
    pub bay: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// What our files take on it.
    #[serde(rename = "used_bytes")]
    pub used: ByteLength,
    /// What may still be written to it.
    #[serde(rename = "free_bytes")]
    pub free: ByteLength,
    /// When it was last scanned, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub scanned_at: Option<i64>,
    /// It takes no writes.
    pub read_only: bool,
}

/// What is wrong with a disk and what to do about it, in words.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Advice {
    /// What is wrong.
    pub message: String,
    /// What to do next.
    pub next: String,
}

impl From<Error> for Advice {
    fn from(error: Error) -> Self {
        Self { message: error.message, next: error.remedy.unwrap_or_default() }
    }
}

/// What may lose so many disks and no more.
#[derive(Clone, Copy, Debug, Serialize, JsonSchema)]
pub struct GuardLevel {
    /// How many disks.
    pub level: u8,
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: ByteLength,
}

/// One path, two disks.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Conflict {
    /// The volume.
    pub volume: String,
    /// The path.
    pub path: String,
    /// The disks.
    pub disks: Vec<String>,
}

/// How a pool is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Everything is there and as guarded as it is meant to be.
    Well,
    /// Nothing is wrong, and something waits for a sync or a settle.
    Waits,
    /// A disk, a file or parity is not as it should be.
    ActNow,
}

/// The loss that would cost most on top of the disks that are missing.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct NextLoss {
    /// The disk.
    pub disk: String,
    /// What could not be had back any more besides what is lost already.
    #[serde(flatten)]
    pub cost: Count,
}

/// What is at stake: how the files would end today, and with one more loss.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
pub struct Stakes {
    /// All files.
    pub files: Count,
    /// What is not to be had back in its present state as things are.
    pub lost: Count,
    /// What is there or comes back now, and could not survive one more loss.
    pub at_stake: Count,
    /// What is unguarded on purpose: its volume has neither parity nor copies.
    pub on_purpose: Count,
    /// With a disk missing: the second loss that would cost most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next_loss: Option<NextLoss>,
}

impl Stakes {
    pub(crate) fn add(&mut self, size: ByteLength, fate: Fate, guard: u8, is_on_purpose: bool) {
        self.files.add(size);
        match (fate, guard) {
            (Fate::Older | Fate::Torn | Fate::Gone, _) => self.lost.add(size),
            (_, 0) => self.at_stake.add(size),
            _ => {}
        }
        if is_on_purpose {
            self.on_purpose.add(size);
        }
    }
}

/// From 0 to the highest level, without gaps.
pub(crate) fn every_level(levels: &BTreeMap<u8, Count>) -> Vec<GuardLevel> {
    let top = levels.keys().max().copied().unwrap_or(0);
    let of = |level| levels.get(&level).copied().unwrap_or_default();
    (0..=top).map(|level| GuardLevel { level, files: of(level).files, bytes: of(level).bytes }).collect()
}
