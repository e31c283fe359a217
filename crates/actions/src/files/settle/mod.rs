//! Settling: what waits on the cache goes to its place on the disks, and files of a tiered volume to their tier.

mod cache;
mod run;
mod tiers;
mod waiting;

use std::collections::{BTreeMap, HashSet};

use rusqlite::OptionalExtension;
use serde::Serialize;
use sieve_core::fate::Standing;
use sieve_core::forecast::Forecast;
use sieve_core::landing::reserve_of;
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, VolumeSpec};
pub use sieve_core::tiers::Reason;
use sieve_core::units::{ByteLength, DiskId};

pub(crate) use run::settle;
pub use run::{SettleReport, execute};
pub use tiers::TierOutlook;
pub use waiting::{CacheStatus, caches};

pub(crate) use waiting::{CachedFile, cached_files};

pub use crate::files::moves::LeftAlone;
use crate::files::moves::Move;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::count::Count;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::grounds::{is_limited, largest_recent};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

const NANOSECONDS_A_DAY: f64 = 86_400e9;

/// Why a file on a disk is not to be moved now, if it is not: it is open, or may still be growing.
fn why_in_use(
    pool: &Pool,
    volume: &VolumeSpec,
    (disk, object): (DiskId, &ObjectRow),
    open: &HashSet<(u64, u64)>,
) -> Result<Option<&'static str>> {
    let is_known = object.version.is_some() && object.standing == Standing::Same;
    let age = age_of([object.mtime, object.ctime], pool.machine.now());
    if !is_known && age < volume.cache.settle_after * NANOSECONDS_A_DAY {
        return Ok(Some("it has changed in the last minutes, and may still grow"));
    }
    let filesystem = pool.member(disk)?.filesystem.as_ref();
    let device = filesystem.map(|filesystem| filesystem.device).unwrap_or_default();
    Ok(open.contains(&(device, object.inode)).then_some("it is open"))
}

/// How long nothing happened to something with these times, in nanoseconds. A time to come says nothing about that: it is
/// what somebody set, or what a clock that was ahead left.
fn age_of(times: [i64; 2], now: i64) -> f64 {
    let past = times.into_iter().filter(|time| *time <= now.saturating_add(AHEAD)).max();
    past.map_or(f64::INFINITY, |last| now.saturating_sub(last).max(0) as f64)
}

/// Clocks of one machine differ by less: one minute.
const AHEAD: i64 = 60_000_000_000;

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
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Why {
    /// It waits on the cache.
    Waits,
    /// It belongs on another tier.
    #[serde(untagged)]
    Tier(Reason),
}

/// One file that is to move.
#[derive(Clone, Debug, Serialize)]
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
    pub since: i64,
    /// Its path as a tree key.
    #[serde(skip)]
    pub(crate) key: Vec<u8>,
}

/// One cache before and after.
#[derive(Clone, Debug, Serialize)]
pub struct CacheSpace {
    /// The disk.
    pub disk: String,
    /// What is free now.
    pub free: ByteLength,
    /// What will be free.
    pub free_after: ByteLength,
    /// What will be free when the next sync has passed.
    pub free_after_sync: ByteLength,
    /// What is to stay free.
    pub reserve: ByteLength,
}

/// What is to be done.
#[derive(Clone, Debug, Serialize)]
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
    pub read_bytes: BTreeMap<String, ByteLength>,
    /// Bytes to write, by disk.
    pub written_bytes: BTreeMap<String, ByteLength>,
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

/// Scans the caches and plans.
///
/// # Errors
/// When the volume has nothing that settles, or a disk that is needed is not there.
pub fn plan(
    pool: &Pool,
    volume: &VolumeSpec,
    options: &Options,
    observer: &dyn Observer,
) -> Result<SettlePlan> {
    let is_tiered = volume.kind == VolumeKind::Tiered;
    if !volume.has_cache() && !is_tiered {
        let message = format!("volume {} has no cache and no tiers: nothing in it settles", volume.name);
        return Err(Error::new(Kind::Usage, "settle.nothing", message)
            .remedy("give it a cache: zinc-sieve grow DISK --as cache"));
    }
    for member in caches_of(pool, volume) {
        member.writable()?;
    }
    let is_looked_at = |m: &Member| m.row.role == Role::Cache || is_tiered || is_limited(m);
    scan::scan_all(pool, |m| m.row.volume == volume.name && is_looked_at(m), observer)?;
    let mut plan = SettlePlan {
        volume: volume.name.clone(),
        files: Vec::new(),
        by_disk: BTreeMap::new(),
        left_alone: Vec::new(),
        holds: false,
        given_up: Count::default(),
        others: 0,
        caches: Vec::new(),
        holds_on_tiers: false,
        tiers: None,
        read_bytes: BTreeMap::new(),
        written_bytes: BTreeMap::new(),
        forecast: Forecast::default(),
        moves: Vec::new(),
        to_give_up: Vec::new(),
    };
    if volume.has_cache() {
        cache::plan(pool, volume, options, &mut plan)?;
    }
    // Where the caches are emptied for good, the tiers end as well.
    if is_tiered && !options.everything {
        tiers::plan(pool, volume, options, &mut plan)?;
    }
    let mut amounts = plan.read_bytes.clone();
    for (name, bytes) in &plan.written_bytes {
        let sum = amounts.entry(name.clone()).or_default();
        // What is written is read back.
        *sum = sum.plus(*bytes).plus(*bytes);
    }
    plan.forecast = forecast_pass(pool, &amounts)?;
    Ok(plan)
}

fn caches_of<'a>(pool: &'a Pool, volume: &'a VolumeSpec) -> impl Iterator<Item = &'a Member> {
    pool.members_of(&volume.name, Role::Cache)
}

/// What is to stay free on each cache of a volume.
///
/// # Errors
/// What the database says.
pub fn cache_reserve(pool: &Pool, volume: &VolumeSpec) -> Result<ByteLength> {
    let smallest = caches_of(pool, volume).filter_map(Member::usable_bytes).min().unwrap_or_default();
    Ok(reserve_of(volume.reserve, smallest, largest_recent(pool, volume)?))
}

/// The least that is free on one of the caches.
///
/// # Errors
/// What the database says.
pub fn cache_free(pool: &Pool, volume: &VolumeSpec) -> Result<ByteLength> {
    let free = caches_of(pool, volume).filter(|m| m.state.is_usable()).map(|m| m.free_bytes(&pool.catalogue));
    Ok(free.collect::<Result<Vec<_>>>()?.into_iter().min().unwrap_or_default())
}

fn settled_key(volume: &str) -> String {
    format!("settled_at:{volume}")
}

/// When a volume settles next, if that is regular and something waits (since `since`), nanoseconds since 1970.
fn settles_next(pool: &Pool, volume: &VolumeSpec, since: Option<i64>) -> Result<Option<i64>> {
    let Some(days) = volume.cache.settle_every else { return Ok(None) };
    let text: Option<String> = pool
        .catalogue
        .reading()
        .query_row("SELECT value FROM meta WHERE key = ?1", [settled_key(&volume.name)], |row| row.get(0))
        .optional()?;
    let last = text.and_then(|text| text.parse::<i64>().ok());
    Ok(last.or(since).map(|at| at.saturating_add((days * NANOSECONDS_A_DAY) as i64)))
}

fn add_to(amounts: &mut BTreeMap<String, ByteLength>, disk: &str, bytes: ByteLength) {
    let sum = amounts.entry(disk.to_string()).or_default();
    *sum = sum.plus(bytes);
}
