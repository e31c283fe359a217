//! What contents files have, and what of them is known: the questions of scans, syncs and fates.

use std::collections::HashMap;

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId, VersionId};
use sieve_disk::{Result, Stamp, Stat};

use crate::objects::{self, ObjectRow, path_of, standing_of};
use crate::{unsigned, versions};

/// An object `o` that is not as it was recorded, in the words of the index that keeps those apart.
const UNSETTLED: &str = "((o.standing <> 0 OR o.version IS NULL) OR o.older IS NOT NULL)";

/// Which files of a disk are asked for.
#[derive(Clone, Copy, Debug)]
pub enum Files {
    /// Without a checksum, or in doubt.
    Doubtful,
    /// With a checksum that may not be theirs: in doubt, or found to differ.
    InDoubtWithChecksum,
    /// Those that are read before a sync plans: it is not known whether their content is another one, or they have nothing
    /// that would pass while parity is computed.
    ReadFirst,
}

impl Files {
    const fn condition(self) -> &'static str {
        match self {
            Self::Doubtful => "o.version IS NULL OR o.standing <> 0",
            Self::InDoubtWithChecksum => "o.version IS NOT NULL AND o.standing IN (1, 4)",
            // 3 is a changed length.
            Self::ReadFirst => {
                "o.standing NOT IN (0, 3) OR o.version IS NULL AND o.size = 0 OR o.standing = 3 AND o.size = 0
                 OR (o.version IS NULL OR o.standing <> 0)
                     AND EXISTS (SELECT 1 FROM held h WHERE h.disk = ?1 AND h.path = n.path)"
            }
        }
    }
}

