//! Objects (files as they lie on a disk) and their names.

mod tally;

use std::collections::HashSet;

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId, VersionId};

use crate::folders::{self, InFolder};
use crate::{corrupt, signed, unsigned};
use sieve_disk::Result;
use sieve_disk::{Attributes, Stamp, Stat};

pub use tally::*;

/// A file as it lies on one disk.
#[derive(Clone, Debug)]
pub struct ObjectRow {
    /// Its number.
    pub id: ObjectId,
    /// Its disk.
    pub disk: DiskId,
    /// Its inode.
    pub inode: u64,
    /// Its length.
    pub size: ByteLength,
    /// Its modification time.
    pub mtime: i64,
    /// Its change time.
    pub ctime: i64,
    /// The content last checksummed.
    pub version: Option<VersionId>,
    /// Whether that is still its content.
    pub standing: Standing,
    /// The content of the last sync, where it is another one.
    pub older: Option<VersionId>,
    /// Its owner does not want it guarded.
    pub left_out: bool,
}

impl ObjectRow {
    /// Whether a stat shows the object exactly as it was last seen.
    pub fn matches(&self, stat: &Stat) -> bool {
        self.stamp().is_of(stat)
    }

    /// How it was last seen.
    pub const fn stamp(&self) -> Stamp {
        Stamp { inode: self.inode, size: self.size, mtime: self.mtime, ctime: self.ctime }
    }

    /// Whether a file's own numbers are those recorded, the change time left out.
    pub fn matches_but_for_ctime(&self, stat: &Stat) -> bool {
        (self.inode, self.size, self.mtime) == (stat.inode, stat.size, stat.mtime)
    }
}

const COLUMNS: &str =
    "o.id, o.disk, o.inode, o.size, o.mtime, o.ctime, o.version, o.standing, o.older, o.left_out";

/// How a standing is kept in the database.
pub(crate) const fn standing_code(standing: Standing) -> i64 {
    match standing {
        Standing::Same => 0,
        Standing::Doubtful => 1,
        Standing::Touched => 2,
        Standing::Changed => 3,
        Standing::Suspect => 4,
    }
}

/// An unknown code is a doubt, never trust.
pub const fn standing_of(code: i64) -> Standing {
    match code {
        0 => Standing::Same,
        1 => Standing::Doubtful,
        2 => Standing::Touched,
        3 => Standing::Changed,
        _ => Standing::Suspect,
    }
}

fn read(row: &Row<'_>, at: usize) -> rusqlite::Result<ObjectRow> {
    Ok(ObjectRow {
        id: ObjectId::new(row.get(at)?),
        disk: DiskId::new(row.get(at + 1)?),
        inode: row.get::<_, i64>(at + 2)?.cast_unsigned(),
        size: ByteLength::new(unsigned(row.get(at + 3)?)),
        mtime: row.get(at + 4)?,
        ctime: row.get(at + 5)?,
        version: row.get::<_, Option<i64>>(at + 6)?.map(VersionId::new),
        standing: standing_of(row.get(at + 7)?),
        older: row.get::<_, Option<i64>>(at + 8)?.map(VersionId::new),
        left_out: row.get(at + 9)?,
    })
}

/// Calls `visit` with each named object of a disk in tree order. An object with several names comes once
/// for each.
///
/// # Errors
/// Those of `visit`; a path in the catalogue that leads out of the disk.
pub fn for_each_name(
    c: &Connection,
    disk: DiskId,
    visit: impl FnMut(RelPath, ObjectRow) -> Result<()>,
) -> Result<()> {
    for_each_name_at(c, disk, &RelPath::ROOT, visit)
}

