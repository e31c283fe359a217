//! What was: curves over time, and what the journal says of the last days.

use std::ops::ControlFlow;

use serde::Serialize;
use sieve_disk::Result;
use sieve_pool::journal::{self, Did, Ended, Entry};
use sieve_pool::pool::Pool;

use crate::chart::inline;
use crate::commands::watch::journal as lines;
use crate::human::time;

/// Nanoseconds in a day.
const DAY: i64 = 86_400_000_000_000;
/// So many lines of the journal are told, of so many days.
const LINES: usize = 40;
const DAYS: i64 = 7;

#[derive(Serialize)]
pub(super) struct Line {
    when: String,
    did: String,
    ended: &'static str,
    class: &'static str,
    what: String,
}

pub(super) fn trends(pool: &Pool) -> Result<Vec<String>> {
    let now = pool.machine.now();
    let mut samples = Vec::new();
    for member in &pool.members {
        let of_disk = sieve_catalogue::samples::of_disk(pool.catalogue.reading(), member.row.id, 0)?;
        samples.push((member.row.name.clone(), of_disk));
    }
    let lines = |value: &dyn Fn(&sieve_catalogue::samples::Sample) -> Option<f64>| {
        let line = |(name, samples): &(String, Vec<sieve_catalogue::samples::Sample>)| inline::Line {
            name: name.clone(),
            points: samples
                .iter()
                .filter_map(|sample| {
                    Some((sample.at.saturating_sub(now) as f64 / DAY as f64, value(sample)?))
                })
                .collect(),
        };
        samples.iter().map(line).filter(|line| line.points.len() > 1).collect::<Vec<_>>()
    };
    let full =
        lines(&|sample| Some(sample.used?.exact() as f64 / sample.capacity?.exact().max(1) as f64 * 100.0));
    let warm = lines(&|sample| sample.celsius);
    let bad = lines(&|sample| sample.reallocated.map(|number| number as f64));
    // What was always nothing needs no curve.
    let mut open = lines(&|sample| Some(sample.unguarded?.exact() as f64));
    open.retain(|line| line.points.iter().any(|(_, bytes)| *bytes > 0.0));
    let most = open.iter().flat_map(|line| &line.points).map(|(_, bytes)| *bytes).fold(0.0, f64::max);
    let (divisor, unit_of_bytes) = unit_for(most);
    open.iter_mut().flat_map(|line| &mut line.points).for_each(|(_, bytes)| *bytes /= divisor);
    let mut drawn = Vec::new();
    for (title, unit, lines, from_zero) in [
        ("How full", "%", full, true),
        ("How warm", "°C", warm, false),
        ("Sectors replaced by spare ones", "", bad, true),
        ("Unguarded", unit_of_bytes, open, true),
    ] {
        if !lines.is_empty() {
            drawn.extend(inline::trend(inline::Trend { title, unit, from_zero }, lines)?);
        }
    }
    Ok(drawn)
}

/// The unit in which so many bytes are a number of one to three digits.
fn unit_for(bytes: f64) -> (f64, &'static str) {
    let units = [(1e12, "TB"), (1e9, "GB"), (1e6, "MB"), (1e3, "kB")];
    units.into_iter().find(|(divisor, _)| bytes >= *divisor).unwrap_or((1.0, "B"))
}

pub(super) fn last_days(pool: &Pool) -> Result<Vec<Line>> {
    let since = pool.machine.now().saturating_sub(DAYS * DAY);
    let mut found: Vec<Line> = Vec::new();
    journal::backward(&*pool.home, |entry| {
        if entry.at < since || found.len() >= LINES {
            return ControlFlow::Break(());
        }
        if !matches!(entry.did, Did::Moved | Did::Removed | Did::Replaced) {
            found.push(line(&entry));
        }
        ControlFlow::Continue(())
    })?;
    Ok(found)
}

fn line(entry: &Entry) -> Line {
    Line {
        when: time::moment_in_a_row(entry.at),
        did: entry.did.word().to_string(),
        ended: if entry.ended == Ended::Done { "" } else { entry.ended.word() },
        class: match entry.ended {
            Ended::Done => "",
            Ended::NotWell | Ended::Stopped => "watch",
            Ended::Refused | Ended::Failed => "bad",
        },
        what: lines::what(entry),
    }
}
