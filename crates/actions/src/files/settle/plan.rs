//! What is wanted of a settle, and what it is about to do.

use crate::files::moves::LeftAlone;
use crate::files::moves::Move;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::amounts::Amounts;
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::tiers::Reason;
use sieve_core::units::{ByteLength, DiskId};
use std::collections::BTreeMap;

/// What the user wants.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Only what lies in this folder.
    pub folder: Option<RelPath>,
    /// Only what has been waiting for so many days.
    pub older_than: Option<f64>,
    /// No more than it takes for so much to be free on each cache.
    pub until: Option<ByteLength>,
    /// Also what stays on the cache for good, and empty folders whatever their age: the caches are to be empty.
    pub everything: bool,
}

/// Why a file moves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Why {
    /// It waits on the cache.
    Waits,
    /// It belongs on another tier.
    #[serde(untagged)]
    Tier(Reason),
}

/// One file that is to move.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PlannedMove {
    /// Its path (the first, where it has several).
    pub path: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// Where it lies.
    pub from: Vec<String>,
    /// Where it goes.
    pub to: Vec<String>,
    /// Why.
    pub why: Why,
    /// Since when it waits, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub since: i64,
    /// Its path as a tree key.
    #[serde(skip)]
    pub(crate) key: Vec<u8>,
}

/// One cache before and after.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CacheSpace {
    /// The disk.
    pub disk: String,
    /// What is free now.
    #[serde(rename = "free_bytes")]
    pub free: ByteLength,
    /// What will be free.
    #[serde(rename = "free_after_bytes")]
    pub free_after: ByteLength,
    /// What will be free when the next sync has passed.
    #[serde(rename = "free_after_sync_bytes")]
    pub free_after_sync: ByteLength,
    /// What is to stay free.
    #[serde(rename = "reserve_bytes")]
    pub reserve: ByteLength,
}

/// What is to be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct SettlePlan {
    /// The volume.
    pub volume: String,
    /// File by file, in the order in which they move.
    pub files: Vec<PlannedMove>,
    /// Files and bytes, by the disk that they go to.
    pub by_disk: BTreeMap<String, Count>,
    /// What stays where it is, and why.
    pub left_alone: Vec<LeftAlone>,
    /// Sources stay on the cache, out of sight, until a sync has passed.
    pub holds: bool,
    /// Copies held since earlier settles that are given up for their space.
    pub given_up: Count,
    /// Symlinks and empty folders.
    pub others: u64,
    /// The caches before and after.
    pub caches: Vec<CacheSpace>,
    /// What leaves its tier is held there until a sync has passed it.
    pub holds_on_tiers: bool,
    /// What the tiers are good for, before and after.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tiers: Option<TierOutlook>,
    /// Bytes to read, by disk.
    pub read_bytes: Amounts,
    /// Bytes to write, by disk.
    pub written_bytes: Amounts,
    /// How long that takes.
    pub forecast: Forecast,
    #[serde(skip)]
    /// Every file that moves.
    pub moves: Vec<Move>,
    #[serde(skip)]
    pub(crate) to_give_up: Vec<(DiskId, HeldRow, Option<ObjectRow>)>,
}

impl SettlePlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.moves.is_empty() && self.to_give_up.is_empty() && self.others == 0
    }

    /// Whether no file has to move.
    pub fn moves_nothing(&self) -> bool {
        self.moves.is_empty() && self.others == 0
    }

    /// All bytes that are to move.
    pub fn bytes(&self) -> ByteLength {
        self.files.iter().map(|file| file.size_bytes).sum()
    }
}

/// What the tiers are good for, before and after.
#[derive(Clone, Copy, Debug, Serialize, JsonSchema)]
pub struct TierOutlook {
    /// The share of reads that is expected of the fast disks as files lie now, from 0 to 1.
    #[serde(rename = "fast_reads_share_before")]
    pub fast_reads_before: f64,
    /// The same after this settling.
    #[serde(rename = "fast_reads_share_after")]
    pub fast_reads_after: f64,
    /// The same when a sync has freed what is held, and another settling has used it.
    #[serde(rename = "fast_reads_share_after_sync")]
    pub fast_reads_after_sync: f64,
    /// What is free on the fast disks now.
    #[serde(rename = "free_bytes")]
    pub free: ByteLength,
    /// What is held on them until the next sync.
    #[serde(rename = "held_bytes")]
    pub held: ByteLength,
    /// What is to stay free on them.
    #[serde(rename = "reserve_bytes")]
    pub reserve: ByteLength,
}