/// Visits the names of a disk in their order, with the objects that they name, their lengths and nothing else.
///
/// # Errors
/// What the database says, and those of `visit`.
pub fn for_each_path(
    c: &Connection,
    disk: DiskId,
    mut visit: impl FnMut(RelPath, ObjectId, ByteLength) -> Result<()>,
) -> Result<()> {
    let mut statement = c.prepare_cached(
        "SELECT n.path, o.id, o.size FROM name n JOIN object o ON o.id = n.object WHERE n.disk = ?1 ORDER BY n.path",
    )?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        let path = path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?;
        visit(path, ObjectId::new(row.get(1)?), ByteLength::new(unsigned(row.get(2)?)))?;
    }
    Ok(())
}

/// As [`for_each_name`], with what is at a path or below it.
///
/// # Errors
/// Those of `visit`; a path in the catalogue that leads out of the disk.
pub fn for_each_name_at(
    c: &Connection,
    disk: DiskId,
    path: &RelPath,
    visit: impl FnMut(RelPath, ObjectRow) -> Result<()>,
) -> Result<()> {
    for_each_name_between(c, disk, folders::at(path), visit)
}

/// As [`for_each_name`], with what is below a folder.
///
/// # Errors
/// Those of `visit`; a path in the catalogue that leads out of the disk.
pub fn for_each_name_below(
    c: &Connection,
    disk: DiskId,
    folder: &RelPath,
    visit: impl FnMut(RelPath, ObjectRow) -> Result<()>,
) -> Result<()> {
    for_each_name_between(c, disk, folders::below(folder), visit)
}

/// What lies in a folder of a disk, not below it: names, and whether each is a folder; at most so many.
///
/// However much is below the folders, one row of each is looked at.
///
/// # Errors
/// A path in the catalogue that leads out of the disk, or what the database says.
pub fn children(c: &Connection, disk: DiskId, folder: &RelPath, most: usize) -> Result<Vec<(RelPath, bool)>> {
    let mut statement = c.prepare_cached(
        "SELECT path FROM name WHERE disk = ?1 AND path >= ?2 AND path < ?3 ORDER BY path LIMIT 1",
    )?;
    let (mut from, to) = folders::below(folder);
    let mut found = Vec::new();
    while found.len() < most {
        let key: Option<Vec<u8>> =
            statement.query_row((disk.get(), &from, &to), |row| row.get(0)).optional()?;
        let Some(mut key) = key else { break };
        let mut child = path_of(&key)?;
        let mut is_folder = false;
        while let Some(parent) = child.parent().filter(|parent| parent != folder) {
            (child, is_folder) = (parent, true);
        }
        if is_folder {
            from = folders::below(&child).1;
        } else {
            key.push(0);
            from = key;
        }
        found.push((child, is_folder));
    }
    Ok(found)
}

fn for_each_name_between(
    c: &Connection,
    disk: DiskId,
    (from, to): (Vec<u8>, Vec<u8>),
    mut visit: impl FnMut(RelPath, ObjectRow) -> Result<()>,
) -> Result<()> {
    let sql = format!(
        "SELECT n.path, {COLUMNS} FROM name n JOIN object o ON o.id = n.object
         WHERE n.disk = ?1 AND n.path >= ?2 AND n.path < ?3 ORDER BY n.path"
    );
    let mut statement = c.prepare_cached(&sql)?;
    let mut rows = statement.query((disk.get(), from, to))?;
    while let Some(row) = rows.next()? {
        visit(path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?, read(row, 1)?)?;
    }
    Ok(())
}

/// How many names there are at a path of a disk and below it.
///
/// # Errors
/// What the database says.
pub fn names_at(c: &Connection, disk: DiskId, path: &RelPath) -> Result<u64> {
    let (from, to) = folders::at(path);
    let sql = "SELECT COUNT(*) FROM name WHERE disk = ?1 AND path >= ?2 AND path < ?3";
    Ok(unsigned(c.prepare_cached(sql)?.query_row((disk.get(), from, to), |row| row.get(0))?))
}