/// Files of a disk that have names, in the order of their paths; those that are left out are not among them.
///
/// # Errors
/// What the database says.
pub fn files(c: &Connection, disk: DiskId, which: Files) -> Result<Vec<ObjectId>> {
    let mut statement = c.prepare_cached(&format!(
        "SELECT o.id FROM object o JOIN name n ON n.object = o.id
         WHERE o.disk = ?1 AND o.left_out = 0 AND {UNSETTLED} AND ({}) GROUP BY o.id ORDER BY MIN(n.path)",
        which.condition()
    ))?;
    let rows = statement.query_map([disk.get()], |row| row.get(0).map(ObjectId::new))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// How many files of a disk have to be read (new, changed, or doubtful), and the bytes of those that are read before
/// anything is computed.
///
/// # Errors
/// What the database says.
pub fn unread(c: &Connection, disk: DiskId) -> Result<(u64, ByteLength)> {
    let sql =
        "SELECT COUNT(*), COALESCE(SUM(CASE WHEN standing IN (0, 3) THEN 0 ELSE size END), 0) FROM object o
         WHERE disk = ?1 AND left_out = 0 AND (o.version IS NULL OR o.standing <> 0) AND {UNSETTLED}
             AND EXISTS (SELECT 1 FROM name n WHERE n.object = o.id)";
    let (files, bytes): (i64, i64) = c
        .prepare_cached(&sql.replace("{UNSETTLED}", UNSETTLED))?
        .query_row([disk.get()], |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok((unsigned(files), ByteLength::new(unsigned(bytes))))
}

/// What an object is known to hold as it is now: nothing where that was not read, or it changed since.
///
/// # Errors
/// What the database says.
pub fn present(c: &Connection, object: &ObjectRow) -> Result<Option<ContentSum>> {
    let version = object.version.filter(|_| object.standing == Standing::Same);
    let version = version.map(|version| versions::get(c, version)).transpose()?;
    Ok(version.filter(|version| !version.unfinished).map(|version| version.sum))
}

/// What the file had at the last sync: its last content if the snapshot has that, else what it was before.
///
/// # Errors
/// What the database says.
pub fn synced_content(c: &Connection, object: &ObjectRow) -> Result<Option<VersionId>> {
    let Some(version) = object.version else { return Ok(object.older) };
    let in_snapshot: bool = c
        .prepare_cached(
            "SELECT EXISTS (SELECT 1 FROM lane WHERE disk = ?1 AND version = ?2)
                     AND NOT EXISTS (SELECT 1 FROM unfinished WHERE version = ?2)
                 OR EXISTS (SELECT 1 FROM version WHERE id = ?2 AND data_granules = 0 AND recorded > 0)",
        )?
        .query_row((object.disk.get(), version.get()), |row| row.get(0))?;
    Ok(if in_snapshot { Some(version) } else { object.older })
}

/// A name on a disk with its object and that one's content, read field by field as it is wanted.
pub struct NamedObject<'a>(&'a Row<'a>);

impl NamedObject<'_> {
    /// The object.
    ///
    /// # Errors
    /// As for all fields: what the database says.
    pub fn object(&self) -> Result<ObjectId> {
        Ok(ObjectId::new(self.0.get(1)?))
    }

    /// How the file looked when it was last seen.
    ///
    /// # Errors
    /// What the database says.
    pub fn stamp(&self) -> Result<Stamp> {
        Ok(Stamp {
            inode: self.0.get::<_, i64>(8)?.cast_unsigned(),
            size: ByteLength::new(unsigned(self.0.get(2)?)),
            mtime: self.0.get(9)?,
            ctime: self.0.get(10)?,
        })
    }

    /// What its disk space was.
    ///
    /// # Errors
    /// What the database says.
    pub fn allocated(&self) -> Result<ByteLength> {
        Ok(ByteLength::new(unsigned(self.0.get(11)?)))
    }

    /// Whether its content is what was checksummed.
    ///
    /// # Errors
    /// What the database says.
    pub fn standing(&self) -> Result<Standing> {
        Ok(standing_of(self.0.get(3)?))
    }

    /// The content that was last checksummed, and its length.
    ///
    /// # Errors
    /// What the database says.
    pub fn version(&self) -> Result<Option<(VersionId, ByteLength)>> {
        let Some(version) = self.0.get::<_, Option<i64>>(4)? else { return Ok(None) };
        Ok(Some((VersionId::new(version), ByteLength::new(unsigned(self.0.get(5)?)))))
    }

    /// The granules of the content that are no holes, for a content of that length.
    ///
    /// # Errors
    /// When they contradict each other.
    pub fn data(&self, size: ByteLength) -> Result<Vec<Rows>> {
        let packed: Option<Vec<u8>> = self.0.get(6)?;
        versions::data_ranges(packed.as_deref(), size)
    }

    /// The content before.
    ///
    /// # Errors
    /// What the database says.
    pub fn older(&self) -> Result<Option<VersionId>> {
        Ok(self.0.get::<_, Option<i64>>(7)?.map(VersionId::new))
    }
}

/// Visits the names of a disk in their order, but those that are left out; with hard links an object comes once a name.
///
/// # Errors
/// What the database says; those of `visit`.
pub fn for_each_named(
    c: &Connection,
    disk: DiskId,
    mut visit: impl FnMut(RelPath, &NamedObject<'_>) -> Result<()>,
) -> Result<()> {
    let mut statement = c.prepare_cached(
        "SELECT n.path, o.id, o.size, o.standing, v.id, v.size, v.data, o.older, o.inode, o.mtime, o.ctime,
             o.allocated
         FROM name n JOIN object o ON o.id = n.object LEFT JOIN version v ON v.id = o.version
         WHERE n.disk = ?1 AND o.left_out = 0 ORDER BY n.path",
    )?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        visit(path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?, &NamedObject(row))?;
    }
    Ok(())
}

/// The contents, present or before, of files of a disk that are not as they were checksummed, each with its granules of data.
///
/// # Errors
/// What the database says.
pub fn of_unsettled(c: &Connection, disk: DiskId) -> Result<Vec<(VersionId, u64)>> {
    let mut statement = c.prepare_cached(
        "SELECT v.id, v.data_granules FROM object o JOIN version v ON v.id IN (o.version, o.older)
         WHERE o.disk = ?1 AND o.standing <> 0",
    )?;
    let rows =
        statement.query_map([disk.get()], |row| Ok((VersionId::new(row.get(0)?), unsigned(row.get(1)?))))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// The length of a content that can be read on its disk: a file there has it, as it was checksummed to the end, and nothing
/// of it is known to be damaged.
///
/// # Errors
/// What the database says.
pub fn readable_size(c: &Connection, version: VersionId) -> Result<Option<ByteLength>> {
    let sql = "SELECT v.size FROM version v WHERE v.id = ?1
             AND EXISTS (SELECT 1 FROM object o WHERE o.version = v.id AND o.standing = 0 AND o.left_out = 0
                 AND EXISTS (SELECT 1 FROM name n WHERE n.object = o.id))
             AND NOT EXISTS (SELECT 1 FROM unfinished u WHERE u.version = v.id)
             AND NOT EXISTS (SELECT 1 FROM damaged_content d WHERE d.version = v.id)";
    let size = c.prepare_cached(sql)?.query_row([version.get()], |row| row.get(0)).optional()?;
    Ok(size.map(|size| ByteLength::new(unsigned(size))))
}

/// The size of a content, or of an object under its provisional (negative) number.
///
/// # Errors
/// What the database says.
pub fn size_of(c: &Connection, version: VersionId) -> Result<ByteLength> {
    let sql = if version.get() < 0 {
        "SELECT size FROM object WHERE id = -?1"
    } else {
        "SELECT size FROM version WHERE id = ?1"
    };
    let size: i64 = c.prepare_cached(sql)?.query_row([version.get()], |row| row.get(0))?;
    Ok(ByteLength::new(unsigned(size)))
}

/// Visits the names of a disk whose content is known whole: the path as a tree key, the object, the content's BLAKE3.
///
/// # Errors
/// What the database says.
pub fn for_each_known(
    c: &Connection,
    disk: DiskId,
    mut visit: impl FnMut(&[u8], ObjectId, [u8; 32]),
) -> Result<()> {
    let mut statement = c.prepare_cached(
        "SELECT n.path, o.id, v.whole FROM name n JOIN object o ON o.id = n.object JOIN version v ON v.id = o.version
         WHERE n.disk = ?1 AND o.standing = 0 AND v.id NOT IN (SELECT version FROM unfinished)",
    )?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        visit(row.get_ref(0)?.as_blob().unwrap_or_default(), ObjectId::new(row.get(1)?), row.get(2)?);
    }
    Ok(())
}

/// An object, as the model of a volume takes it.
pub struct ObjectState {
    /// Its number.
    pub id: i64,
    /// Its disk.
    pub disk: DiskId,
    /// Its length.
    pub size: ByteLength,
    /// The number of the content last checksummed.
    pub version: Option<i64>,
    /// The number of the content before.
    pub older: Option<i64>,
    /// Whether the first is what it has.
    pub standing: Standing,
}

/// Visits all objects in the order of their numbers.
///
/// # Errors
/// What the database says.
pub fn for_each_object(c: &Connection, mut visit: impl FnMut(ObjectState)) -> Result<()> {
    let mut statement =
        c.prepare_cached("SELECT id, size, version, standing, older, disk FROM object ORDER BY id")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        visit(ObjectState {
            id: row.get(0)?,
            size: ByteLength::new(unsigned(row.get(1)?)),
            version: row.get(2)?,
            standing: standing_of(row.get(3)?),
            older: row.get(4)?,
            disk: DiskId::new(row.get(5)?),
        });
    }
    Ok(())
}

