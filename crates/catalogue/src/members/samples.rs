//! How disks were over time: a few figures now and then, thinned with age, for curves and for foretelling when a disk is full.

use rusqlite::Connection;
use serde::Serialize;
use sieve_core::units::{ByteLength, DiskId};

use crate::{signed, unsigned};
use sieve_disk::Result;

/// Nanoseconds in an hour.
const HOUR: i64 = 3_600_000_000_000;
const DAY: i64 = 24 * HOUR;

/// From which age on samples are at least how far apart.
const THINNED: [(i64, i64); 3] = [(3 * DAY, DAY), (90 * DAY, 7 * DAY), (3 * 365 * DAY, 30 * DAY)];

/// How a disk was at a moment. What was not looked at is not known.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Sample {
    /// When, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    pub at: i64,
    /// What files take on it, or its parity image.
    pub used: Option<ByteLength>,
    /// What may be used of it in all.
    pub capacity: Option<ByteLength>,
    /// Bytes on it that were unguarded.
    pub unguarded: Option<ByteLength>,
    /// Degrees Celsius.
    pub celsius: Option<f64>,
    /// Sectors that were replaced by spare ones.
    pub reallocated: Option<u64>,
}

/// Keeps a sample. One that is less than an hour after the last is joined to it: what is known twice is as it is now.
///
/// # Errors
/// What the database says.
pub fn keep(c: &Connection, disk: DiskId, sample: &Sample) -> Result<()> {
    let recent =
        of_disk(c, disk, sample.at.saturating_sub(HOUR - 1))?.pop().filter(|last| last.at <= sample.at);
    let joined = recent.map_or(*sample, |last| Sample {
        at: last.at,
        used: sample.used.or(last.used),
        capacity: sample.capacity.or(last.capacity),
        unguarded: sample.unguarded.or(last.unguarded),
        celsius: sample.celsius.or(last.celsius),
        reallocated: sample.reallocated.or(last.reallocated),
    });
    if recent == Some(joined) {
        return Ok(());
    }
    let bytes = |bytes: Option<ByteLength>| bytes.map(|bytes| signed(bytes.exact()));
    c.prepare_cached(
        "INSERT OR REPLACE INTO sample (disk, at, used, capacity, unguarded, celsius, reallocated)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
    )?
    .execute((
        disk.get(),
        joined.at,
        bytes(joined.used),
        bytes(joined.capacity),
        bytes(joined.unguarded),
        joined.celsius,
        joined.reallocated.map(signed),
    ))?;
    THINNED.iter().try_for_each(|(age, apart)| thin(c, disk, sample.at.saturating_sub(*age), *apart))
}

/// Of all samples before a moment one stays in each stretch of time: the first.
fn thin(c: &Connection, disk: DiskId, before: i64, apart: i64) -> Result<()> {
    c.prepare_cached(
        "DELETE FROM sample WHERE disk = ?1 AND at < ?2 AND at NOT IN
             (SELECT MIN(at) FROM sample WHERE disk = ?1 AND at < ?2 GROUP BY at / ?3)",
    )?
    .execute((disk.get(), before, apart))?;
    Ok(())
}

/// The samples of a disk from a moment on, in order.
///
/// # Errors
/// What the database says.
pub fn of_disk(c: &Connection, disk: DiskId, since: i64) -> Result<Vec<Sample>> {
    let mut statement = c.prepare_cached(
        "SELECT at, used, capacity, unguarded, celsius, reallocated FROM sample
         WHERE disk = ?1 AND at >= ?2 ORDER BY at",
    )?;
    let bytes = |value: Option<i64>| value.map(|bytes| ByteLength::new(unsigned(bytes)));
    let samples = statement.query_map((disk.get(), since), |row| {
        Ok(Sample {
            at: row.get(0)?,
            used: bytes(row.get(1)?),
            capacity: bytes(row.get(2)?),
            unguarded: bytes(row.get(3)?),
            celsius: row.get(4)?,
            reallocated: row.get::<_, Option<i64>>(5)?.map(unsigned),
        })
    })?;
    Ok(samples.collect::<rusqlite::Result<_>>()?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn database() -> Connection {
        let mut c = Connection::open_in_memory().unwrap();
        crate::schema::migrate(&mut c).unwrap();
        c
    }

    #[test]
    fn samples_within_an_hour_are_joined_and_old_ones_are_thinned() {
        let (c, disk) = (database(), DiskId::new(3));
        let used =
            |at: i64, bytes: u64| Sample { at, used: Some(ByteLength::new(bytes)), ..Sample::default() };
        keep(&c, disk, &used(0, 5)).unwrap();
        let warm = Sample { at: HOUR / 2, celsius: Some(41.0), ..Sample::default() };
        keep(&c, disk, &warm).unwrap();
        let all = of_disk(&c, disk, 0).unwrap();
        assert_eq!((all.len(), all[0].used, all[0].celsius), (1, Some(ByteLength::new(5)), Some(41.0)));
        for hour in 2..24 * 200 {
            keep(&c, disk, &used(hour * HOUR, hour as u64)).unwrap();
        }
        let all = of_disk(&c, disk, 0).unwrap();
        // Three days of hours, 87 days, 110 days in weeks; a stretch may be cut.
        let expected = 72 + 87 + 16;
        assert!(all.len().abs_diff(expected) <= 4, "{}", all.len());
        assert!(all.windows(2).all(|pair| pair[0].at < pair[1].at));
    }
}
