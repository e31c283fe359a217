//! Checkpoints: the numbered states of the catalogue that the members know of.

use rusqlite::Transaction;
use sieve_core::units::{CheckpointId, DiskId};

use crate::catalogue::parity_state::{self, Checkpoint};
use crate::catalogue::{self, disks};
use crate::error::{Error, Result};
use crate::machine::Machine;
use crate::parity::Part;
use crate::pool::Pool;

/// Adds a checkpoint after the newest one.
pub(crate) fn advance(t: &Transaction<'_>, machine: &dyn Machine) -> Result<Checkpoint> {
    let next = next(t, machine)?;
    parity_state::insert_checkpoint(t, &next)?;
    Ok(next)
}

/// The checkpoint that comes after the newest one.
///
/// # Errors
/// What the database says.
pub(crate) fn next(c: &rusqlite::Connection, machine: &dyn Machine) -> Result<Checkpoint> {
    let head = parity_state::head(c)?;
    // Zero marks the base frame of a parity table.
    let id = CheckpointId::new(machine.random().max(1));
    Ok(Checkpoint {
        number: head.map_or(1, |h| h.number + 1),
        id,
        parent: head.map(|h| h.id),
        at: machine.now(),
    })
}

/// Notes how large a part of an image is now, and how what was written of it looks.
pub(crate) fn note_written(t: &Transaction<'_>, part: &Part) -> Result<()> {
    note_written_as(t, part.member(), part)
}

/// The same for a part on a disk that becomes this member.
pub(crate) fn note_written_as(t: &Transaction<'_>, member: DiskId, part: &Part) -> Result<()> {
    disks::set_parity_bytes(t, member, part.bytes())?;
    for (number, stat) in part.written_segments()? {
        parity_state::set_segment(t, member, number, &stat)?;
    }
    Ok(())
}

/// The replicas carry the pool file too: it says what the labels do not.
pub(crate) fn note_pool_file(t: &rusqlite::Transaction<'_>, pool: &Pool) -> Result<()> {
    let text = std::fs::read_to_string(&pool.file).map_err(|e| Error::io("pool-file.read", &pool.file, e))?;
    catalogue::set_pool_file_text(t, &text)
}
