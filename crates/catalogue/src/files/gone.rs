//! Names that vanished behind our back: their content can be had back from parity until a sync has passed it.

use rusqlite::Connection;
use sieve_core::path::RelPath;
use sieve_core::units::{DiskId, VersionId};

use crate::objects::path_of;
use sieve_disk::Result;

/// A name that is gone.
#[derive(Clone, Debug)]
pub struct GoneRow {
    /// The name.
    pub path: RelPath,
    /// The content that the file had last.
    pub version: Option<VersionId>,
    /// What it had at the last sync, where that is another one.
    pub older: Option<VersionId>,
    /// When that was noticed, nanoseconds since 1970.
    pub since: i64,
}

/// Notes a name that is gone.
///
/// # Errors
/// What the database says.
pub fn insert(c: &Connection, disk: DiskId, row: &GoneRow) -> Result<()> {
    let (version, older) = (row.version.map(VersionId::get), row.older.map(VersionId::get));
    c.prepare_cached("INSERT OR REPLACE INTO gone VALUES (?1, ?2, ?3, ?4, ?5)")?.execute((
        disk.get(),
        row.path.tree_key(),
        version,
        older,
        row.since,
    ))?;
    Ok(())
}

/// The names that are gone from a disk.
///
/// # Errors
/// What the database says, or an invalid path in it.
pub fn all(c: &Connection, disk: DiskId) -> Result<Vec<GoneRow>> {
    let mut statement =
        c.prepare_cached("SELECT path, version, older, since FROM gone WHERE disk = ?1 ORDER BY path")?;
    let mut rows = statement.query([disk.get()])?;
    let mut found = Vec::new();
    while let Some(row) = rows.next()? {
        let content = |index: usize| row.get::<_, Option<i64>>(index).map(|id| id.map(VersionId::new));
        found.push(GoneRow {
            path: path_of(&row.get::<_, Vec<u8>>(0)?)?,
            version: content(1)?,
            older: content(2)?,
            since: row.get(3)?,
        });
    }
    Ok(found)
}

/// Forgets that a name is gone: it was brought back.
///
/// # Errors
/// What the database says.
pub fn remove(c: &Connection, disk: DiskId, path: &RelPath) -> Result<()> {
    c.prepare_cached("DELETE FROM gone WHERE disk = ?1 AND path = ?2")?
        .execute((disk.get(), path.tree_key()))?;
    Ok(())
}

/// Forgets names whose contents parity does not encode any more, and of which there is no other copy.
///
/// # Errors
/// What the database says.
pub fn forget_passed(c: &Connection) -> Result<()> {
    c.execute_batch(
        "DELETE FROM gone WHERE (version IS NULL OR version NOT IN (SELECT version FROM lane))
             AND (older IS NULL OR older NOT IN (SELECT version FROM lane))
             AND NOT EXISTS (SELECT 1 FROM name n JOIN disk d ON d.id = n.disk JOIN disk own ON own.id = gone.disk
                 WHERE d.volume = own.volume AND d.id <> own.id AND n.path = gone.path);",
    )?;
    Ok(())
}