/// The largest object of a volume whose file changed since then.
///
/// # Errors
/// What the database says.
pub fn largest_since(c: &Connection, volume: &str, since: i64) -> Result<ByteLength> {
    let largest: Option<i64> = c
        .query_row(
            "SELECT MAX(o.size) FROM object o JOIN disk d ON d.id = o.disk WHERE d.volume = ?1 AND o.ctime >= ?2",
            (volume, since),
            |row| row.get(0),
        )
        .optional()?
        .flatten();
    Ok(ByteLength::new(largest.map_or(0, unsigned)))
}

/// The object of a disk that this is another name of: by its inode, its length and its time.
///
/// # Errors
/// What the database says.
pub fn by_inode(c: &Connection, disk: DiskId, stat: &Stat) -> Result<Option<ObjectRow>> {
    let found: Option<i64> = c
        .query_row(
            "SELECT id FROM object WHERE disk = ?1 AND inode = ?2 AND size = ?3 AND mtime = ?4",
            (disk.get(), stat.inode.cast_signed(), stat.size.exact().cast_signed(), stat.mtime),
            |row| row.get(0),
        )
        .optional()?;
    found.map_or(Ok(None), |id| objects::get(c, ObjectId::new(id)))
}

/// Whether the owner wants any file of a disk not to be guarded.
///
/// # Errors
/// What the database says.
pub fn has_left_out(c: &Connection, disk: DiskId) -> Result<bool> {
    let sql = "SELECT EXISTS (SELECT 1 FROM object WHERE disk = ?1 AND left_out <> 0)";
    Ok(c.prepare_cached(sql)?.query_row([disk.get()], |row| row.get(0))?)
}

