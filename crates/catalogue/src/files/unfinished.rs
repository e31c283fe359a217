//! Contents whose file was read in part when a checkpoint was taken: what is needed to go on from there.

use std::collections::HashMap;

use rusqlite::Connection;
use sieve_core::checksum::{ContentSum, Subtree};
use sieve_core::lane::Rows;
use sieve_core::units::{ByteLength, DiskId, VersionId};

use crate::versions;
use sieve_disk::Attributes;
use sieve_disk::Result;

/// Adds a content that is read in part: the checksums of its first cells are known.
///
/// # Errors
/// What the database says.
pub fn insert(
    c: &Connection,
    disk: DiskId,
    size: ByteLength,
    data: &[Rows],
    attributes: &Attributes,
    subtrees: &[Subtree],
) -> Result<VersionId> {
    let version = versions::insert(c, disk, &sum_so_far(size, subtrees), data, attributes)?;
    set(c, version, subtrees)?;
    Ok(version)
}

/// Notes how far a content has been read.
///
/// # Errors
/// What the database says.
pub fn advance(c: &Connection, version: VersionId, size: ByteLength, subtrees: &[Subtree]) -> Result<()> {
    versions::set_sum(c, version, &sum_so_far(size, subtrees))?;
    set(c, version, subtrees)
}

/// A content was read to its end.
///
/// # Errors
/// What the database says.
pub fn finish(c: &Connection, version: VersionId, sum: &ContentSum) -> Result<()> {
    versions::set_sum(c, version, sum)?;
    c.prepare_cached("DELETE FROM unfinished WHERE version = ?1")?.execute([version.get()])?;
    Ok(())
}

/// Reads what the table keeps of the cells that were read; what is cut short is left out.
fn unpack(packed: &[u8]) -> Vec<Subtree> {
    packed.as_chunks::<32>().0.iter().map(|bytes| Subtree(*bytes)).collect()
}

fn set(c: &Connection, version: VersionId, subtrees: &[Subtree]) -> Result<()> {
    let packed: Vec<u8> = subtrees.iter().flat_map(|subtree| subtree.0).collect();
    c.prepare_cached("INSERT OR REPLACE INTO unfinished VALUES (?1, ?2)")?
        .execute((version.get(), packed))?;
    Ok(())
}

/// What is known of the checksums: those of later cells are zero, which no cell has.
fn sum_so_far(size: ByteLength, subtrees: &[Subtree]) -> ContentSum {
    let count = size.exact().div_ceil(sieve_core::checksum::cell_size(size));
    let mut cells: Vec<_> = subtrees.iter().map(Subtree::sum).collect();
    cells.resize(usize::try_from(count).unwrap_or(0), sieve_core::checksum::CellSum([0; 16]));
    ContentSum { size, whole: [0; 32], cells }
}

/// All contents that are read in part, with the checksums of their first cells: there are few.
///
/// # Errors
/// What the database says.
pub fn all(c: &Connection) -> Result<HashMap<VersionId, Vec<Subtree>>> {
    let mut statement = c.prepare_cached("SELECT version, subtrees FROM unfinished")?;
    let rows = statement
        .query_map([], |row| Ok((VersionId::new(row.get(0)?), unpack(&row.get::<_, Vec<u8>>(1)?))))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}
