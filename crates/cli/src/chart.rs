//! The charts that commands draw. A program that was built without them says so.

use std::path::Path;

use sieve_core::agenda::{Hall, Played, Setting};
use sieve_core::design::Figures;
use sieve_core::fate::LossMap;
use sieve_core::ingest::Day;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

/// How a chart is drawn into a file.
#[derive(clap::Args, Clone)]
pub(crate) struct Look {
    /// Draw it for a dark background
    #[arg(long)]
    pub(crate) dark: bool,
}

#[cfg(feature = "charts")]
impl Look {
    const fn background(&self) -> sieve_charts::Background {
        if self.dark { sieve_charts::Background::Dark } else { sieve_charts::Background::Light }
    }
}

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
pub(crate) fn losses(path: &Path, look: &Look, map: &LossMap, title: &str) -> Result<()> {
    sieve_charts::save(path, look.background(), |canvas| {
        sieve_charts::losses::draw(canvas, map, title, WORDS)
    })
}

/// Plans beside each other.
#[cfg(feature = "charts")]
pub(crate) fn plans(
    path: &Path,
    look: &Look,
    title: &str,
    plans: &[Figures],
    recommended: Option<usize>,
) -> Result<()> {
    let draw = |canvas: &sieve_charts::Canvas<'_>| {
        sieve_charts::design::draw(canvas, title, plans, recommended, WORDS)
    };
    sieve_charts::save(path, look.background(), draw)
}

/// What waits on a cache through a day.
#[cfg(feature = "charts")]
pub(crate) fn day(path: &Path, look: &Look, day: &Day, cache: Option<ByteLength>) -> Result<()> {
    sieve_charts::save(path, look.background(), |canvas| {
        sieve_charts::ingest::draw(canvas, day, cache, WORDS)
    })
}

/// The coming days of an agenda.
#[cfg(feature = "charts")]
pub(crate) fn week(
    path: &Path,
    look: &Look,
    title: &str,
    setting: &Setting,
    (hall, played): (&Hall, &Played),
) -> Result<()> {
    let zone = jiff::tz::TimeZone::system();
    sieve_charts::save(path, look.background(), |canvas| {
        sieve_charts::week::draw(canvas, title, setting, hall, played, &zone)
    })
}

/// Charts for a page, as the text of an SVG; a program without charts has none.
pub(crate) mod inline {
    use super::*;

    /// A line over time: its name, and points of (days before now, value).
    #[cfg_attr(not(feature = "charts"), expect(dead_code, reason = "nothing is drawn"))]
    pub(crate) struct Line {
        pub(crate) name: String,
        pub(crate) points: Vec<(f64, f64)>,
    }

    /// How a trend is titled and drawn.
    #[cfg_attr(not(feature = "charts"), expect(dead_code, reason = "nothing is drawn"))]
    #[derive(Clone, Copy)]
    pub(crate) struct Trend {
        pub(crate) title: &'static str,
        pub(crate) unit: &'static str,
        pub(crate) from_zero: bool,
    }

    /// Rules that make charts of that class dark where the page is.
    #[cfg(feature = "charts")]
    pub(crate) fn dark_rules(class: &str) -> String {
        sieve_charts::dark_rules(class)
    }

    #[cfg(not(feature = "charts"))]
    pub(crate) fn dark_rules(_class: &str) -> String {
        String::new()
    }

    #[cfg(feature = "charts")]
    pub(crate) fn losses(map: &LossMap) -> Result<Option<String>> {
        sieve_charts::svg((1280, 800), |canvas| sieve_charts::losses::draw(canvas, map, "", WORDS)).map(Some)
    }

    #[cfg(feature = "charts")]
    pub(crate) fn week(
        title: &str,
        setting: &Setting,
        hall: &Hall,
        played: &Played,
    ) -> Result<Option<String>> {
        let zone = jiff::tz::TimeZone::system();
        let draw = |canvas: &sieve_charts::Canvas<'_>| {
            sieve_charts::week::draw(canvas, title, setting, hall, played, &zone)
        };
        sieve_charts::svg((1280, 800), draw).map(Some)
    }

    #[cfg(feature = "charts")]
    pub(crate) fn trend(trend: Trend, lines: Vec<Line>) -> Result<Option<String>> {
        let lines: Vec<_> = lines
            .into_iter()
            .map(|line| sieve_charts::trend::Line { name: line.name, points: line.points })
            .collect();
        let Trend { title, unit, from_zero } = trend;
        sieve_charts::svg((640, 360), |canvas| {
            sieve_charts::trend::draw(canvas, title, unit, &lines, from_zero)
        })
        .map(Some)
    }

    #[cfg(not(feature = "charts"))]
    pub(crate) fn losses(_map: &LossMap) -> Result<Option<String>> {
        Ok(None)
    }

    #[cfg(not(feature = "charts"))]
    pub(crate) fn week(
        _title: &str,
        _setting: &Setting,
        _hall: &Hall,
        _played: &Played,
    ) -> Result<Option<String>> {
        Ok(None)
    }

    #[cfg(not(feature = "charts"))]
    pub(crate) fn trend(_trend: Trend, _lines: Vec<Line>) -> Result<Option<String>> {
        Ok(None)
    }
}

#[cfg(not(feature = "charts"))]
pub(crate) fn week(
    _path: &Path,
    _look: &Look,
    _title: &str,
    _setting: &Setting,
    _played: (&Hall, &Played),
) -> Result<()> {
    none()
}

#[cfg(not(feature = "charts"))]
pub(crate) fn losses(_path: &Path, _look: &Look, _map: &LossMap, _title: &str) -> Result<()> {
    none()
}

#[cfg(not(feature = "charts"))]
pub(crate) fn plans(
    _path: &Path,
    _look: &Look,
    _title: &str,
    _plans: &[Figures],
    _recommended: Option<usize>,
) -> Result<()> {
    none()
}

#[cfg(not(feature = "charts"))]
pub(crate) fn day(_path: &Path, _look: &Look, _day: &Day, _cache: Option<ByteLength>) -> Result<()> {
    none()
}