/// Notes whether the owner wants an object guarded.
///
/// # Errors
/// What the database says.
pub fn set_left_out(c: &Connection, object: ObjectId, left_out: bool) -> Result<()> {
    c.execute("UPDATE object SET left_out = ?2 WHERE id = ?1", (object.get(), left_out))?;
    Ok(())
}

/// Nothing on a disk is taken at its word until it has been read.
///
/// # Errors
/// What the database says.
pub fn doubt_all(c: &Connection, disk: DiskId) -> Result<()> {
    c.execute("UPDATE object SET standing = 1 WHERE disk = ?1 AND standing = 0", [disk.get()])?;
    Ok(())
}

/// How many names there are on a disk, those of held files and of pieces among them.
///
/// # Errors
/// What the database says.
pub fn names_on(c: &Connection, disk: DiskId) -> Result<u64> {
    let count: i64 =
        c.query_row("SELECT COUNT(*) FROM name WHERE disk = ?1", [disk.get()], |row| row.get(0))?;
    Ok(unsigned(count))
}

/// Contents of the snapshot of a disk, and what became of them: how many, and their bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fallen {
    /// All of them.
    pub total: (u64, u64),
    /// Nothing has them any more, and nothing else is in their place.
    pub gone: (u64, u64),
    /// Something else is in their place.
    pub overwritten: (u64, u64),
}

/// What became of the contents of the snapshot of a disk.
///
/// A content lives while an object has it, held ones included; one that is doubted, or was copied with its times, is not
/// known to be another. It is overwritten while an object has something else in its place, and gone where there is none, or
/// an empty one. Where all live for certain, nothing is counted at all.
///
/// # Errors
/// What the database says.
pub fn fallen(c: &Connection, disk: DiskId) -> Result<Fallen> {
    fallen_among(c, disk, &doubtful_contents(c, disk)?)
}

/// As [`fallen`], but what did not vanish behind our back, and what a file of one of the `others` has, is not gone: we took it
/// from one disk to the other.
///
/// # Errors
/// What the database says.
pub fn fallen_everywhere(c: &Connection, disk: DiskId, others: &[DiskId]) -> Result<Fallen> {
    let mut doubtful = doubtful_contents(c, disk)?;
    let mut statement = c.prepare_cached(
        "SELECT DISTINCT moved.id, o.disk FROM orphan JOIN version moved ON moved.id = orphan.version
             JOIN version v ON v.whole = moved.whole AND v.size = moved.size AND v.id <> moved.id
             JOIN object o ON o.version = v.id AND o.standing = 0
         WHERE moved.disk = ?1 AND o.disk <> ?1
             AND NOT EXISTS (SELECT 1 FROM gone g WHERE g.disk = ?1 AND moved.id IN (g.version, g.older))",
    )?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        let elsewhere: i64 = row.get(1)?;
        if others.iter().any(|other| other.get() == elsewhere) {
            doubtful.insert(row.get(0)?, Became::Present);
        }
    }
    fallen_among(c, disk, &doubtful)
}

