//! Contents, as they were checksummed.

use std::collections::{HashMap, HashSet};

use rusqlite::{Connection, OptionalExtension, Row};
use sieve_core::checksum::{CellSum, ContentSum, cell_size};
use sieve_core::lane::Rows;
use sieve_core::units::{ByteLength, DiskId, GRANULE, VersionId};

use crate::{corrupt, signed, unsigned};
use sieve_disk::Attributes;
use sieve_disk::Result;

/// One content.
#[derive(Clone, Debug)]
pub struct VersionRow {
    /// Its number.
    pub id: VersionId,
    /// The disk that it lies on.
    pub disk: DiskId,
    /// Its checksums.
    pub sum: ContentSum,
    /// Its granules that are not holes.
    pub data: Vec<Rows>,
    /// The attributes of the file when it was checksummed.
    pub attributes: Attributes,
    /// A replica of the catalogue knows it.
    pub recorded: u32,
    /// Its file was read in part only: the checksums of the later cells, and that of the whole, are not known yet.
    pub unfinished: bool,
}

impl VersionRow {
    /// The size of its cells, in bytes.
    pub fn cell_bytes(&self) -> u64 {
        cell_size(self.sum.size)
    }

    /// The size of its cells, in granules.
    pub fn cell_granules(&self) -> u64 {
        self.cell_bytes() / GRANULE
    }

    /// The bytes of one cell: where it begins, how long it is.
    pub fn cell_span(&self, cell: u64) -> (u64, u64) {
        let start = cell * self.cell_bytes();
        (start, self.cell_bytes().min(self.sum.size.exact().saturating_sub(start)))
    }
}

fn dense(size: ByteLength) -> Vec<Rows> {
    if size == ByteLength::ZERO { Vec::new() } else { vec![Rows::new(0, size.granules())] }
}

fn pack(ranges: &[Rows]) -> Vec<u8> {
    ranges.iter().flat_map(|r| [r.start(), r.length()]).flat_map(u64::to_le_bytes).collect()
}

fn unpack(packed: &[u8], size: ByteLength) -> Option<Vec<Rows>> {
    let numbers: Vec<u64> = packed.as_chunks::<8>().0.iter().map(|b| u64::from_le_bytes(*b)).collect();
    let mut end = 0;
    let mut ranges = Vec::new();
    for pair in numbers.chunks_exact(2) {
        let rows = Rows::at(pair[0], pair[1]);
        if rows.start() < end || rows.end() > size.granules() {
            return None;
        }
        end = rows.end();
        ranges.push(rows);
    }
    Some(ranges)
}

/// Reads data ranges as the table keeps them; none kept means that there are no holes.
///
/// # Errors
/// When they contradict the size.
pub fn data_ranges(packed: Option<&[u8]>, size: ByteLength) -> Result<Vec<Rows>> {
    packed
        .map_or_else(|| Some(dense(size)), |packed| unpack(packed, size))
        .ok_or_else(|| corrupt("the catalogue's record of a sparse file contradicts itself".into()))
}

/// The checksum of an only cell is that of the whole, and not kept twice.
fn packed_cells(sum: &ContentSum) -> Option<Vec<u8>> {
    (sum.cells.len() > 1).then(|| sum.cells.iter().flat_map(|cell| cell.0).collect())
}

/// Notes the checksums of a content, when more of it was read.
///
/// # Errors
/// What the database says.
pub(crate) fn set_sum(c: &Connection, id: VersionId, sum: &ContentSum) -> Result<()> {
    c.prepare_cached("UPDATE version SET whole = ?2, cells = ?3 WHERE id = ?1")?.execute((
        id.get(),
        &sum.whole,
        packed_cells(sum),
    ))?;
    Ok(())
}

/// Adds a content.
///
/// # Errors
/// What the database says.
pub fn insert(
    c: &Connection,
    disk: DiskId,
    sum: &ContentSum,
    data: &[Rows],
    attributes: &Attributes,
) -> Result<VersionId> {
    let ranges = (data != dense(sum.size)).then(|| pack(data));
    let granules: u64 = data.iter().map(|r| r.length()).sum();
    c.prepare_cached(
        "INSERT INTO version (disk, size, whole, cells, data, data_granules, mode, uid, gid, mtime, extended, recorded)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, 0)",
    )?
    .execute((
        disk.get(),
        signed(sum.size.exact()),
        &sum.whole,
        packed_cells(sum),
        ranges,
        signed(granules),
        attributes.mode,
        attributes.uid,
        attributes.gid,
        attributes.mtime,
        attributes.pack_extended(),
    ))?;
    Ok(VersionId::new(c.last_insert_rowid()))
}