/// Whether an object of a disk has one of these inodes.
///
/// # Errors
/// What the database says.
pub fn has_inode(c: &Connection, disk: DiskId, inodes: &HashSet<u64>) -> Result<bool> {
    let mut statement = c.prepare_cached("SELECT inode FROM object WHERE disk = ?1")?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        if inodes.contains(&row.get::<_, i64>(0)?.cast_unsigned()) {
            return Ok(true);
        }
    }
    Ok(false)
}

/// What tells whether a named file is as it was.
#[derive(Clone, Copy, Debug)]
pub struct Known {
    /// The object.
    pub object: ObjectId,
    /// How it was last seen.
    pub stamp: Stamp,
    /// Its owner does not want it guarded.
    pub left_out: bool,
}

/// Calls `visit` with each name in a folder, in their order, and once with each folder in it that has names below it.
///
/// # Errors
/// Those of `visit`, and of the database.
pub fn for_each_known_in(
    c: &Connection,
    disk: DiskId,
    folder: &RelPath,
    mut visit: impl FnMut(&[u8], InFolder<Known>) -> Result<()>,
) -> Result<()> {
    let mut statement = c.prepare_cached(
        "SELECT n.path, o.id, o.inode, o.size, o.mtime, o.ctime, o.left_out
         FROM name n JOIN object o ON o.id = n.object
         WHERE n.disk = ?1 AND n.path >= ?2 AND n.path < ?3 ORDER BY n.path",
    )?;
    folders::for_each_in(&mut statement, disk, folder, |name, found| match found {
        InFolder::Entry(row) => visit(name, InFolder::Entry(read_known(row)?)),
        InFolder::Below => visit(name, InFolder::Below),
    })
}

fn read_known(row: &Row<'_>) -> rusqlite::Result<Known> {
    Ok(Known {
        object: ObjectId::new(row.get(1)?),
        stamp: Stamp {
            inode: row.get::<_, i64>(2)?.cast_unsigned(),
            size: ByteLength::new(unsigned(row.get(3)?)),
            mtime: row.get(4)?,
            ctime: row.get(5)?,
        },
        left_out: row.get(6)?,
    })
}

/// Calls `visit` with each object of a disk, in the order of their numbers.
///
/// # Errors
/// What the database says.
pub fn for_each(c: &Connection, disk: DiskId, mut visit: impl FnMut(ObjectRow)) -> Result<()> {
    let sql = format!("SELECT {COLUMNS} FROM object o WHERE o.disk = ?1 ORDER BY o.id");
    let mut statement = c.prepare_cached(&sql)?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        visit(read(row, 0)?);
    }
    Ok(())
}

/// Reads a path out of the catalogue.
pub fn path_of(key: &[u8]) -> Result<RelPath> {
    RelPath::from_tree_key(key)
        .ok()
        .filter(|p| !p.is_root())
        .ok_or_else(|| corrupt(format!("a path in the catalogue is not valid: {}", key.escape_ascii())))
}

/// The object of that number.
///
/// # Errors
/// What the database says.
pub fn get(c: &Connection, id: ObjectId) -> Result<Option<ObjectRow>> {
    let sql = format!("SELECT {COLUMNS} FROM object o WHERE o.id = ?1");
    Ok(c.prepare_cached(&sql)?.query_row([id.get()], |row| read(row, 0)).optional()?)
}

/// The object with that name on a disk.
///
/// # Errors
/// What the database says.
pub fn by_path(c: &Connection, disk: DiskId, path: &RelPath) -> Result<Option<ObjectRow>> {
    let sql = format!(
        "SELECT {COLUMNS} FROM name n JOIN object o ON o.id = n.object WHERE n.disk = ?1 AND n.path = ?2"
    );
    Ok(c.prepare_cached(&sql)?.query_row((disk.get(), path.tree_key()), |row| read(row, 0)).optional()?)
}