fn fallen_among(c: &Connection, disk: DiskId, doubtful: &HashMap<i64, Became>) -> Result<Fallen> {
    if doubtful.is_empty() {
        return Ok(Fallen::default());
    }
    let mut statement = c.prepare_cached(
        "SELECT l.version, v.size FROM (SELECT DISTINCT version FROM lane WHERE disk = ?1) l
             JOIN version v ON v.id = l.version",
    )?;
    let mut rows = statement.query([disk.get()])?;
    let mut fallen = Fallen::default();
    let add = |count: &mut (u64, u64), size: u64| *count = (count.0 + 1, count.1 + size);
    while let Some(row) = rows.next()? {
        let size = unsigned(row.get(1)?);
        add(&mut fallen.total, size);
        match doubtful.get(&row.get(0)?) {
            Some(Became::Gone) => add(&mut fallen.gone, size),
            Some(Became::Overwritten) => add(&mut fallen.overwritten, size),
            Some(Became::Present) | None => {}
        }
    }
    Ok(fallen)
}

/// What became of a content, the stronger word later.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Became {
    Gone,
    Overwritten,
    Present,
}

/// The contents of which it is not certain that a settled object has them, and what became of each: those that an object gave
/// up, and those of objects that are not as they were recorded.
fn doubtful_contents(c: &Connection, disk: DiskId) -> Result<HashMap<i64, Became>> {
    let mut found: HashMap<i64, Became> = HashMap::new();
    let mut add = |version: i64, became: Became| {
        let known = found.entry(version).or_insert(became);
        *known = became.max(*known);
    };
    for version in versions::orphans(c)? {
        add(version, Became::Gone);
    }
    let mut statement = c.prepare_cached(&format!(
        "SELECT o.version, o.older, o.standing IN (0, 1, 4) OR o.size = v.size AND o.mtime = v.mtime, o.size > 0,
             EXISTS (SELECT 1 FROM name n JOIN held h ON h.disk = n.disk AND h.path = n.path WHERE n.object = o.id)
         FROM object o LEFT JOIN version v ON v.id = o.version
         WHERE o.disk = ?1 AND {UNSETTLED}"
    ))?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        let (has_other, is_held): (bool, bool) = (row.get(3)?, row.get(4)?);
        let replaced = match (is_held, has_other) {
            (true, _) => Became::Present,
            (false, true) => Became::Overwritten,
            (false, false) => Became::Gone,
        };
        if let Some(version) = row.get::<_, Option<i64>>(0)? {
            let is_itself = row.get::<_, Option<bool>>(2)?.unwrap_or(false);
            add(version, if is_itself { Became::Present } else { replaced });
        }
        if let Some(older) = row.get::<_, Option<i64>>(1)? {
            add(older, replaced);
        }
    }
    let mut settled = c.prepare_cached(
        "SELECT EXISTS (SELECT 1 FROM object WHERE version = ?1 AND disk = ?2 AND standing = 0)",
    )?;
    for (version, became) in found.iter_mut().filter(|(_, became)| **became != Became::Present) {
        if settled.query_row((version, disk.get()), |row| row.get(0))? {
            *became = Became::Present;
        }
    }
    Ok(found)
}

/// Granules of a lane that parity has something of.
///
/// # Errors
/// What the database says.
pub fn granules_in_lane(c: &Connection, disk: DiskId) -> Result<u64> {
    let sql = "SELECT COALESCE(SUM(length), 0) FROM lane WHERE disk = ?1";
    Ok(crate::unsigned(c.prepare_cached(sql)?.query_row([disk.get()], |row| row.get(0))?))
}
