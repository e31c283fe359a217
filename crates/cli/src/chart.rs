//! The charts that commands draw. A program that was built without them says so.

use std::path::Path;

use sieve_core::agenda::{Hall, Played, Setting};
use sieve_core::design::Figures;
use sieve_core::fate::LossMap;
use sieve_core::ingest::Day;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

#[cfg(feature = "charts")]
const WORDS: sieve_charts::Words =
    sieve_charts::Words { size: crate::human::size, count: crate::human::count };

#[cfg(not(feature = "charts"))]
fn none() -> Result<()> {
    let message = "this program was built without charts";
    Err(sieve_disk::Error::new(sieve_disk::Kind::Usage, "chart.none", message)
        .remedy("build it with the feature `charts`, which is on by default; --json has the figures"))
}

/// What pairs of disks cost.
#[cfg(feature = "charts")]
pub(crate) fn losses(path: &Path, map: &LossMap, title: &str) -> Result<()> {
    sieve_charts::save(path, |canvas| sieve_charts::losses::draw(canvas, map, title, WORDS))
}

/// Plans beside each other.
#[cfg(feature = "charts")]
pub(crate) fn plans(path: &Path, title: &str, plans: &[Figures]) -> Result<()> {
    sieve_charts::save(path, |canvas| sieve_charts::design::draw(canvas, title, plans, WORDS))
}

/// What waits on a cache through a day.
#[cfg(feature = "charts")]
pub(crate) fn day(path: &Path, day: &Day, cache: Option<ByteLength>) -> Result<()> {
    sieve_charts::save(path, |canvas| sieve_charts::ingest::draw(canvas, day, cache, WORDS))
}

/// The coming days of an agenda.
#[cfg(feature = "charts")]
pub(crate) fn week(path: &Path, title: &str, setting: &Setting, hall: &Hall, played: &Played) -> Result<()> {
    let zone = jiff::tz::TimeZone::system();
    sieve_charts::save(path, |canvas| sieve_charts::week::draw(canvas, title, setting, hall, played, &zone))
}

#[cfg(not(feature = "charts"))]
pub(crate) fn week(
    _path: &Path,
    _title: &str,
    _setting: &Setting,
    _hall: &Hall,
    _played: &Played,
) -> Result<()> {
    none()
}

#[cfg(not(feature = "charts"))]
pub(crate) fn losses(_path: &Path, _map: &LossMap, _title: &str) -> Result<()> {
    none()
}

#[cfg(not(feature = "charts"))]
pub(crate) fn plans(_path: &Path, _title: &str, _plans: &[Figures]) -> Result<()> {
    none()
}

#[cfg(not(feature = "charts"))]
pub(crate) fn day(_path: &Path, _day: &Day, _cache: Option<ByteLength>) -> Result<()> {
    none()
}