/// The object of an inode of which a content is known.
///
/// # Errors
/// What the database says.
pub fn known_by_inode(c: &Connection, disk: DiskId, inode: u64) -> Result<Option<ObjectRow>> {
    let sql = format!(
        "SELECT {COLUMNS} FROM object o WHERE o.disk = ?1 AND o.inode = ?2 AND o.version IS NOT NULL LIMIT 1"
    );
    Ok(c.prepare_cached(&sql)?.query_row((disk.get(), inode.cast_signed()), |row| read(row, 0)).optional()?)
}

/// The objects that have a content as their present one or had it at the last sync.
///
/// # Errors
/// What the database says.
pub fn by_version(c: &Connection, disk: DiskId, version: VersionId) -> Result<Option<ObjectRow>> {
    let sql =
        format!("SELECT {COLUMNS} FROM object o WHERE o.disk = ?1 AND o.version = ?2 AND o.standing = 0");
    Ok(c.prepare_cached(&sql)?.query_row((disk.get(), version.get()), |row| read(row, 0)).optional()?)
}

/// An object that has a content, or had it when it was last checksummed; one that has it for sure comes first.
///
/// # Errors
/// What the database says.
pub fn of_version(c: &Connection, disk: DiskId, version: VersionId) -> Result<Option<ObjectRow>> {
    let sql = format!(
        "SELECT {COLUMNS} FROM object o WHERE o.disk = ?1 AND o.version = ?2 ORDER BY o.standing, o.id LIMIT 1"
    );
    Ok(c.prepare_cached(&sql)?.query_row((disk.get(), version.get()), |row| read(row, 0)).optional()?)
}

/// Calls `visit` with the object of each name there is.
///
/// # Errors
/// What the database says.
pub fn for_each_link(c: &Connection, mut visit: impl FnMut(i64)) -> Result<()> {
    let mut statement = c.prepare_cached("SELECT object FROM name")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        visit(row.get(0)?);
    }
    Ok(())
}

/// The names of an object.
///
/// # Errors
/// What the database says, or an invalid path in it.
pub fn names(c: &Connection, object: ObjectId) -> Result<Vec<RelPath>> {
    let mut statement = c.prepare_cached("SELECT path FROM name WHERE object = ?1 ORDER BY path")?;
    let mut rows = statement.query([object.get()])?;
    let mut paths = Vec::new();
    while let Some(row) = rows.next()? {
        paths.push(path_of(&row.get::<_, Vec<u8>>(0)?)?);
    }
    Ok(paths)
}

/// Adds an object that was found or made.
///
/// # Errors
/// What the database says.
pub fn insert(
    c: &Connection,
    disk: DiskId,
    stat: &Stat,
    extended: Option<&[u8]>,
    version: Option<VersionId>,
    left_out: bool,
) -> Result<ObjectId> {
    c.prepare_cached(
        "INSERT INTO object (disk, inode, size, mtime, ctime, mode, uid, gid, extended, version, standing, left_out, allocated)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, 0, ?11, ?12)",
    )?
    .execute((
        disk.get(),
        stat.inode.cast_signed(),
        signed(stat.size.exact()),
        stat.mtime,
        stat.ctime,
        stat.mode,
        stat.uid,
        stat.gid,
        extended,
        version.map(VersionId::get),
        left_out,
        signed(stat.allocated.exact()),
    ))?;
    Ok(ObjectId::new(c.last_insert_rowid()))
}

/// Notes how an object looks now.
///
/// # Errors
/// What the database says.
pub fn set_stat(c: &Connection, id: ObjectId, stat: &Stat, standing: Standing) -> Result<()> {
    c.prepare_cached(
        "UPDATE object SET inode = ?2, size = ?3, mtime = ?4, ctime = ?5, mode = ?6, uid = ?7, gid = ?8, standing = ?9,
         allocated = ?10 WHERE id = ?1",
    )?
    .execute((
        id.get(),
        stat.inode.cast_signed(),
        signed(stat.size.exact()),
        stat.mtime,
        stat.ctime,
        stat.mode,
        stat.uid,
        stat.gid,
        standing_code(standing),
        signed(stat.allocated.exact()),
    ))?;
    Ok(())
}

