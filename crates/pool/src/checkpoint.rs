//! Checkpoints: the numbered states of the catalogue that the members know of.

use rusqlite::Transaction;
use sieve_core::units::{CheckpointId, DiskId};

use crate::pool::Pool;
use sieve_catalogue as catalogue;
use sieve_catalogue::disks;
use sieve_catalogue::parity_state;
use sieve_catalogue::parity_state::Checkpoint;
use sieve_disk::machine::Machine;
use sieve_disk::{Error, Result};
use sieve_rows::image::Part;

/// Adds a checkpoint after the newest one.
pub fn advance(t: &Transaction<'_>, machine: &dyn Machine) -> Result<Checkpoint> {
    let next = next(t, machine)?;
    parity_state::insert_checkpoint(t, &next)?;
    Ok(next)
}

/// The checkpoint that comes after the newest one.
///
/// # Errors
/// What the database says.
pub fn next(c: &rusqlite::Connection, machine: &dyn Machine) -> Result<Checkpoint> {
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
pub fn note_written(t: &Transaction<'_>, part: &Part) -> Result<()> {
    note_written_as(t, part.member(), part)
}

/// The same for a part on a disk that becomes this member.
pub fn note_written_as(t: &Transaction<'_>, member: DiskId, part: &Part) -> Result<()> {
    disks::set_parity_bytes(t, member, part.bytes())?;
    for (number, stat) in part.written_segments()? {
        parity_state::set_segment(t, member, number, &stat)?;
    }
    Ok(())
}

/// The replicas carry the pool file too: it says what the labels do not.
pub fn note_pool_file(t: &rusqlite::Transaction<'_>, pool: &Pool) -> Result<()> {
    let text = std::fs::read_to_string(&pool.file).map_err(|e| Error::io("pool-file.read", &pool.file, e))?;
    catalogue::set_pool_file_text(t, &text)
}
