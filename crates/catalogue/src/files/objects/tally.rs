//! What the objects of a disk come to: how many, how large, how old, whose.

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::count::Count;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};

use super::path_of;
use crate::unsigned;
use sieve_disk::Result;

/// The paths and sizes of the largest files of a disk.
///
/// # Errors
/// What the database says; a path in the catalogue that leads out of the disk.
pub fn largest(c: &Connection, disk: DiskId, most: u32) -> Result<Vec<(RelPath, ByteLength)>> {
    let mut statement = c.prepare_cached(
        "SELECT n.path, o.size FROM object o JOIN name n ON n.object = o.id
         WHERE o.disk = ?1 GROUP BY o.id ORDER BY o.size DESC LIMIT ?2",
    )?;
    let mut rows = statement.query((disk.get(), most))?;
    let mut found = Vec::new();
    while let Some(row) = rows.next()? {
        found.push((
            path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?,
            ByteLength::new(unsigned(row.get(1)?)),
        ));
    }
    Ok(found)
}

/// What the files of each owner take on a disk.
///
/// # Errors
/// What the database says.
pub fn by_owner(c: &Connection, disk: DiskId) -> Result<Vec<(u32, Count)>> {
    let sql = "SELECT uid, COUNT(*), SUM(size) FROM object WHERE disk = ?1 GROUP BY uid";
    let mut statement = c.prepare_cached(sql)?;
    let rows = statement.query_map([disk.get()], |row| Ok((row.get(0)?, count_at(row)?)))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// What files take on a disk that were changed so many days ago or more, by the days in `from` (ascending); one of the future is new.
///
/// # Errors
/// What the database says.
pub fn by_age(c: &Connection, disk: DiskId, now: i64, from: &[i64]) -> Result<Vec<(i64, Count)>> {
    const DAY: i64 = 86_400_000_000_000;
    let sql = "SELECT COUNT(*), COUNT(*), COALESCE(SUM(size), 0) FROM object WHERE disk = ?1 AND mtime <= ?2 AND mtime > ?3";
    let mut found = Vec::new();
    for (position, days) in from.iter().enumerate() {
        let newest = if position == 0 { i64::MAX } else { now.saturating_sub(days.saturating_mul(DAY)) };
        let oldest =
            from.get(position + 1).map_or(i64::MIN, |next| now.saturating_sub(next.saturating_mul(DAY)));
        let count = c.prepare_cached(sql)?.query_row((disk.get(), newest, oldest), count_at)?;
        if count.files > 0 {
            found.push((*days, count));
        }
    }
    Ok(found)
}

fn count_at(row: &Row<'_>) -> rusqlite::Result<Count> {
    Ok(Count { files: unsigned(row.get(1)?), bytes: ByteLength::new(unsigned(row.get(2)?)) })
}

/// How many files the catalogue has of a disk, and the bytes that they take on it: what counts against a limited capacity.
///
/// # Errors
/// What the database says.
pub fn taken(c: &Connection, disk: DiskId) -> Result<Count> {
    let sql = "SELECT objects, bytes FROM taken WHERE disk = ?1";
    let taken = c.prepare_cached(sql)?.query_row([disk.get()], |row| {
        Ok(Count { files: unsigned(row.get(0)?), bytes: ByteLength::new(unsigned(row.get(1)?)) })
    });
    Ok(taken.optional()?.unwrap_or_default())
}

/// When the oldest object of a disk that no sync has as it is came or changed, nanoseconds since 1970.
///
/// # Errors
/// What the database says.
pub fn oldest_unsynced(c: &Connection, disk: DiskId) -> Result<Option<i64>> {
    let sql = "SELECT MIN(ctime) FROM object
               WHERE disk = ?1 AND left_out = 0 AND (standing <> 0 OR version IS NULL OR older IS NOT NULL)";
    Ok(c.prepare_cached(sql)?.query_row([disk.get()], |row| row.get(0))?)
}

/// When the oldest object of a disk came or changed, nanoseconds since 1970.
///
/// # Errors
/// What the database says.
pub fn oldest(c: &Connection, disk: DiskId) -> Result<Option<i64>> {
    let sql = "SELECT MIN(ctime) FROM object WHERE disk = ?1 AND left_out = 0";
    Ok(c.prepare_cached(sql)?.query_row([disk.get()], |row| row.get(0))?)
}
