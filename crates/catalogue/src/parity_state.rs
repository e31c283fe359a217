//! The snapshot: what parity encodes, which checkpoint each cell is of, and what is known to be damaged.

use rusqlite::{Connection, OptionalExtension};
use sieve_core::lane::{Interval, IntervalMap, LaneMap, Piece, Rows};
use sieve_core::units::{CellIndex, CheckpointId, DiskId, VersionId};

use super::{signed, unsigned};
use sieve_disk::Result;
use sieve_disk::Stat;

/// A state that the parity was brought to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Checkpoint {
    /// Its number: one more than its parent's.
    pub number: u64,
    /// A random id: two histories that went apart have other ids at the same number.
    pub id: CheckpointId,
    /// The id of the one before.
    pub parent: Option<CheckpointId>,
    /// When, nanoseconds since 1970.
    pub at: i64,
}

/// The lane of a data disk as the snapshot has it.
///
/// # Errors
/// What the database says.
pub fn lane(c: &Connection, disk: DiskId) -> Result<LaneMap> {
    let mut intervals = Vec::new();
    for_each_interval(c, disk, |rows, value| {
        intervals.push(Interval { rows, value });
        Ok(())
    })?;
    Ok(intervals.into_iter().collect())
}

/// So many stretches of a lane are asked for one by one; for more, all of it is read.
const FEW_STRETCHES: usize = 1000;

/// A lane as the snapshot has it in these rows, which are in order; there may be more of it.
///
/// # Errors
/// What the database says.
pub fn lane_within(c: &Connection, disk: DiskId, stretches: &[Rows]) -> Result<LaneMap> {
    if stretches.len() > FEW_STRETCHES {
        return lane(c, disk);
    }
    // The interval that the stretch begins in may begin before it.
    let mut statement = c.prepare_cached(
        "SELECT start, length, version, offset FROM lane WHERE disk = ?1 AND start < ?3 AND start + length > ?2
             AND start >= (SELECT COALESCE(MAX(start), 0) FROM lane WHERE disk = ?1 AND start <= ?2) ORDER BY start",
    )?;
    let mut intervals: Vec<Interval<Piece>> = Vec::new();
    for stretch in stretches {
        let mut rows = statement.query((disk.get(), signed(stretch.start()), signed(stretch.end())))?;
        while let Some(row) = rows.next()? {
            let interval = interval_of(row)?;
            if intervals.last().is_none_or(|last| last.rows != interval.rows) {
                intervals.push(interval);
            }
        }
    }
    Ok(intervals.into_iter().collect())
}

fn interval_of(row: &rusqlite::Row<'_>) -> rusqlite::Result<Interval<Piece>> {
    Ok(Interval {
        rows: Rows::at(unsigned(row.get(0)?), unsigned(row.get(1)?)),
        value: Piece { version: VersionId::new(row.get(2)?), offset: unsigned(row.get(3)?) },
    })
}

/// Calls `visit` with each interval of a lane, in order of their starts.
///
/// # Errors
/// Those of `visit`, and of the database.
pub fn for_each_interval(
    c: &Connection,
    disk: DiskId,
    mut visit: impl FnMut(Rows, Piece) -> Result<()>,
) -> Result<()> {
    let mut statement =
        c.prepare_cached("SELECT start, length, version, offset FROM lane WHERE disk = ?1 ORDER BY start")?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        let interval = interval_of(row)?;
        visit(interval.rows, interval.value)?;
    }
    Ok(())
}

