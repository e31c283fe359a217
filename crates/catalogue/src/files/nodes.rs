//! What lies on a disk besides files: folders, symlinks, special files.

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::folders::{self, InFolder};
use crate::objects::{path_of, read_attributes};
use sieve_disk::Result;
use sieve_disk::{Attributes, EntryKind};

/// A folder, symlink or special file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NodeRow {
    /// What it is.
    pub kind: EntryKind,
    /// Its attributes.
    pub attributes: Attributes,
    /// Its change time.
    pub ctime: i64,
    /// Where a symlink points.
    pub target: Option<Vec<u8>>,
    /// The checkpoint from which on replicas of the catalogue know it as it is; 0 while none does.
    pub recorded: u32,
}

const fn kind_code(kind: EntryKind) -> i64 {
    match kind {
        EntryKind::File => 0,
        EntryKind::Folder => 1,
        EntryKind::Symlink => 2,
        EntryKind::Special => 3,
    }
}

const fn kind_of(code: i64) -> EntryKind {
    match code {
        1 => EntryKind::Folder,
        2 => EntryKind::Symlink,
        _ => EntryKind::Special,
    }
}

/// Calls `visit` with each folder, symlink and special file of a disk in tree order.
///
/// # Errors
/// Those of `visit`; a path in the catalogue that leads out of the disk.
pub fn for_each(
    c: &Connection,
    disk: DiskId,
    visit: impl FnMut(RelPath, NodeRow) -> Result<()>,
) -> Result<()> {
    for_each_at(c, disk, &RelPath::ROOT, visit)
}

/// As [`for_each`], with what is at a path or below it.
///
/// # Errors
/// Those of `visit`; a path in the catalogue that leads out of the disk.
pub fn for_each_at(
    c: &Connection,
    disk: DiskId,
    path: &RelPath,
    mut visit: impl FnMut(RelPath, NodeRow) -> Result<()>,
) -> Result<()> {
    let (from, to) = folders::at(path);
    let mut statement = c.prepare_cached(
        "SELECT path, mode, uid, gid, mtime, extended, kind, ctime, target, recorded
         FROM node WHERE disk = ?1 AND path >= ?2 AND path < ?3 ORDER BY path",
    )?;
    let mut rows = statement.query((disk.get(), from, to))?;
    while let Some(row) = rows.next()? {
        visit(path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?, read(row)?)?;
    }
    Ok(())
}

/// Calls `visit` with each folder, symlink and special file in a folder, in the order of their names, and once with the name
/// of each folder in it that has some below it.
///
/// # Errors
/// Those of `visit`, and of the database.
pub fn for_each_in_folder(
    c: &Connection,
    disk: DiskId,
    folder: &RelPath,
    mut visit: impl FnMut(&[u8], InFolder<&NodeRow>) -> Result<()>,
) -> Result<()> {
    let mut statement = c.prepare_cached(
        "SELECT path, mode, uid, gid, mtime, extended, kind, ctime, target, recorded
         FROM node WHERE disk = ?1 AND path >= ?2 AND path < ?3 ORDER BY path",
    )?;
    folders::for_each_in(&mut statement, disk, folder, |name, found| match found {
        InFolder::Entry(row) => visit(name, InFolder::Entry(&read(row)?)),
        InFolder::Below => visit(name, InFolder::Below),
    })
}

/// Calls `visit` with the path of each folder, symlink and special file below a folder.
///
/// # Errors
/// Those of `visit`; a path in the catalogue that leads out of the disk.
pub fn for_each_below(
    c: &Connection,
    disk: DiskId,
    folder: &RelPath,
    mut visit: impl FnMut(RelPath) -> Result<()>,
) -> Result<()> {
    let (from, to) = folders::below(folder);
    let mut statement =
        c.prepare_cached("SELECT path FROM node WHERE disk = ?1 AND path >= ?2 AND path < ?3")?;
    let mut rows = statement.query((disk.get(), from, to))?;
    while let Some(row) = rows.next()? {
        visit(path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?)?;
    }
    Ok(())
}

fn read(row: &Row<'_>) -> rusqlite::Result<NodeRow> {
    Ok(NodeRow {
        kind: kind_of(row.get(6)?),
        attributes: read_attributes(row, 1)?,
        ctime: row.get(7)?,
        target: row.get(8)?,
        recorded: row.get(9)?,
    })
}

/// The folder, symlink or special file of that name.
///
/// # Errors
/// What the database says.
pub fn get(c: &Connection, disk: DiskId, path: &RelPath) -> Result<Option<NodeRow>> {
    Ok(c.prepare_cached(
        "SELECT path, mode, uid, gid, mtime, extended, kind, ctime, target, recorded
         FROM node WHERE disk = ?1 AND path = ?2",
    )?
    .query_row((disk.get(), path.tree_key()), read)
    .optional()?)
}

/// Sets what is known of a folder, symlink or special file.
///
/// # Errors
/// What the database says.
pub fn set(c: &Connection, disk: DiskId, path: &RelPath, node: &NodeRow) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO node VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)")?
        .execute((
            disk.get(),
            path.tree_key(),
            kind_code(node.kind),
            node.attributes.mode,
            node.attributes.uid,
            node.attributes.gid,
            node.attributes.mtime,
            node.ctime,
            &node.target,
            node.attributes.pack_extended(),
            node.recorded,
        ))?;
    Ok(())
}

/// Forgets a folder, symlink or special file.
///
/// # Errors
/// What the database says.
pub fn remove(c: &Connection, disk: DiskId, path: &RelPath) -> Result<()> {
    c.prepare_cached("DELETE FROM node WHERE disk = ?1 AND path = ?2")?
        .execute((disk.get(), path.tree_key()))?;
    Ok(())
}
