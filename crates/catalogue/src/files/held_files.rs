//! Files that were removed or replaced, and stay out of sight until a sync has passed them.

use rusqlite::{Connection, OptionalExtension};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};

use crate::objects::path_of;
use crate::{corrupt, unsigned};
use sieve_disk::Result;

/// A file that was removed or replaced through us, until a sync has passed it.
#[derive(Clone, Debug)]
pub struct HeldRow {
    /// Where it lies now.
    pub path: RelPath,
    /// The name it had.
    pub original: RelPath,
    /// Since when, nanoseconds since 1970.
    pub since: i64,
    /// Another file has its name now.
    pub replaced: bool,
    /// Its owner had changed it before it was held: that its content is not the last one known is no damage.
    pub edited: bool,
}

/// Notes that a file is held.
///
/// # Errors
/// What the database says.
pub fn insert(c: &Connection, disk: DiskId, row: &HeldRow) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO held VALUES (?1, ?2, ?3, ?4, ?5, ?6)")?.execute((
        disk.get(),
        row.path.tree_key(),
        row.original.tree_key(),
        row.since,
        row.replaced,
        row.edited,
    ))?;
    Ok(())
}

/// What is held on a disk.
///
/// # Errors
/// What the database says, or an invalid path in it.
pub fn all(c: &Connection, disk: DiskId) -> Result<Vec<HeldRow>> {
    let mut statement = c.prepare_cached(
        "SELECT path, original, since, replaced, edited FROM held WHERE disk = ?1 ORDER BY path",
    )?;
    let mut rows = statement.query([disk.get()])?;
    let mut found = Vec::new();
    while let Some(row) = rows.next()? {
        let path = path_of(&row.get::<_, Vec<u8>>(0)?)?;
        // What is held is given up in the end: it must lie in our folder, whatever a catalogue says (L6).
        if path.parent() != Some(OurPlace::Held.path()) {
            return Err(corrupt(format!(
                "the catalogue has {path} as held, which is not where held files lie"
            )));
        }
        found.push(HeldRow {
            path,
            original: path_of(&row.get::<_, Vec<u8>>(1)?)?,
            since: row.get(2)?,
            replaced: row.get(3)?,
            edited: row.get(4)?,
        });
    }
    Ok(found)
}

/// What lies in our folder of a disk, as a scan found it, and is not known as held.
///
/// # Errors
/// What the database says, or an invalid path in it.
pub fn unknown(c: &Connection, disk: DiskId) -> Result<Vec<RelPath>> {
    let mut statement = c.prepare_cached(
        "SELECT path FROM name n WHERE disk = ?1 AND path > ?2 AND path < ?3
             AND NOT EXISTS (SELECT 1 FROM held h WHERE h.disk = n.disk AND h.path = n.path) ORDER BY path",
    )?;
    let folder = OurPlace::Held.path().tree_key();
    let (from, to) = ([&folder[..], b"\0"].concat(), [&folder[..], b"\x01"].concat());
    let rows = statement.query_map((disk.get(), from, to), |row| row.get::<_, Vec<u8>>(0))?;
    rows.map(|key| path_of(&key?)).collect()
}

/// Whether the file held there had been changed by its owner before.
///
/// # Errors
/// What the database says.
pub fn was_edited_before(c: &Connection, disk: DiskId, path: &RelPath) -> Result<bool> {
    let edited = c
        .prepare_cached("SELECT edited FROM held WHERE disk = ?1 AND path = ?2")?
        .query_row((disk.get(), path.tree_key()), |row| row.get(0))
        .optional()?;
    Ok(edited.unwrap_or(false))
}

/// Forgets that a file was held.
///
/// # Errors
/// What the database says.
pub fn remove(c: &Connection, disk: DiskId, path: &RelPath) -> Result<()> {
    c.prepare_cached("DELETE FROM held WHERE disk = ?1 AND path = ?2")?
        .execute((disk.get(), path.tree_key()))?;
    Ok(())
}

/// Bytes that are held on a disk.
///
/// # Errors
/// What the database says.
pub fn bytes(c: &Connection, disk: DiskId) -> Result<ByteLength> {
    let sum: i64 = c
        .prepare_cached(
            "SELECT COALESCE(SUM(size), 0) FROM object WHERE id IN (SELECT n.object FROM held h
             JOIN name n ON n.disk = h.disk AND n.path = h.path WHERE h.disk = ?1)",
        )?
        .query_row([disk.get()], |row| row.get(0))?;
    Ok(ByteLength::new(unsigned(sum)))
}