/// Makes `rows` of a lane what `lane` has there; `number` gives the number of a content in the catalogue.
///
/// # Errors
/// What the database says.
pub fn set_lane(
    c: &Connection,
    disk: DiskId,
    rows: Rows,
    lane: &LaneMap,
    number: impl Fn(VersionId) -> VersionId,
) -> Result<()> {
    let (start, end) = (signed(rows.start()), signed(rows.end()));
    // An interval that reaches into the rows from before, or beyond them, keeps its other parts.
    let reaching: Vec<(i64, i64, i64, i64)> = c
        .prepare_cached(
            "SELECT start, length, version, offset FROM lane WHERE disk = ?1 AND start < ?3 AND start + length > ?2
             AND start >= (SELECT COALESCE(MAX(start), 0) FROM lane WHERE disk = ?1 AND start <= ?2)",
        )?
        .query_map((disk.get(), start, end), |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?
        .collect::<rusqlite::Result<_>>()?;
    let mut delete = c.prepare_cached("DELETE FROM lane WHERE disk = ?1 AND start = ?2")?;
    let mut insert = c.prepare_cached("INSERT INTO lane VALUES (?1, ?2, ?3, ?4, ?5)")?;
    for (s, length, version, offset) in reaching {
        delete.execute((disk.get(), s))?;
        if s < start {
            insert.execute((disk.get(), s, start - s, version, offset))?;
        }
        if s + length > end {
            insert.execute((disk.get(), end, s + length - end, version, offset + (end - s)))?;
        }
    }
    for interval in lane.overlapping(rows) {
        insert.execute((
            disk.get(),
            signed(interval.rows.start()),
            signed(interval.rows.length()),
            number(interval.value.version).get(),
            signed(interval.value.offset),
        ))?;
    }
    Ok(())
}

/// The checkpoint that each parity cell of a volume is expected to be of; intervals count in cells.
///
/// # Errors
/// What the database says.
pub fn parity_cells(c: &Connection, volume: &str) -> Result<IntervalMap<CheckpointId>> {
    let mut statement = c.prepare_cached(
        "SELECT first, count, checkpoint FROM parity_cell WHERE volume = ?1 ORDER BY first",
    )?;
    let mut rows = statement.query([volume])?;
    let mut map = IntervalMap::default();
    while let Some(row) = rows.next()? {
        let id = CheckpointId::new(row.get::<_, i64>(2)?.cast_unsigned());
        map.insert(Rows::at(unsigned(row.get(0)?), unsigned(row.get(1)?)), id);
    }
    Ok(map)
}

/// Replaces the expectations of a volume.
///
/// # Errors
/// What the database says.
pub fn set_parity_cells(c: &Connection, volume: &str, cells: &IntervalMap<CheckpointId>) -> Result<()> {
    c.execute("DELETE FROM parity_cell WHERE volume = ?1", [volume])?;
    let mut insert = c.prepare_cached("INSERT INTO parity_cell VALUES (?1, ?2, ?3, ?4)")?;
    for interval in cells.iter() {
        let (first, count) = (signed(interval.rows.start()), signed(interval.rows.length()));
        insert.execute((volume, first, count, interval.value.get().cast_signed()))?;
    }
    Ok(())
}

/// The newest checkpoint.
///
/// # Errors
/// What the database says.
pub fn head(c: &Connection) -> Result<Option<Checkpoint>> {
    Ok(c.query_row("SELECT number, id, parent, at FROM checkpoint ORDER BY number DESC LIMIT 1", [], |row| {
        Ok(Checkpoint {
            number: unsigned(row.get(0)?),
            id: CheckpointId::new(row.get::<_, i64>(1)?.cast_unsigned()),
            parent: row.get::<_, Option<i64>>(2)?.map(|p| CheckpointId::new(p.cast_unsigned())),
            at: row.get(3)?,
        })
    })
    .optional()?)
}

/// Adds a checkpoint.
///
/// # Errors
/// What the database says.
pub fn insert_checkpoint(c: &Connection, checkpoint: &Checkpoint) -> Result<()> {
    c.execute(
        "INSERT INTO checkpoint VALUES (?1, ?2, ?3, ?4)",
        (
            signed(checkpoint.number),
            checkpoint.id.get().cast_signed(),
            checkpoint.parent.map(|p| p.get().cast_signed()),
            checkpoint.at,
        ),
    )?;
    Ok(())
}

/// Whether a checkpoint is part of this catalogue's history.
///
/// # Errors
/// What the database says.
pub fn knows(c: &Connection, id: CheckpointId) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM checkpoint WHERE id = ?1")?
        .query_row([id.get().cast_signed()], |_| Ok(()))
        .optional()?
        .is_some())
}

/// Notes how a segment of a parity image looks, right after we wrote or checked it.
///
/// # Errors
/// What the database says.
pub fn set_segment(c: &Connection, disk: DiskId, number: u32, stat: &Stat) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO segment VALUES (?1, ?2, ?3, ?4, ?5)")?.execute((
        disk.get(),
        number,
        signed(stat.size.exact()),
        stat.mtime,
        stat.ctime,
    ))?;
    Ok(())
}

