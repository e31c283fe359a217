//! Giving up what is held: when a sync has passed it, or when its space is wanted and it is proven to be elsewhere.

use std::collections::BTreeSet;

use rusqlite::Connection;
use sieve_core::fate::Standing;
use sieve_core::layout::OurPlace;

use super::guarded::{Guarded, is_there};
use super::{Watcher, note};
use crate::member::Member;
use crate::pieces;
use crate::pool::Pool;
use sieve_catalogue::held_files;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{parity_state, versions};
use sieve_disk::Result;
use sieve_disk::copying;
use sieve_disk::{Disk, EntryKind};

/// Gives up what was held on a data disk before `before` and has left the snapshot.
///
/// # Crash safety
/// The file goes first; the next scan forgets a record whose file is gone.
///
/// # Errors
/// What the disk or the database says.
pub fn release(pool: &Pool, member: &Member, before: i64) -> Result<u64> {
    let reading = pool.catalogue.reading();
    if held_files::all(reading, member.row.id)?.iter().all(|held| held.since >= before) {
        return Ok(0);
    }
    let lane = parity_state::lane(reading, member.row.id)?;
    let needed: BTreeSet<_> = lane.iter().map(|i| i.value.version).collect();
    release_where(pool, member, before, |object| {
        !object.version.iter().chain(&object.older).any(|version| needed.contains(version))
    })
}

/// What is held on a cache is in no row: it goes when the sync that is over has passed what became of it.
///
/// # Crash safety
/// As [`release`].
///
/// # Errors
/// What the disk or the database says.
pub fn release_settled(pool: &Pool, cache: &Member, before: i64) -> Result<u64> {
    release_where(pool, cache, before, |_| true)
}

fn release_where(
    pool: &Pool,
    member: &Member,
    before: i64,
    may_go: impl Fn(&ObjectRow) -> bool,
) -> Result<u64> {
    let reading = pool.catalogue.reading();
    let mut guarded = Guarded::new(pool, &member.row.volume)?;
    let mut released = Vec::new();
    for held in held_files::all(reading, member.row.id)?.into_iter().filter(|h| h.since < before) {
        let object = objects::by_path(reading, member.row.id, &held.path)?;
        // What moved on, to a disk or a tier, is guarded there before its copy goes (L8).
        if object.as_ref().is_none_or(&may_go) && guarded.everything_named(&held.original)? {
            released.push((held, object));
        }
    }
    give_up(pool, member, &released)
}

/// Whether the same content is under a name elsewhere at this moment: the file there is open, is what the catalogue says,
/// and that is what the held one is (L1).
///
/// # Errors
/// What the database says.
pub fn is_proven_elsewhere(pool: &Pool, member: &Member, held: &HeldRow, object: &ObjectRow) -> Result<bool> {
    let reading = pool.catalogue.reading();
    let Some(version) = object.version.filter(|_| object.standing == Standing::Same) else {
        return Ok(false);
    };
    let known = versions::get(reading, version)?;
    if known.unfinished {
        return Ok(false);
    }
    for other in pool.file_members(&member.row.volume).filter(|other| other.row.id != member.row.id) {
        let Some(twin) = objects::by_path(reading, other.row.id, &held.original)? else { continue };
        let content = twin.version.filter(|_| twin.standing == Standing::Same);
        let content = content.map(|version| versions::get(reading, version)).transpose()?;
        if content.is_some_and(|twin| twin.sum.whole == known.sum.whole)
            && is_there(other, &held.original, &twin)
        {
            return Ok(true);
        }
    }
    let pieced = pieces::files(pool, &member.row.volume)?;
    for file in pieced.iter().filter(|file| file.path == held.original && file.whole == known.sum.whole) {
        let mut is_whole = true;
        for piece in &file.pieces {
            let object = objects::by_path(reading, piece.disk, &piece.path)?;
            let member = pool.member(piece.disk)?;
            is_whole &= object.is_some_and(|object| is_there(member, &piece.path, &object));
        }
        if is_whole {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Giving up one name of a file moves the change time that its other names show; that alone raises no doubt.
fn expect_new_change_time(t: &Connection, disk: &dyn Disk, object: &ObjectRow) -> Result<()> {
    for name in objects::names(t, object.id)? {
        if let Some(stat) = disk.stat(&name)?.filter(|stat| object.matches_but_for_ctime(stat)) {
            return objects::set_stat(t, object.id, &stat, object.standing);
        }
    }
    Ok(())
}

/// Gives up what is held; tells how many. What somebody wrote to while it was held stays: it is nowhere else.
///
/// # Crash safety
/// As [`release`].
///
/// # Errors
/// What the disk or the database says.
pub fn give_up(pool: &Pool, member: &Member, released: &[(HeldRow, Option<ObjectRow>)]) -> Result<u64> {
    if released.is_empty() {
        return Ok(0);
    }
    let disk = &**member.writable()?;
    let watcher = Watcher::new(&*pool.machine);
    let (mut gone, mut trusted, mut was_removed) = (Vec::new(), Vec::new(), false);
    for (held, object) in released {
        if held.path.parent().as_ref() != Some(&OurPlace::Held.path()) {
            continue; // a catalogue's word that leads out of our folder
        }
        let Some(stat) = disk.stat(&held.path)? else {
            gone.push(held);
            continue;
        };
        let watch = watcher.watch(disk, &held.path)?;
        if watch.is_none() || stat.kind != EntryKind::File || !is_as_held(pool, disk, held, object.as_ref())?
        {
            continue;
        }
        disk.remove_file(&held.path)?;
        was_removed = true;
        trusted.extend(object.as_ref().filter(|object| object.matches(&stat)));
        gone.push(held);
    }
    if gone.is_empty() {
        return Ok(0);
    }
    // On a disk that was rebuilt the folder may not even be there.
    if was_removed {
        disk.sync_folder(&OurPlace::Held.path())?;
    }
    pool.catalogue.transaction(|t| {
        for held in &gone {
            objects::remove_name(t, member.row.id, &held.path)?;
            held_files::remove(t, member.row.id, &held.path)?;
        }
        for object in &trusted {
            expect_new_change_time(t, disk, object)?;
        }
        objects::forget_nameless(t, member.row.id)
    })?;
    note::tidy(pool, member.row.id, disk)?;
    Ok(gone.len() as u64)
}

/// Whether what is held is what was taken: nobody wrote to it since.
fn is_as_held(pool: &Pool, disk: &dyn Disk, held: &HeldRow, object: Option<&ObjectRow>) -> Result<bool> {
    // Learned of by a scan alone: no content is known that it could differ from, and it is not to be lost for that.
    let Some(object) = object else { return Ok(false) };
    if held.edited {
        return Ok(true); // its owner had changed it, and removed it as it was
    }
    // Never checksummed: a modification time after it was taken tells that somebody wrote to it.
    let Some(version) = object.version else { return Ok(object.mtime <= held.since) };
    let stat = disk.stat(&held.path)?;
    if object.standing == Standing::Same && stat.is_some_and(|stat| object.matches(&stat)) {
        return Ok(true);
    }
    // The change time moves with other names of the file as well: only reading tells.
    let known = versions::get(pool.catalogue.reading(), version)?;
    let mut file = disk.open(&held.path)?;
    let size = file.stat()?.size;
    let sum = copying::checksum(&mut *file, size, |_| Ok(()))?;
    Ok(!known.unfinished && sum.is_some_and(|sum| sum.whole == known.sum.whole))
}
