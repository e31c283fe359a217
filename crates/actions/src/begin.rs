//! The begin of every command that writes: the locks, and what an earlier command left half done.

use crate::disks::membership;
use crate::files::moves;
use crate::guard::verify;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_core::units::DiskId;
use sieve_disk::Result;
use sieve_disk::workspace;
use sieve_pool::pool::Pool;
use sieve_pool::{held, pieces};

/// Begins a work that takes long, and that one command at a time may do: sync, settle, rebuild, a change of disks.
///
/// From then on the catalogue may be written. What an earlier command left half done is finished or undone first,
/// where nobody else is at work (L4), and the members are looked at again (L2).
///
/// # Errors
/// When another command is at such a work; when something that it had left changed the pool file.
pub fn begin_long(pool: &mut Pool, what: &str) -> Result<()> {
    begin_long_without(pool, what, &[])
}

/// As [`begin_long`], without the disks given: they are lost.
///
/// # Errors
/// As [`begin_long`].
pub fn begin_long_without(pool: &mut Pool, what: &str, lost: &[DiskId]) -> Result<()> {
    let alone = pool.lock_long(what, lost)?;
    if alone.is_some() {
        recover(pool)?;
    }
    let has_new_names = sieve_pool::agree(pool, alone.is_some())?;
    drop(alone);
    // The members are locked where the pool file has them by their names.
    if has_new_names { begin_long_without(pool, what, lost) } else { Ok(()) }
}

/// Begins a work that other short ones, and one long one, may be at as well: put, rm, restore.
///
/// # Errors
/// When another one does not finish within a minute; as [`begin_long`].
pub fn begin_short(pool: &mut Pool) -> Result<()> {
    let alone = pool.lock_short()?;
    if alone.is_some() {
        recover(pool)?;
    }
    sieve_pool::agree(pool, alone.is_some()).map(|_| ())
}

/// Finishes or undoes what an earlier run began. Only under both locks, so that its author is gone: every intent is
/// written down under one of them (L4).
fn recover(pool: &mut Pool) -> Result<()> {
    for disk in pool.members.iter().filter_map(|member| member.writable().ok()) {
        workspace::tidy(&**disk)?;
    }
    let mut is_edited = false;
    let mut by_order = intents::all(pool.catalogue.reading())?;
    // What is held already must not look to the others as if somebody had taken it away.
    by_order.sort_by_key(|(_, intent)| !intent.is_hold());
    for (id, intent) in by_order {
        match intent {
            Intent::Hold { .. } | Intent::HoldAll { .. } | Intent::Exchange { .. } => {
                held::recover(pool, id, &intent)?;
            }
            Intent::Relocate { moves } => moves::recover(pool, id, &moves)?,
            Intent::Pieces { pieces } => pieces::recover(pool, id, &pieces)?,
            Intent::Whole { .. } => pieces::recover_whole(pool, id, &intent)?,
            Intent::Mend { .. } => verify::recover(pool, id, &intent)?,
            Intent::EditPoolFile { .. } | Intent::Join { .. } | Intent::Leave { .. } => {
                is_edited |= membership::recover(pool, id, &intent)?;
            }
            Intent::Move { disk, onto, .. } => {
                let name = pool.member(disk)?.row.name.clone();
                pool.notes.push(format!(
                    "the move of {name} to {onto} was interrupted: the same command goes on with it (zinc-sieve replace {name} --onto {onto} …)"
                ));
            }
            Intent::Rebuild { disk, onto, .. } => {
                let name = pool.member(disk)?.row.name.clone();
                pool.notes.push(format!(
                    "the rebuild of {name} onto {onto} was interrupted: `zinc-sieve rebuild {name} --onto {onto}` goes on with it"
                ));
            }
            Intent::Create => {}
        }
    }
    if is_edited { Err(membership::pool_file_changed()) } else { Ok(()) }
}
