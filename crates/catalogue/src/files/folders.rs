//! How folders looked when everything in them was as the catalogue has it.

use rusqlite::{Connection, OptionalExtension, Row, Statement};
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::{signed, unsigned};
use sieve_disk::Result;

/// A folder that needs no comparing while it looks so.
#[derive(Clone, Debug)]
pub struct FolderRow {
    /// Its path.
    pub path: RelPath,
    /// A checksum of the names, inodes, lengths and times in it, and of its own.
    pub looks: [u8; 16],
    /// How many files are in it.
    pub files: u64,
}

/// Something that the catalogue has in a folder.
pub enum InFolder<T> {
    /// Directly in it.
    Entry(T),
    /// Below a folder of this name.
    Below,
}

/// What is known of a folder.
///
/// # Errors
/// What the database says.
pub fn get(c: &Connection, disk: DiskId, path: &RelPath) -> Result<Option<FolderRow>> {
    let mut statement = c.prepare_cached("SELECT looks, files FROM folder WHERE disk = ?1 AND path = ?2")?;
    let row = statement.query_row((disk.get(), path.tree_key()), |row| {
        Ok(FolderRow { path: path.clone(), looks: row.get(0)?, files: unsigned(row.get(1)?) })
    });
    Ok(row.optional()?)
}

/// Keeps how folders look.
///
/// # Errors
/// What the database says.
pub fn keep(c: &Connection, disk: DiskId, rows: &[FolderRow]) -> Result<()> {
    let mut statement = c.prepare_cached("INSERT OR REPLACE INTO folder VALUES (?1, ?2, ?3, ?4)")?;
    for row in rows {
        statement.execute((disk.get(), row.path.tree_key(), row.looks, signed(row.files)))?;
    }
    Ok(())
}

/// Forgets how a folder looked.
///
/// # Errors
/// What the database says.
pub fn forget(c: &Connection, disk: DiskId, path: &RelPath) -> Result<()> {
    c.prepare_cached("DELETE FROM folder WHERE disk = ?1 AND path = ?2")?
        .execute((disk.get(), path.tree_key()))?;
    Ok(())
}

/// Forgets how all folders of a disk looked.
///
/// # Errors
/// What the database says.
pub fn forget_all(c: &Connection, disk: DiskId) -> Result<()> {
    c.prepare_cached("DELETE FROM folder WHERE disk = ?1")?.execute([disk.get()])?;
    Ok(())
}

/// Calls `visit` with what a query finds in a folder: the name and the row of what is directly in it, and once the name
/// of each folder in it that has something below it.
///
/// The query has the parameters disk, first tree key, and end of the tree keys, gives the tree key as its first column,
/// and is in its order.
///
/// # Errors
/// Those of `visit`, and of the database.
pub(super) fn for_each_in(
    statement: &mut Statement<'_>,
    disk: DiskId,
    folder: &RelPath,
    mut visit: impl FnMut(&[u8], InFolder<&Row<'_>>) -> Result<()>,
) -> Result<()> {
    let (mut from, to) = below(folder);
    let start = from.len();
    loop {
        let mut rows = statement.query((disk.get(), &from, &to))?;
        let mut passed = None;
        while let Some(row) = rows.next()? {
            let name = row.get_ref(0)?.as_blob().unwrap_or_default().get(start..).unwrap_or_default();
            match name.iter().position(|byte| *byte == 0) {
                None => visit(name, InFolder::Entry(row))?,
                Some(end) => {
                    visit(&name[..end], InFolder::Below)?;
                    passed = Some(name[..end].to_vec());
                    break;
                }
            }
        }
        let Some(name) = passed else { return Ok(()) };
        // All of that folder is passed over.
        from.truncate(start);
        from.extend_from_slice(&name);
        from.push(1);
    }
}

/// The tree keys of everything below a folder: from the first one to the end.
pub(super) fn below(folder: &RelPath) -> (Vec<u8>, Vec<u8>) {
    if folder.is_root() {
        // No name is so long.
        return (Vec::new(), vec![0xFF; 4096]);
    }
    let key = folder.tree_key();
    let (mut from, mut to) = (key.clone(), key);
    from.push(0);
    to.push(1);
    (from, to)
}

/// The tree keys of a path and of everything below it: from the first one to the end.
pub(super) fn at(path: &RelPath) -> (Vec<u8>, Vec<u8>) {
    if path.is_root() {
        return below(path);
    }
    (path.tree_key(), below(path).1)
}
