//! Who belongs to the pool: disks that come, leave, or give their place to another one.

pub mod dissolve;
pub mod empty;
pub mod grow;
pub mod handover;
pub mod replace;
mod successor;
pub use successor::About;
pub mod vacate;
pub mod wipe;

use sieve_pool::follow::{edit_pool_file, tell_all_members};

use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::new_disk::refuse_unlabelled;
use sieve_pool::pool::Pool;

/// Finishes what an interrupted change of members had begun; tells whether the pool file is another now.
pub fn recover(pool: &mut Pool, id: i64, intent: &Intent) -> Result<bool> {
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
    // Before the intent goes: after it, nobody would know that the replicas still speak of another set of members.
    tell_all_members(pool)?;
    pool.catalogue.transaction(|t| intents::remove(t, id))?;
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