fn read(row: &Row<'_>) -> rusqlite::Result<Option<VersionRow>> {
    let size = ByteLength::new(unsigned(row.get(2)?));
    let whole: [u8; 32] = row.get(3)?;
    let packed: Option<Vec<u8>> = row.get(4)?;
    let count = size.exact().div_ceil(cell_size(size));
    let cells: Vec<CellSum> = match packed {
        Some(bytes) => bytes.as_chunks::<16>().0.iter().map(|cell| CellSum(*cell)).collect(),
        None if count == 0 => Vec::new(),
        None => vec![CellSum(whole.first_chunk().copied().unwrap_or_default())],
    };
    let data = match row.get::<_, Option<Vec<u8>>>(5)? {
        Some(packed) => unpack(&packed, size),
        None => Some(dense(size)),
    };
    let Some(data) = data.filter(|_| cells.len() as u64 == count) else { return Ok(None) };
    let extended: Option<Vec<u8>> = row.get(10)?;
    Ok(Some(VersionRow {
        id: VersionId::new(row.get(0)?),
        disk: DiskId::new(row.get(1)?),
        sum: ContentSum { size, whole, cells },
        data,
        attributes: Attributes {
            mode: row.get(6)?,
            uid: row.get(7)?,
            gid: row.get(8)?,
            mtime: row.get(9)?,
            extended: extended.map(|e| Attributes::unpack_extended(&e)).unwrap_or_default(),
        },
        recorded: row.get(11)?,
        unfinished: row.get(12)?,
    }))
}

/// The content of that number.
///
/// # Errors
/// When there is none, or its record contradicts itself.
pub fn get(c: &Connection, id: VersionId) -> Result<VersionRow> {
    c.prepare_cached(
        "SELECT id, disk, size, whole, cells, data, mode, uid, gid, mtime, extended, recorded,
             EXISTS (SELECT 1 FROM unfinished u WHERE u.version = version.id)
         FROM version WHERE id = ?1",
    )?
    .query_row([id.get()], read)
    .optional()?
    .flatten()
    .ok_or_else(|| {
        corrupt(format!("the catalogue's record of content {id} is missing or contradicts itself"))
    })
}

/// What the model needs to know of each content, in the order of their numbers: number, disk, size, granules of data,
/// recorded.
///
/// # Errors
/// What the database says.
pub fn for_each(
    c: &Connection,
    mut visit: impl FnMut(VersionId, DiskId, ByteLength, u64, u32),
) -> Result<()> {
    let mut statement =
        c.prepare_cached("SELECT id, disk, size, data_granules, recorded FROM version ORDER BY id")?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        visit(
            VersionId::new(row.get(0)?),
            DiskId::new(row.get(1)?),
            ByteLength::new(unsigned(row.get(2)?)),
            unsigned(row.get(3)?),
            row.get(4)?,
        );
    }
    Ok(())
}

/// Updates the attributes kept with a content, after its file was touched.
///
/// # Errors
/// What the database says.
pub fn set_attributes(c: &Connection, id: VersionId, attributes: &Attributes) -> Result<()> {
    c.execute(
        "UPDATE version SET mode = ?2, uid = ?3, gid = ?4, mtime = ?5, extended = ?6 WHERE id = ?1",
        (
            id.get(),
            attributes.mode,
            attributes.uid,
            attributes.gid,
            attributes.mtime,
            attributes.pack_extended(),
        ),
    )?;
    Ok(())
}

/// Marks what the coming replicas will know: contents all in the snapshot (or without data), and every
/// folder and symlink. Only at the end of a sync.
///
/// # Errors
/// What the database says.
pub fn record_all(c: &Connection) -> Result<()> {
    let coming = coming_checkpoint(c)?;
    c.execute("UPDATE version SET recorded = ?1 WHERE recorded = 0", [coming])?;
    c.execute("UPDATE node SET recorded = ?1 WHERE recorded = 0", [coming])?;
    Ok(())
}

/// As [`record_all`], for what has no rows at all, and so is as well guarded by a replica as it will ever be.
///
/// # Errors
/// What the database says.
pub fn record_without_data(c: &Connection) -> Result<()> {
    let coming = coming_checkpoint(c)?;
    c.execute("UPDATE version SET recorded = ?1 WHERE recorded = 0 AND data_granules = 0", [coming])?;
    c.execute("UPDATE node SET recorded = ?1 WHERE recorded = 0", [coming])?;
    Ok(())
}

/// The number of the checkpoint that the replicas will be of that are made next.
fn coming_checkpoint(c: &Connection) -> Result<i64> {
    Ok(c.query_row("SELECT COALESCE(MAX(number), 0) + 1 FROM checkpoint", [], |row| row.get(0))?)
}