/// Notes the extended attributes of an object.
///
/// # Errors
/// What the database says.
pub fn set_extended(c: &Connection, id: ObjectId, extended: Option<&[u8]>) -> Result<()> {
    c.prepare_cached("UPDATE object SET extended = ?2 WHERE id = ?1")?.execute((id.get(), extended))?;
    Ok(())
}

/// Notes which content an object has, how it stands to it, and what it had at the last sync.
///
/// # Errors
/// What the database says.
pub fn set_version(
    c: &Connection,
    id: ObjectId,
    version: Option<VersionId>,
    standing: Standing,
    older: Option<VersionId>,
) -> Result<()> {
    c.prepare_cached("UPDATE object SET version = ?2, standing = ?3, older = ?4 WHERE id = ?1")?.execute(
        (id.get(), version.map(VersionId::get), standing_code(standing), older.map(VersionId::get)),
    )?;
    Ok(())
}

/// The attributes of an object, for bringing it back.
///
/// # Errors
/// What the database says.
pub fn attributes(c: &Connection, id: ObjectId) -> Result<Attributes> {
    let mut statement =
        c.prepare_cached("SELECT mode, uid, gid, mtime, extended FROM object WHERE id = ?1")?;
    Ok(statement.query_row([id.get()], |row| read_attributes(row, 0))?)
}

pub(super) fn read_attributes(row: &Row<'_>, at: usize) -> rusqlite::Result<Attributes> {
    let extended: Option<Vec<u8>> = row.get(at + 4)?;
    Ok(Attributes {
        mode: row.get(at)?,
        uid: row.get(at + 1)?,
        gid: row.get(at + 2)?,
        mtime: row.get(at + 3)?,
        extended: extended.map(|e| Attributes::unpack_extended(&e)).unwrap_or_default(),
    })
}

/// Gives an object a name on its disk; a name that was another object's is taken from it.
///
/// # Errors
/// What the database says.
pub fn set_name(c: &Connection, disk: DiskId, path: &RelPath, object: ObjectId) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO name VALUES (?1, ?2, ?3)")?.execute((
        disk.get(),
        path.tree_key(),
        object.get(),
    ))?;
    Ok(())
}

