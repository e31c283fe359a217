//! When something settles, and how much of a cache is free for what comes.

use sieve_catalogue::label::Role;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::fate::Standing;
use sieve_core::landing::reserve_of;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::Result;
use sieve_pool::grounds::largest_recent;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use std::collections::HashSet;

pub(crate) const NANOSECONDS_A_DAY: f64 = 86_400e9;

/// Why a file on a disk is not to be moved now, if it is not: it is open, or may still be growing.
pub(super) fn why_in_use(
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
pub(crate) fn age_of(times: [i64; 2], now: i64) -> f64 {
    let past = times.into_iter().filter(|time| *time <= now.saturating_add(AHEAD)).max();
    past.map_or(f64::INFINITY, |last| now.saturating_sub(last).max(0) as f64)
}

/// Clocks of one machine differ by less: one minute.
pub(super) const AHEAD: i64 = 60_000_000_000;

pub(super) fn caches_of<'a>(pool: &'a Pool, volume: &'a VolumeSpec) -> impl Iterator<Item = &'a Member> {
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

/// The size of the cache with the least room, as far as it may be used.
///
/// # Errors
/// What the database says.
pub fn cache_size(pool: &Pool, volume: &VolumeSpec) -> Result<Option<ByteLength>> {
    let usable = caches_of(pool, volume).filter(|m| m.state.is_usable());
    let sizes = usable.map(|m| Ok((m.free_bytes(&pool.catalogue)?, m.usable_bytes())));
    Ok(sizes.collect::<Result<Vec<_>>>()?.into_iter().min().and_then(|(_, size)| size))
}

/// When a volume settles next, if that is regular and something waits (since `since`), nanoseconds since 1970.
pub(super) fn settles_next(pool: &Pool, volume: &VolumeSpec, since: Option<i64>) -> Result<Option<i64>> {
    let Some(days) = volume.cache.settle_every else { return Ok(None) };
    let last = sieve_catalogue::settled_at(pool.catalogue.reading(), &volume.name)?;
    Ok(last.or(since).map(|at| at.saturating_add((days * NANOSECONDS_A_DAY) as i64)))
}
