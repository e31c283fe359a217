//! What the next start does about moves that were interrupted.

use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::{Destination, Leaving, Move, Source, span};
use sieve_catalogue::intents;
use sieve_catalogue::objects;
use sieve_catalogue::pieces;
use sieve_catalogue::{mark_changed, versions};
use sieve_disk::Result;
use sieve_disk::copying;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk, EntryKind, ReadFile};
use sieve_pool::held;
use sieve_pool::held::ToHold;
use sieve_pool::pool::Pool;

/// Finishes moves that were interrupted: a source goes where its copies are whole.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn recover(pool: &Pool, id: i64, moves: &[Move]) -> Result<()> {
    let all_there = moves.iter().flat_map(|m| m.from.iter().map(|s| s.disk).chain(m.to.disks()));
    if all_there.into_iter().any(|disk| pool.member(disk).is_ok_and(|m| m.writable().is_err())) {
        return Ok(()); // kept for when the disks are back
    }
    for file in moves {
        recover_one(pool, file)?;
    }
    pool.catalogue.transaction(|t| intents::remove(t, id))
}

fn recover_one(pool: &Pool, file: &Move) -> Result<()> {
    for source in &file.from {
        let Some(mut object) = objects::get(pool.catalogue.reading(), source.object)? else { continue };
        let names = objects::names(pool.catalogue.reading(), object.id)?;
        let names: Vec<RelPath> = names.into_iter().filter(|name| !name.is_held()).collect();
        let disk = pool.member(source.disk)?.writable()?;
        // A name that was saved anew since is another file, and stays.
        let is_it = |name: &&RelPath| is_inode(&**disk, name, object.inode);
        let there: Vec<RelPath> = names.iter().filter(is_it).cloned().collect();
        if there.is_empty() {
            forget(pool, source, &names)?;
            continue;
        }
        let stat = disk.stat(&there[0])?.filter(|stat| object.matches_but_for_ctime(stat));
        let Some(stat) = stat else { continue };
        if !copies_are_whole(pool, file, source, &there)? {
            continue;
        }
        pool.catalogue.transaction(|t| {
            objects::set_stat(t, object.id, &stat, object.standing)?;
            let lost = names.iter().filter(|name| !there.contains(name));
            lost.into_iter().try_for_each(|name| objects::remove_name(t, source.disk, name))
        })?;
        object.ctime = stat.ctime;
        let member = pool.member(source.disk)?;
        let items = there.into_iter().map(|path| ToHold { path, object: object.clone(), watched: None });
        let taken = held::take(pool, member, items.collect())?;
        // What somebody is at stays in both places, and is told as two files of one name.
        if source.leaving == Leaving::Hold {
            taken.record()?
        } else {
            taken.let_go(&**disk)?
        };
    }
    Ok(())
}

fn is_inode(disk: &dyn Disk, path: &RelPath, inode: u64) -> bool {
    let stat = disk.stat(path).ok().flatten();
    stat.is_some_and(|stat| stat.kind == EntryKind::File && stat.inode == inode)
}

fn is_file(disk: &dyn Disk, path: &RelPath) -> bool {
    disk.stat(path).is_ok_and(|stat| stat.is_some_and(|s| s.kind == EntryKind::File))
}

fn forget(pool: &Pool, source: &Source, names: &[RelPath]) -> Result<()> {
    pool.catalogue.transaction(|t| {
        names.iter().try_for_each(|name| objects::remove_name(t, source.disk, name))?;
        objects::forget_if_nameless(t, source.object)
    })
}

/// Whether every target has the file under all its names, durably, with the content of the source.
fn copies_are_whole(pool: &Pool, file: &Move, source: &Source, names: &[RelPath]) -> Result<bool> {
    let sum = |disk: &dyn Disk, path: &RelPath| -> Result<Option<ContentSum>> {
        let mut file: Box<dyn ReadFile> = disk.open(path)?;
        let size = file.stat()?.size;
        copying::checksum(&mut *file, size, |_| Ok(()))
    };
    let disk = pool.member(source.disk)?.writable()?;
    let expected = sum(&**disk, &names[0])?;
    let targets = match &file.to {
        Destination::Whole(disks) => disks,
        Destination::Pieces(_) => return span::is_whole(pool, file, &names[0], expected.as_ref()),
    };
    let Some(expected) = expected else { return Ok(false) };
    for to in targets {
        let target = pool.member(*to)?.writable()?;
        for name in names {
            if !is_file(&**target, name) || sum(&**target, name)?.as_ref() != Some(&expected) {
                return Ok(false);
            }
        }
        durable::sync_parents(&**target, names)?;
    }
    // They were read just now: what they are is known before a source goes, and they count as the copies that they are (L8).
    for to in targets {
        record_copy(pool, *to, names, &expected)?;
        pool.catalogue.transaction(|t| pieces::follow(t, source.disk, *to, &names[0]))?;
    }
    Ok(true)
}

fn record_copy(pool: &Pool, to: DiskId, names: &[RelPath], sum: &ContentSum) -> Result<()> {
    let disk = pool.member(to)?.writable()?;
    let reading = pool.catalogue.reading();
    let known = objects::by_path(reading, to, &names[0])?;
    if known.is_some_and(|object| object.version.is_some() && object.standing == Standing::Same) {
        return Ok(());
    }
    let mut file = disk.open(&names[0])?;
    let (stat, data) = (file.stat()?, file.data_ranges()?);
    if copying::checksum(&mut *file, stat.size, |_| Ok(()))?.as_ref() != Some(sum) {
        return Ok(()); // somebody was faster: the next scan tells
    }
    let attributes = Attributes::of(&stat, disk.extended_attributes(&names[0])?);
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        let version = versions::insert(t, to, sum, &data, &attributes)?;
        let extended = attributes.pack_extended();
        let object = objects::insert(t, to, &stat, extended.as_deref(), Some(version), false)?;
        names.iter().try_for_each(|name| objects::set_name(t, to, name, object))?;
        objects::forget_nameless(t, to)
    })
}
