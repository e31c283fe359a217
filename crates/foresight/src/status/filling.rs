//! When a disk will be full.

use sieve_core::forecast::{Filling, filling};
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use super::report::DiskStatus;

/// Nanoseconds in a day.
const DAY: i64 = 86_400_000_000_000;
/// How far back the points go that the line of a disk that fills is laid through.
const LOOK_BACK: i64 = 90 * DAY;

/// When a disk will be full by the samples of the last months; none where it does not grow, or little is known.
///
/// # Errors
/// What the database says.
pub fn filling_of(pool: &Pool, disk: &DiskStatus) -> Result<Option<Filling>> {
    let now = pool.machine.now();
    let member = pool.member_named(&disk.name)?;
    let samples = sieve_catalogue::samples::of_disk(
        pool.catalogue.reading(),
        member.row.id,
        now.saturating_sub(LOOK_BACK),
    )?;
    let mut points: Vec<(f64, f64)> = samples
        .iter()
        .filter_map(|sample| Some((sample.at as f64 / DAY as f64, sample.used?.exact() as f64)))
        .collect();
    points.push((now as f64 / DAY as f64, disk.used.exact() as f64));
    Ok(filling(&points, disk.used.plus(disk.free).exact() as f64))
}
