//! Who belongs to the pool: disks that come, leave, or give their place to another one.

pub mod dissolve;
pub mod grow;
mod new_disk;
pub mod replace;
pub mod vacate;
pub mod wipe;

use sieve_core::pool::parse;

pub(crate) use new_disk::{NewDisk, refuse_unlabelled};

use crate::catalogue::intents::{self, Intent};
use crate::catalogue::{disks, mark_changed, versions};
use crate::error::{Error, Kind, Result};
use crate::label;
use crate::member::recognise;
use crate::pool::Pool;
use crate::pool_file::{self, Edit};
use crate::replica::Export;
use crate::sync::{first_checkpoint, note_pool_file};

/// Makes changes in the pool file, and takes up what it says then.
pub(crate) fn edit_pool_file(pool: &mut Pool, edits: &[Edit]) -> Result<()> {
    pool_file::apply(&*pool.home, &pool.file, edits)?;
    let text = std::fs::read_to_string(&pool.file).map_err(|e| Error::io("pool-file.read", &pool.file, e))?;
    pool.spec = parse(&text).spec.ok_or_else(|| {
        let message = format!("{}: it has mistakes now", pool.file.display());
        Error::new(Kind::Conflict, "pool-file.mistakes", message).remedy("zinc-sieve check shows them")
    })?;
    let rows = disks::all(pool.catalogue.reading())?;
    pool.members = recognise(&*pool.machine, &pool.catalogue, pool.identity.pool, rows, &pool.spec.disks)?;
    Ok(())
}

/// Takes away the intents that `is_done` names.
pub(crate) fn forget_intents(pool: &Pool, is_done: impl Fn(&Intent) -> bool) -> Result<()> {
    pool.catalogue.transaction(|t| intents::remove_where(t, is_done))
}

/// Who belongs to the pool changed: a checkpoint of its own, and a replica on every member.
pub(crate) fn tell_all_members(pool: &mut Pool) -> Result<()> {
    let too_full = replicas_follow(pool)?;
    pool.notes.extend(too_full);
    pool.refresh_rows()
}

/// A checkpoint of its own, and a replica on every member that is there: from then on they know what has no rows (empty
/// files, symlinks, folders, files of holes), which nothing else guards. Tells which members are too full, in words.
pub(crate) fn replicas_follow(pool: &Pool) -> Result<Vec<String>> {
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        note_pool_file(t, pool)?;
        versions::record_without_data(t)?;
        first_checkpoint(t, &*pool.machine).map(|_| ())
    })?;
    let export = Export::take(&pool.catalogue)?;
    let mut too_full = Vec::new();
    for member in pool.members.iter().filter(|m| m.state.is_usable()) {
        if !export.put_where_it_fits(member, &pool.catalogue)? {
            too_full.push(format!("{} is too full for a replica of the catalogue", member.row.name));
        }
    }
    Ok(too_full)
}

/// Finishes what an interrupted change of members had begun; tells whether the pool file is another now.
pub(crate) fn recover(pool: &mut Pool, id: i64, intent: &Intent) -> Result<bool> {
    let edits = match intent {
        Intent::Join { disk, at, edits } => {
            if !label_joining(pool, *disk, at)? {
                return Ok(false);
            }
            edits
        }
        Intent::Leave { uuid, at, edits } => {
            vacate::erase(pool, *uuid, at.as_deref())?;
            edits
        }
        Intent::EditPoolFile { edits } => edits,
        _ => return Ok(false),
    };
    edit_pool_file(pool, edits)?;
    pool.catalogue.transaction(|t| intents::remove(t, id))?;
    tell_all_members(pool)?;
    Ok(true)
}

/// What was read of the pool file before it was edited holds no longer.
pub(crate) fn pool_file_changed() -> Error {
    let message =
        "a change of the pool's disks had been interrupted and is finished now: the pool file says so";
    Error::new(Kind::Safety, "pool-file.changed", message).remedy("run this again")
}

/// Labels a disk that is a member already in the catalogue; false while it is not there.
fn label_joining(pool: &mut Pool, id: sieve_core::units::DiskId, at: &str) -> Result<bool> {
    let row = pool.member(id)?.row.clone();
    let opened = pool.machine.open_disk(std::path::Path::new(at)).and_then(|disk| {
        let (found, filesystem) = (label::read(&*disk)?, disk.filesystem()?);
        Ok((disk, found, filesystem))
    });
    let Ok((disk, found, filesystem)) = opened else {
        let message = format!("{} was joining the pool, and {at} is not there: connect it", row.name);
        pool.notes.push(message);
        return Ok(false);
    };
    if let Some(label) = found {
        let is_it = label.disk == row.uuid && label.pool == pool.identity.pool;
        if !is_it {
            pool.notes.push(format!("{} was joining the pool, and another member is at {at} now", row.name));
        }
        return Ok(is_it);
    }
    refuse_unlabelled(&*disk, at)?;
    // Not on whatever else is mounted there now.
    if row.filesystem.as_ref().is_some_and(|bound| *bound != filesystem.id) {
        pool.notes.push(format!("{} was joining the pool, and another disk is at {at} now", row.name));
        return Ok(false);
    }
    label::write(&*disk, &row.label(&pool.identity, row.filesystem.clone()))?;
    Ok(true)
}
