//! Which disks are at rest: nothing happened on them since their lane was found to be what it is to be.

use rusqlite::{Connection, OptionalExtension};
use sieve_core::units::DiskId;
use sieve_disk::Result;

/// How often something happened on a disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stirred(i64);

/// How often something happened on a disk so far; nothing where it is at rest.
///
/// # Errors
/// What the database says.
pub fn stirred(c: &Connection, disk: DiskId) -> Result<Option<Stirred>> {
    let sql = "SELECT count, at_rest FROM stirred WHERE disk = ?1";
    let found: Option<(i64, i64)> =
        c.prepare_cached(sql)?.query_row([disk.get()], |row| Ok((row.get(0)?, row.get(1)?))).optional()?;
    Ok(match found {
        Some((count, at_rest)) if count == at_rest => None,
        Some((count, _)) => Some(Stirred(count)),
        None => Some(Stirred(0)),
    })
}

/// Notes that a disk was at rest when so much had happened; what happened since counts.
///
/// # Errors
/// What the database says.
pub fn note(c: &Connection, disk: DiskId, when: Stirred) -> Result<()> {
    c.prepare_cached("UPDATE stirred SET at_rest = ?2 WHERE disk = ?1")?.execute((disk.get(), when.0))?;
    Ok(())
}
