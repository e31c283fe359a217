//! What the next start does about holds that were interrupted.

use sieve_core::fate::Standing;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;

use super::note::is_edit;
use super::{move_in_catalogue, put_back};
use crate::member::Member;
use crate::pool::Pool;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::{Holds, Intent};
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::versions;
use sieve_disk::Result;
use sieve_disk::copying;
use sieve_disk::{Disk, Stat};

/// Finishes or drops holds that a crash interrupted.
///
/// # Errors
/// What the disk or the database says.
pub fn recover(pool: &Pool, id: i64, intent: &Intent) -> Result<()> {
    let (disk, files, replaced) = match intent {
        Intent::HoldAll { disk, files, replaced } => (*disk, files.clone(), *replaced),
        Intent::Hold { disk, object, original, held, replaced } => {
            let file = Holds { object: *object, original: original.clone(), held: held.clone() };
            (*disk, vec![file], *replaced)
        }
        Intent::Exchange { disk, object, original, held, made, mends } => {
            let member = pool.member(*disk)?;
            if member.writable().is_err() {
                return Ok(()); // kept for when the disk is back
            }
            let file = Holds { object: *object, original: original.clone(), held: held.clone() };
            recover_exchange(pool, member, &file, *made, *mends)?;
            return pool.catalogue.transaction(|t| intents::remove(t, id));
        }
        _ => return Ok(()),
    };
    let member = pool.member(disk)?;
    if member.writable().is_err() {
        return Ok(()); // kept for when the disk is back
    }
    for file in &files {
        if replaced {
            drop_second_name(member, file)?;
        }
        recover_one(pool, member, file, replaced)?;
    }
    pool.catalogue.transaction(|t| intents::remove(t, id))
}

/// The two names of a hold; nothing when the catalogue's word leads out of our folder.
fn names(file: &Holds) -> Result<Option<(RelPath, RelPath)>> {
    let (original, held) = (objects::path_of(&file.original)?, objects::path_of(&file.held)?);
    Ok((held.parent().as_ref() == Some(&OurPlace::Held.path())).then_some((original, held)))
}

/// An earlier version of this program gave what was to be replaced a second name first.
fn drop_second_name(member: &Member, file: &Holds) -> Result<()> {
    let real = member.writable()?;
    let Some((original, held)) = names(file)? else { return Ok(()) };
    let (one, other) = (real.stat(&held)?, real.stat(&original)?);
    if let (Some(one), Some(other)) = (one, other)
        && one.inode == other.inode
        && one.links > 1
    {
        real.remove_file(&held)?;
        real.sync_folder(&OurPlace::Held.path())?;
    }
    Ok(())
}

fn recover_one(pool: &Pool, member: &Member, file: &Holds, replaced: bool) -> Result<()> {
    let real = &**member.writable()?;
    let Some((original, held)) = names(file)? else { return Ok(()) };
    let Some(stat) = real.stat(&held)? else { return Ok(()) };
    let object = objects::get(pool.catalogue.reading(), file.object)?;
    let Some(object) = object.filter(|object| object.inode == stat.inode) else {
        // It was taken for another one, and the crash came before it was put back.
        return put_back(real, &held, &original);
    };
    let standing = standing_of(pool, real, &held, &object, &stat)?;
    pool.catalogue.transaction(|t| {
        let (since, edited) = (pool.machine.now(), is_edit(standing));
        let row = HeldRow { path: held, original, since, replaced, edited };
        sieve_catalogue::mark_changed(t)?;
        move_in_catalogue(t, member.row.id, &object, &row, &stat, standing)
    })
}

/// The rename moved the change time, and nobody watched: it is read before it is trusted again.
fn standing_of(
    pool: &Pool,
    disk: &dyn Disk,
    held: &RelPath,
    object: &ObjectRow,
    stat: &Stat,
) -> Result<Standing> {
    if !object.matches_but_for_ctime(stat) {
        return Ok(object.standing.max(Standing::Touched));
    }
    let Some(version) = object.version.filter(|_| object.standing <= Standing::Doubtful) else {
        return Ok(object.standing);
    };
    let known = versions::get(pool.catalogue.reading(), version)?;
    let read = disk.open(held).and_then(|mut file| copying::checksum(&mut *file, stat.size, |_| Ok(())));
    let is_it =
        !known.unfinished && read.is_ok_and(|sum| sum.is_some_and(|sum| sum.whole == known.sum.whole));
    Ok(if is_it { Standing::Same } else { object.standing.max(Standing::Doubtful) })
}

/// Under the held name lies what was replaced, or what was to replace it and did not.
fn recover_exchange(pool: &Pool, member: &Member, file: &Holds, made: u64, mends: bool) -> Result<()> {
    let real = &**member.writable()?;
    let Some((original, held)) = names(file)? else { return Ok(()) };
    match real.stat(&held)? {
        None => Ok(()),
        // It never had its name: whoever puts it has it still.
        Some(stat) if stat.inode == made => {
            real.remove_file(&held)?;
            real.sync_folder(&OurPlace::Held.path())
        }
        // The old one was taken, and the new one did not come: a filesystem that cannot exchange names.
        Some(_) if real.stat(&original)?.is_none() => put_back(real, &held, &original),
        Some(stat) if mends => finish_mending(pool, real, file, (&original, &held), &stat),
        Some(_) => recover_one(pool, member, file, true),
    }
}

/// The mended file has the name: it is the object, if it is what was checksummed, and the damaged one goes.
fn finish_mending(
    pool: &Pool,
    real: &dyn Disk,
    file: &Holds,
    (original, held): (&RelPath, &RelPath),
    damaged: &Stat,
) -> Result<()> {
    let object = objects::get(pool.catalogue.reading(), file.object)?;
    let (Some(object), Some(stat)) = (object, real.stat(original)?) else { return Ok(()) };
    let was_it = object.inode == damaged.inode;
    let looks_mended = (object.size, object.mtime) == (stat.size, stat.mtime);
    if !was_it || !looks_mended {
        return Ok(()); // somebody was at it: the next scan tells what is where
    }
    let as_mended = ObjectRow { inode: stat.inode, ctime: stat.ctime, ..object.clone() };
    let standing = standing_of(pool, real, original, &as_mended, &stat)?;
    pool.catalogue.transaction(|t| objects::set_stat(t, object.id, &stat, standing))?;
    real.remove_file(held)?;
    real.sync_folder(&OurPlace::Held.path())
}
