//! The pieces of files that lie on several disks, as they say themselves.

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};
use uuid::Uuid;

use crate::objects::path_of;
use crate::piece_note::PieceNote;
use crate::{signed, unsigned};
use sieve_disk::Result;

/// A piece and where it lies.
#[derive(Clone, Debug)]
pub struct PieceRow {
    /// Its disk.
    pub disk: DiskId,
    /// Where it lies there.
    pub path: RelPath,
    /// What it says.
    pub note: PieceNote,
}

const COLUMNS: &str =
    "p.disk, p.path, p.file, p.number, p.count, p.offset, p.length, p.size, p.whole, p.original";

fn read(row: &Row<'_>) -> Result<PieceRow> {
    let path = |index: usize| path_of(&row.get::<_, Vec<u8>>(index)?);
    let bytes = |index: usize| -> Result<ByteLength> { Ok(ByteLength::new(unsigned(row.get(index)?))) };
    Ok(PieceRow {
        disk: DiskId::new(row.get(0)?),
        path: path(1)?,
        note: PieceNote {
            file: Uuid::from_bytes(row.get(2)?),
            number: row.get(3)?,
            count: row.get(4)?,
            offset: bytes(5)?,
            length: bytes(6)?,
            size: bytes(7)?,
            whole: row.get(8)?,
            path: path(9)?,
        },
    })
}

/// All pieces of a volume, those of one file together, in order.
///
/// # Errors
/// What the database says.
pub fn all(c: &Connection, volume: &str) -> Result<Vec<PieceRow>> {
    let sql = format!(
        "SELECT {COLUMNS} FROM piece p JOIN disk d ON d.id = p.disk WHERE d.volume = ?1 ORDER BY p.file, p.number, p.disk"
    );
    let mut statement = c.prepare_cached(&sql)?;
    let mut rows = statement.query([volume])?;
    let mut found = Vec::new();
    while let Some(row) = rows.next()? {
        found.push(read(row)?);
    }
    Ok(found)
}

/// Names on a disk in our folder of pieces of which no piece is known.
///
/// # Errors
/// What the database says.
pub fn unknown(c: &Connection, disk: DiskId) -> Result<Vec<RelPath>> {
    let mut statement = c.prepare_cached(
        "SELECT n.path FROM name n WHERE n.disk = ?1 AND n.path >= ?2 AND n.path < ?3
             AND NOT EXISTS (SELECT 1 FROM piece p WHERE p.disk = n.disk AND p.path = n.path)",
    )?;
    let mut first = OurPlace::Pieces.path().tree_key();
    first.push(0);
    let mut end = first.clone();
    *end.last_mut().expect("it has a last byte") = 1;
    let mut rows = statement.query((disk.get(), first, end))?;
    let mut found = Vec::new();
    while let Some(row) = rows.next()? {
        found.push(path_of(&row.get::<_, Vec<u8>>(0)?)?);
    }
    Ok(found)
}

/// Notes a piece.
///
/// # Errors
/// What the database says.
pub fn insert(c: &Connection, row: &PieceRow) -> Result<()> {
    let PieceNote { file, number, count, offset, length, size, whole, path } = &row.note;
    c.prepare_cached("INSERT OR REPLACE INTO piece VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)")?
        .execute((
            row.disk.get(),
            row.path.tree_key(),
            file.as_bytes(),
            number,
            count,
            signed(offset.exact()),
            signed(length.exact()),
            signed(size.exact()),
            whole,
            path.tree_key(),
        ))?;
    Ok(())
}

/// What lies under the same name on another disk is the same piece, if it is one.
///
/// # Errors
/// What the database says.
pub fn follow(c: &Connection, from: DiskId, to: DiskId, path: &RelPath) -> Result<()> {
    if path.is_piece() {
        c.prepare_cached(
            "INSERT OR REPLACE INTO piece
                 SELECT ?2, path, file, number, count, offset, length, size, whole, original FROM piece
                 WHERE disk = ?1 AND path = ?3",
        )?
        .execute((from.get(), to.get(), path.tree_key()))?;
    }
    Ok(())
}

const GONE: &str =
    "disk = ?1 AND NOT EXISTS (SELECT 1 FROM name n WHERE n.disk = piece.disk AND n.path = piece.path)";

/// Whether there are pieces of a disk to forget.
///
/// # Errors
/// What the database says.
pub fn has_gone(c: &Connection, disk: DiskId) -> Result<bool> {
    let sql = format!("SELECT EXISTS (SELECT 1 FROM piece WHERE {GONE})");
    Ok(c.prepare_cached(&sql)?.query_row([disk.get()], |row| row.get(0))?)
}

/// The file that a piece, given by its tree key, belongs to.
///
/// # Errors
/// What the database says, or an invalid path in it.
pub fn file_of(c: &Connection, disk: DiskId, piece: &[u8]) -> Result<Option<RelPath>> {
    let mut statement = c.prepare_cached("SELECT original FROM piece WHERE disk = ?1 AND path = ?2")?;
    let key: Option<Vec<u8>> = statement.query_row((disk.get(), piece), |row| row.get(0)).optional()?;
    key.map(|key| path_of(&key)).transpose()
}

/// Forgets pieces of a disk whose files are not there any more under their names.
///
/// # Errors
/// What the database says.
pub fn forget_gone(c: &Connection, disk: DiskId) -> Result<()> {
    c.prepare_cached(&format!("DELETE FROM piece WHERE {GONE}"))?.execute([disk.get()])?;
    Ok(())
}
