//! When the rows of each cell of parity were last checked.

use rusqlite::Connection;
use sieve_core::lane::{IntervalMap, Rows, Splittable};
use sieve_core::units::CellIndex;

use super::{signed, unsigned};
use sieve_disk::Result;

/// When something was checked, nanoseconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct CheckedAt(pub i64);

impl Splittable for CheckedAt {
    fn advanced(&self, _cells: u64) -> Self {
        *self
    }
}

/// When each cell of a volume was last checked; intervals count in cells.
///
/// # Errors
/// What the database says.
pub fn all(c: &Connection, volume: &str) -> Result<IntervalMap<CheckedAt>> {
    let mut statement =
        c.prepare_cached("SELECT first, count, at FROM checked WHERE volume = ?1 ORDER BY first")?;
    let mut rows = statement.query([volume])?;
    let mut map = IntervalMap::default();
    while let Some(row) = rows.next()? {
        let cells = Rows::at(unsigned(row.get(0)?), unsigned(row.get(1)?));
        map.insert(cells, CheckedAt(row.get(2)?));
    }
    Ok(map)
}

/// Notes that cells were checked.
///
/// # Errors
/// What the database says.
pub fn note(c: &Connection, volume: &str, cells: &[CellIndex], at: i64) -> Result<()> {
    let mut map = all(c, volume)?;
    for cell in cells {
        map.insert(Rows::at(u64::from(cell.get()), 1), CheckedAt(at));
    }
    c.execute("DELETE FROM checked WHERE volume = ?1", [volume])?;
    let mut insert = c.prepare_cached("INSERT INTO checked VALUES (?1, ?2, ?3, ?4)")?;
    for interval in map.iter() {
        let (first, count) = (signed(interval.rows.start()), signed(interval.rows.length()));
        insert.execute((volume, first, count, interval.value.0))?;
    }
    Ok(())
}