/// The objects with a name below a folder.
///
/// # Errors
/// What the database says.
pub fn below(c: &Connection, disk: DiskId, folder: &RelPath) -> Result<Vec<ObjectId>> {
    let (from, to) = super::folders::below(folder);
    let mut statement =
        c.prepare_cached("SELECT object FROM name WHERE disk = ?1 AND path >= ?2 AND path < ?3")?;
    let rows = statement.query_map((disk.get(), from, to), |row| row.get(0).map(ObjectId::new))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Gives an object another name in place of one that it has. Where a scan came first and took what has the new name for an
/// object of its own, that one makes way: it is the same file.
///
/// # Errors
/// What the database says.
pub fn rename(c: &Connection, disk: DiskId, from: &RelPath, to: &RelPath, object: ObjectId) -> Result<()> {
    let (from, key) = (from.tree_key(), to.tree_key());
    let update =
        || -> rusqlite::Result<usize> {
            c.prepare_cached("UPDATE name SET path = ?3, object = ?4 WHERE disk = ?1 AND path = ?2")?
                .execute((disk.get(), &from, &key, object.get()))
        };
    let renamed = match update() {
        Err(error) if error.sqlite_error_code() == Some(rusqlite::ErrorCode::ConstraintViolation) => {
            let other = by_path(c, disk, to)?;
            remove_name(c, disk, to)?;
            other.map_or(Ok(()), |other| forget_if_nameless(c, other.id))?;
            update()?
        }
        outcome => outcome?,
    };
    if renamed == 0 { set_name(c, disk, to, object) } else { Ok(()) }
}

/// Takes a name away.
///
/// # Errors
/// What the database says.
pub fn remove_name(c: &Connection, disk: DiskId, path: &RelPath) -> Result<()> {
    c.prepare_cached("DELETE FROM name WHERE disk = ?1 AND path = ?2")?
        .execute((disk.get(), path.tree_key()))?;
    Ok(())
}

/// Forgets objects of a disk that have no name.
///
/// # Errors
/// What the database says.
pub fn forget_nameless(c: &Connection, disk: DiskId) -> Result<()> {
    c.execute(
        "DELETE FROM object WHERE disk = ?1 AND id NOT IN (SELECT object FROM name WHERE disk = ?1)",
        [disk.get()],
    )?;
    Ok(())
}

/// Forgets an object that has no name.
///
/// # Errors
/// What the database says.
pub fn forget_if_nameless(c: &Connection, object: ObjectId) -> Result<()> {
    c.prepare_cached(
        "DELETE FROM object WHERE id = ?1 AND NOT EXISTS (SELECT 1 FROM name WHERE object = ?1)",
    )?
    .execute([object.get()])?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema;

    fn empty() -> Connection {
        let mut c = Connection::open_in_memory().unwrap();
        schema::migrate(&mut c).unwrap();
        c
    }

    /// What a disk holds is kept as files come, grow and go.
    #[test]
    fn what_is_taken_is_what_would_be_added_up() {
        let c = empty();
        let added_up = |c: &Connection, disk: i64| {
            let sql = "SELECT COUNT(*), COALESCE(SUM(allocated), 0) FROM object WHERE disk = ?1";
            c.query_row(sql, [disk], |row| Ok((unsigned(row.get(0)?), unsigned(row.get(1)?)))).unwrap()
        };
        let insert = "INSERT INTO object (id, disk, inode, size, allocated, mtime, ctime, mode, uid, gid, standing, left_out)
                 VALUES (?1, ?2, 7, 9, ?3, 0, 0, 0, 0, 0, 0, 0)";
        for (id, disk, allocated) in [(1, 1, 4096), (2, 1, 0), (3, 2, 8192), (4, 1, 12_288)] {
            c.execute(insert, (id, disk, allocated)).unwrap();
        }
        c.execute("UPDATE object SET allocated = 20480, standing = 1 WHERE id = 2", []).unwrap();
        c.execute("DELETE FROM object WHERE id IN (1, 3)", []).unwrap();
        for disk in [1, 2, 3] {
            let taken = taken(&c, DiskId::new(disk)).unwrap();
            assert_eq!((taken.files, taken.bytes.exact()), added_up(&c, disk), "disk {disk}");
        }
    }

    /// A hold that was cut off, a scan that found the file under its held name, and then the recovery.
    #[test]
    fn a_name_that_a_scan_took_first_is_given_all_the_same() {
        let c = empty();
        let disk = DiskId::new(1);
        let [song, held] = ["dawn/wren.flac", ".zinc-sieve/held/1"].map(RelPath::fixed);
        c.execute_batch(
            "INSERT INTO object (id, disk, inode, size, allocated, mtime, ctime, mode, uid, gid, standing, left_out)
                 VALUES (1, 1, 7, 9, 9, 0, 0, 0, 0, 0, 0, 0), (2, 1, 7, 9, 9, 0, 0, 0, 0, 0, 0, 0)",
        )
        .unwrap();
        set_name(&c, disk, &song, ObjectId::new(1)).unwrap();
        set_name(&c, disk, &held, ObjectId::new(2)).unwrap();
        rename(&c, disk, &song, &held, ObjectId::new(1)).unwrap();
        assert_eq!(by_path(&c, disk, &held).unwrap().unwrap().id, ObjectId::new(1));
        assert!(by_path(&c, disk, &song).unwrap().is_none());
        assert!(get(&c, ObjectId::new(2)).unwrap().is_none(), "the other one was the same file");
    }
}