/// Forgets contents that neither the snapshot nor an object refers to.
///
/// # Errors
/// What the database says.
pub fn forget_unused(c: &Connection) -> Result<()> {
    let passed = "SELECT id, older FROM object WHERE older IS NOT NULL AND standing = 0
        AND EXISTS (SELECT 1 FROM version v WHERE v.id = object.version AND v.recorded > 0)";
    let passed: Vec<(i64, i64)> = c
        .prepare_cached(passed)?
        .query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    if passed.is_empty() && orphans(c)?.is_empty() {
        return Ok(());
    }
    let asked = passed.iter().map(|(_, older)| *older).chain(orphans(c)?).collect();
    let encoded = among_lanes(c, &asked)?;
    let mut forget = c.prepare_cached("UPDATE object SET older = NULL WHERE id = ?1")?;
    for (object, _) in passed.iter().filter(|(_, older)| !encoded.contains(older)) {
        forget.execute([object])?;
    }
    // What objects gave up just now has become an orphan.
    let kept = numbers(c, "SELECT older FROM object WHERE older IS NOT NULL")?;
    let kept: HashSet<i64> = kept.into_iter().collect();
    for version in orphans(c)?.into_iter().filter(|version| !encoded.contains(version)) {
        forget_orphan(c, version, kept.contains(&version))?;
    }
    Ok(())
}

/// Contents that no object has: one that parity encodes still, or that nobody came to take.
pub(crate) fn orphans(c: &Connection) -> Result<Vec<i64>> {
    numbers(c, "SELECT version FROM orphan")
}

fn numbers(c: &Connection, sql: &str) -> Result<Vec<i64>> {
    let mut statement = c.prepare_cached(sql)?;
    let found = statement.query_map([], |row| row.get(0))?;
    Ok(found.collect::<rusqlite::Result<_>>()?)
}

/// Those of some contents that the snapshot encodes.
fn among_lanes(c: &Connection, asked: &HashSet<i64>) -> Result<HashSet<i64>> {
    let mut statement = c.prepare_cached("SELECT version FROM lane")?;
    let mut rows = statement.query([])?;
    let mut found = HashSet::new();
    while let Some(row) = rows.next()? {
        let version = row.get(0)?;
        if asked.contains(&version) {
            found.insert(version);
        }
    }
    Ok(found)
}

/// Forgets a content that is in no lane, but where an object has taken it up again.
fn forget_orphan(c: &Connection, version: i64, is_kept: bool) -> Result<()> {
    c.prepare_cached("DELETE FROM orphan WHERE version = ?1")?.execute([version])?;
    let has_object = "SELECT EXISTS (SELECT 1 FROM object WHERE version = ?1)";
    if is_kept || c.prepare_cached(has_object)?.query_row([version], |row| row.get(0))? {
        return Ok(());
    }
    for sql in [
        "DELETE FROM version WHERE id = ?1",
        "DELETE FROM damaged_content WHERE version = ?1",
        "DELETE FROM unfinished WHERE version = ?1",
    ] {
        c.prepare_cached(sql)?.execute([version])?;
    }
    Ok(())
}

/// Contents of which there are several with the same checksum, with that; what is empty or not read to its end is left out.
///
/// # Errors
/// What the database says.
pub fn with_twins(c: &Connection) -> Result<HashMap<VersionId, [u8; 32]>> {
    let sql = "SELECT v.id, v.whole FROM version v WHERE v.size > 0 AND v.whole IN (
            SELECT v.whole FROM object o JOIN version v ON v.id = o.version JOIN name n ON n.object = o.id
            WHERE v.size > 0 GROUP BY v.whole HAVING COUNT(*) > 1)
        AND v.id NOT IN (SELECT version FROM unfinished)";
    let mut statement = c.prepare_cached(sql)?;
    let rows =
        statement.query_map([], |row| Ok((VersionId::new(row.get(0)?), row.get::<_, [u8; 32]>(1)?)))?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Bytes of the contents on a disk that came after the first sync of the pool.
///
/// # Errors
/// What the database says.
pub fn recorded_after_first(c: &Connection, disk: DiskId) -> Result<ByteLength> {
    let sql = "SELECT COALESCE(SUM(size), 0) FROM version WHERE disk = ?1 AND recorded >
        (SELECT COALESCE(MIN(recorded), 0) FROM version WHERE recorded > 0)";
    let bytes: i64 = c.prepare_cached(sql)?.query_row([disk.get()], |row| row.get(0))?;
    Ok(ByteLength::new(bytes.unsigned_abs()))
}