/// Whether a segment of a parity image looks as we left it.
///
/// # Errors
/// What the database says.
pub fn segment_matches(c: &Connection, disk: DiskId, number: u32, stat: &Stat) -> Result<bool> {
    let found: Option<(i64, i64, i64)> = c
        .prepare_cached("SELECT size, mtime, ctime FROM segment WHERE disk = ?1 AND number = ?2")?
        .query_row((disk.get(), number), |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))
        .optional()?;
    Ok(found == Some((signed(stat.size.exact()), stat.mtime, stat.ctime)))
}

/// The cells of contents on a disk that are known to be damaged.
///
/// # Errors
/// What the database says.
pub fn damaged_contents(c: &Connection, disk: DiskId) -> Result<Vec<(VersionId, u64)>> {
    let mut statement = c.prepare_cached(
        "SELECT d.version, d.cell FROM damaged_content d JOIN version v ON v.id = d.version
         WHERE v.disk = ?1 ORDER BY d.version, d.cell",
    )?;
    let rows = statement
        .query_map([disk.get()], |r| Ok((VersionId::new(r.get(0)?), unsigned(r.get(1)?))))?
        .collect::<rusqlite::Result<_>>()?;
    Ok(rows)
}

/// Remembers a damaged cell of a content.
///
/// # Errors
/// What the database says.
pub fn add_damaged_content(c: &Connection, version: VersionId, cell: u64) -> Result<()> {
    c.prepare_cached("INSERT OR IGNORE INTO damaged_content VALUES (?1, ?2)")?
        .execute((version.get(), signed(cell)))?;
    Ok(())
}

/// Forgets damage of a content that was read whole and well.
///
/// # Errors
/// What the database says.
pub fn clear_damaged_content(c: &Connection, version: VersionId) -> Result<()> {
    c.prepare_cached("DELETE FROM damaged_content WHERE version = ?1")?.execute([version.get()])?;
    Ok(())
}

/// Forgets the damage of one cell of a content that was mended.
///
/// # Errors
/// What the database says.
pub fn clear_damaged_cell(c: &Connection, version: VersionId, cell: u64) -> Result<()> {
    c.prepare_cached("DELETE FROM damaged_content WHERE version = ?1 AND cell = ?2")?
        .execute((version.get(), signed(cell)))?;
    Ok(())
}

/// The cells of a parity image that are known to be damaged.
///
/// # Errors
/// What the database says.
pub fn damaged_parity(c: &Connection, disk: DiskId) -> Result<Vec<CellIndex>> {
    let mut statement = c.prepare_cached("SELECT cell FROM damaged_parity WHERE disk = ?1 ORDER BY cell")?;
    let rows = statement
        .query_map([disk.get()], |r| r.get::<_, u32>(0).map(CellIndex::new))?
        .collect::<rusqlite::Result<_>>()?;
    Ok(rows)
}

/// Forgets how the image on a disk looked: it lies elsewhere now.
///
/// # Errors
/// What the database says.
pub fn forget_image(c: &Connection, disk: DiskId) -> Result<()> {
    c.execute("DELETE FROM segment WHERE disk = ?1", [disk.get()])?;
    c.execute("DELETE FROM damaged_parity WHERE disk = ?1", [disk.get()])?;
    Ok(())
}

/// Whether a cell of a parity image is known to be damaged.
///
/// # Errors
/// What the database says.
pub fn is_damaged_parity(c: &Connection, disk: DiskId, cell: CellIndex) -> Result<bool> {
    Ok(c.prepare_cached("SELECT 1 FROM damaged_parity WHERE disk = ?1 AND cell = ?2")?
        .query_row((disk.get(), cell.get()), |_| Ok(()))
        .optional()?
        .is_some())
}

/// Remembers, or forgets, a damaged cell of a parity image.
///
/// # Errors
/// What the database says.
pub fn set_damaged_parity(c: &Connection, disk: DiskId, cell: CellIndex, damaged: bool) -> Result<()> {
    let sql = if damaged {
        "INSERT OR IGNORE INTO damaged_parity VALUES (?1, ?2)"
    } else {
        "DELETE FROM damaged_parity WHERE disk = ?1 AND cell = ?2"
    };
    c.prepare_cached(sql)?.execute((disk.get(), cell.get()))?;
    Ok(())
}
