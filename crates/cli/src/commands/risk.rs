//! `risk`: how much to worry, and what would help.

use std::collections::BTreeMap;

use anstyle::Style;
use clap::Args;
use serde::Serialize;
use sieve_core::health::raised_over_a_year;
use sieve_core::risk::{Action, Advice, Cause, Comparison, RateSource, Simulated};
use sieve_core::units::ByteLength;
use sieve_store::fate::{Outlook, PoolOutlook};
use sieve_store::risk::{DiskRisk, Finding, IntervalSource, Request, VolumeRisk, risk};
use sieve_store::{Error, Kind, Result, journal, paper};

use super::Context;
use crate::args::{Documents, PaperArguments};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, time};
use crate::shelf::Shelf;
use crate::{json, load};

/// How the risk is worked out.
#[derive(Args)]
pub(crate) struct RiskArguments {
    /// Work out the few actions that would help most
    #[arg(long)]
    pub(crate) advise: bool,
    /// Play so many years by chance, and hold the result against the computed one
    #[arg(long, value_name = "YEARS")]
    pub(crate) simulate: Option<f64>,
    /// The seed of the play: the same seed plays the same years
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub(crate) seed: u64,
    #[command(flatten)]
    pub(crate) from: Documents,
    #[command(flatten)]
    pub(crate) paper: PaperArguments,
}

/// So many past syncs tell how often there is one.
const SYNCS: usize = 10;
/// So many pieces of advice are shown.
const ADVICE: usize = 6;
/// So many folders are shown.
const FOLDERS: usize = 8;

#[derive(Serialize)]
struct Answer<'a> {
    volumes: &'a [VolumeRisk],
    notes: &'a [String],
}

pub(super) fn run(context: &Context, asked: &RiskArguments) -> Result<Outcome> {
    let now = crate::machine::real().now();
    let mut notes = Vec::new();
    let request = Request {
        findings: findings(context, asked, &mut notes)?,
        today: time::date(now),
        simulate: asked.simulate.map(years).transpose()?,
        seed: asked.seed,
        advise: asked.advise,
    };
    let files = asked.paper.files.as_deref();
    let volumes = match load::spec_on_paper(&context.pool, files.is_some())? {
        Some(spec) => {
            let mut outlook = paper::load(&spec, asked.paper.volume.volume.as_deref(), files)?;
            notes.push("on paper every file counts as synced".into());
            risk(&mut outlook, &request, None)?
        }
        None => {
            let pool = load::pool(&context.pool)?;
            let gap = mean_gap(&journal::times(&*pool.home, "sync")?);
            let mut outlook = PoolOutlook::open(&pool)?;
            for missing in outlook.missing() {
                notes.push(format!(
                    "{} is missing: what it held is told as lost or guarded as it is now",
                    missing.name
                ));
            }
            risk(&mut outlook, &request, gap)?
        }
    };
    let agrees = volumes.iter().flat_map(|v| &v.comparison).all(|line| line.agrees);
    if context.json {
        json::print(&Answer { volumes: &volumes, notes: &notes })?;
    } else {
        volumes.iter().for_each(|volume| show(volume, asked.advise));
        notes.iter().for_each(|note| crate::say!("\nnote: {note}"));
    }
    Ok(Outcome::well(agrees))
}

fn years(years: f64) -> Result<f64> {
    if (1.0..=1e9).contains(&years) {
        return Ok(years);
    }
    Err(Error::new(Kind::Usage, "risk.years", format!("{years} years cannot be played"))
        .remedy("name a number of years from 1 to 1e9: --simulate 100000"))
}

/// What the disks report of themselves: by name, where one was asked.
fn findings(
    context: &Context,
    asked: &RiskArguments,
    notes: &mut Vec<String>,
) -> Result<BTreeMap<String, Finding>> {
    let shelf = match Shelf::look(&context.pool, asked.from.from.as_deref()) {
        Ok(shelf) => shelf,
        Err(error) if asked.from.from.is_none() && error.kind != Kind::Usage => {
            notes.push(format!("the disks could not be asked about themselves: {error}"));
            return Ok(BTreeMap::new());
        }
        Err(error) => return Err(error),
    };
    let mut found = BTreeMap::new();
    for item in shelf.items() {
        if let (Some(name), Some(report)) = (item.name, item.report()) {
            let raised = raised_over_a_year(&shelf.judge(&item)?.checks);
            found.insert(name.to_string(), Finding { raised, hours: report.hours });
        }
    }
    Ok(found)
}

/// Days from sync to sync, over the last ones.
fn mean_gap(times: &[i64]) -> Option<f64> {
    let recent = &times[times.len().saturating_sub(SYNCS + 1)..];
    let (first, last) = (recent.first()?, recent.last()?);
    let gaps = recent.len() - 1;
    (gaps > 0).then(|| (last - first) as f64 / 86_400e9 / gaps as f64).filter(|days| *days > 0.0)
}

fn show(volume: &VolumeRisk, with_advice: bool) {
    crate::say!("{}\n", style::paint(style::HEAD, format!("{}: what a year may cost", volume.volume)));
    let chance = volume.any_in_a_year;
    let paint = if chance < 0.001 {
        style::WELL
    } else if chance < 0.02 {
        style::WATCH
    } else {
        style::BAD
    };
    crate::say!("  anything lost within a year   {}", style::paint(paint, percent(chance)));
    crate::say!(
        "  to be expected in a year      {}, {} files",
        bytes(volume.total.bytes),
        small(volume.total.files)
    );
    show_causes(volume);
    show_folders(volume);
    show_disks(volume);
    if let Some(simulated) = &volume.simulated {
        show_simulation(simulated, &volume.comparison);
    }
    if with_advice {
        show_advice(&volume.advice);
    }
}

const fn cause_words(cause: Cause) -> &'static str {
    match cause {
        Cause::Single => "one disk fails, and takes what was unguarded",
        Cause::Second => "a second disk fails during a rebuild",
        Cause::Unreadable => "a sector cannot be read during a rebuild",
        Cause::Cache => "a cache fails, and takes what waits on it",
    }
}

fn show_causes(volume: &VolumeRisk) {
    style::heading("By cause");
    let mut table = Table::new(&["", ">happens", ">size a year", ">files a year"]);
    for (cause, figure) in &volume.odds.causes {
        if *cause == Cause::Cache && !volume.has_cache {
            let none = || ("-".to_string(), style::FAINT);
            let words = ("files wait unguarded on a cache: there is none".to_string(), style::FAINT);
            table.styled_row([words, none(), none(), none()]);
            continue;
        }
        table.row([
            cause_words(*cause).into(),
            often(figure.events),
            bytes(figure.bytes),
            small(figure.files),
        ]);
    }
    table.print();
}

fn show_folders(volume: &VolumeRisk) {
    style::heading("By folder");
    let mut table = Table::new(&["folder", ">size a year", ">files a year"]);
    for folder in volume.folders.iter().take(FOLDERS) {
        let name = if folder.folder.is_empty() { "(top)".to_string() } else { format!("{}/", folder.folder) };
        table.row([name, bytes(folder.bytes), small(folder.files)]);
    }
    table.print();
    if volume.folders.len() > FOLDERS {
        crate::say!("  and {} more (all with --json)", volume.folders.len() - FOLDERS);
    }
}

fn show_disks(volume: &VolumeRisk) {
    style::heading("Worked out from");
    let mut table = Table::new(&["disk", ">fails in a year", ">back within", ">of that rebuild", ""]);
    for disk in &volume.disks {
        let raised = if disk.rate.raised > 1.0 {
            (format!("{:.0} times as likely by its health", disk.rate.raised), style::BAD)
        } else if disk.is_missing {
            ("missing now".into(), style::BAD)
        } else {
            (source_mark(disk).into(), style::FAINT)
        };
        table.styled_row([
            (disk.name.clone(), style::HEAD),
            (percent(disk.rate.share), Style::new()),
            (days(disk.window_days), Style::new()),
            (hours(disk.rebuild_hours), Style::new()),
            raised,
        ]);
    }
    table.print();
    let mut sources: Vec<&str> = volume
        .disks
        .iter()
        .filter_map(|disk| match disk.rate.source {
            RateSource::Published(title) => Some(title),
            RateSource::Given => None,
        })
        .collect();
    sources.sort_unstable();
    sources.dedup();
    for source in sources {
        crate::say!("  {}", style::paint(style::FAINT, format!("rates: {source}")));
    }
    let how = match volume.sync_every_source {
        IntervalSource::Given => "as the pool file says",
        IntervalSource::Observed => "as the journal shows",
        IntervalSource::Assumed => "assumed",
    };
    crate::say!(
        "  {}",
        style::paint(
            style::FAINT,
            format!(
                "a sync every {}, {how}; a disk of the same batch fails {:.0} times as likely beside a rebuild",
                days(volume.sync_every_days),
                volume.batch_factor
            )
        )
    );
}

const fn source_mark(disk: &DiskRisk) -> &'static str {
    match disk.rate.source {
        RateSource::Given => "your own figure",
        RateSource::Published(_) => "by media and age",
    }
}

fn show_simulation(simulated: &Simulated, comparison: &[Comparison]) {
    style::heading(&format!(
        "Played: {} years, {} failures",
        count(simulated.years as u64),
        count(simulated.failures)
    ));
    let mut table = Table::new(&["a year", ">computed", ">played", ">± error bar", ""]);
    for line in comparison {
        let what = match (line.cause, line.what) {
            (None, _) => "failures that cost anything".to_string(),
            (Some(cause), "bytes") => format!("size: {}", cause_words(cause)),
            (Some(cause), _) => format!("times: {}", cause_words(cause)),
        };
        let show = |value: f64| if line.what == "bytes" { bytes(value) } else { format!("{value:.6}") };
        let verdict =
            if line.agrees { ("agrees".into(), style::WELL) } else { ("differs".into(), style::BAD) };
        table.styled_row([
            (what, Style::new()),
            (show(line.closed), Style::new()),
            (show(line.simulated), Style::new()),
            (show(line.error), style::FAINT),
            verdict,
        ]);
    }
    table.print();
    if simulated.thirds > 0 {
        crate::say!(
            "  a third disk failed beside two {} times; what that costs is in neither column",
            count(simulated.thirds)
        );
    }
    let words = if comparison.iter().all(|line| line.agrees) {
        style::paint(style::WELL, "Both agree within the error bars.")
    } else {
        style::paint(
            style::BAD,
            "They do not agree within the error bars: play more years, with another --seed.",
        )
    };
    crate::say!("  {words}");
}

fn show_advice(advice: &[Advice]) {
    style::heading("What would help most, by what it saves for an hour of disk time");
    if advice.is_empty() {
        crate::say!("  nothing that is worth a word");
        return;
    }
    let mut table =
        Table::new(&["", ">saves a year", ">chance of a loss", ">disk time", ">price, saves each"]);
    for one in advice.iter().take(ADVICE) {
        let price = one.price.as_ref().map(|price| {
            let units = (price.hundredths as f64 / 100.0).max(0.01);
            format!("{price}, {}", bytes(one.saves_bytes / units))
        });
        table.styled_row([
            (action_words(&one.action), style::HEAD),
            match one.action {
                Action::Gather { .. } => ("-".into(), style::FAINT),
                _ => (bytes(one.saves_bytes), style::WELL),
            },
            (
                if one.saves_chance > 0.0 { format!("−{}", percent(one.saves_chance)) } else { "-".into() },
                Style::new(),
            ),
            (hours(one.disk_hours), Style::new()),
            (price.unwrap_or_else(|| "-".into()), Style::new()),
        ]);
    }
    table.leave_blanks_out();
    table.print();
}

fn action_words(action: &Action) -> String {
    match action {
        Action::SyncNow => "sync now (against leaving it as it is)".into(),
        Action::SettleNow => "settle now, and sync".into(),
        Action::MirrorCache { disk } => format!("mirror the cache {disk}"),
        Action::SyncEvery { days: every } => format!("sync every {}", days(*every)),
        Action::AddParity { capacity } => format!("one more parity drive, {}", size(*capacity)),
        Action::Replace { disk } => format!("replace {disk} by a new disk"),
        Action::Gather { folder, to, hits, hits_then, .. } => {
            let years = |hits: f64| count((1.0 / hits.max(1e-9)).round() as u64);
            let (now, then) = (years(*hits), years(*hits_then));
            format!("gather {} on {to}: a hit in {then} years, not {now}", folder_words(folder))
        }
        Action::Move { folder, from, to, bytes } => {
            format!("move {} ({}) from {} to {}", folder_words(folder), size(*bytes), from, to)
        }
    }
}

fn folder_words(folder: &str) -> String {
    if folder.is_empty() { "the files at the top".into() } else { format!("{folder}/") }
}

fn bytes(bytes: f64) -> String {
    size(ByteLength::new(bytes.max(0.0).round() as u64))
}

fn small(number: f64) -> String {
    if number >= 100.0 {
        count(number.round() as u64)
    } else if number >= 0.01 || number == 0.0 {
        format!("{number:.2}")
    } else {
        format!("{number:.1e}")
    }
}

fn percent(share: f64) -> String {
    let percent = share * 100.0;
    if percent == 0.0 {
        "0 %".into()
    } else if percent < 0.0001 {
        "< 0.0001 %".into()
    } else if percent < 0.1 {
        format!("{percent:.4} %")
    } else {
        format!("{percent:.1} %")
    }
}

/// "3.2 times a year", "once in 40 years", "never".
fn often(events: f64) -> String {
    if events <= 0.0 {
        "never".into()
    } else if events >= 1.0 {
        format!("{events:.1} times a year")
    } else if events > 1e-9 {
        format!("once in {} years", count((1.0 / events).round() as u64))
    } else {
        "hardly ever".into()
    }
}

fn days(days: f64) -> String {
    if days < 1.0 {
        hours(days * 24.0)
    } else if (days - 1.0).abs() < 0.05 {
        "day".into()
    } else {
        format!("{days:.1} days").replace(".0 days", " days")
    }
}

fn hours(hours: f64) -> String {
    if hours < 1.0 { format!("{:.0} min", (hours * 60.0).max(1.0)) } else { format!("{hours:.1} h") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "never")]
    #[case(1e-12, "hardly ever")]
    #[case(0.00005, "once in 20,000 years")]
    #[case(0.25, "once in 4 years")]
    #[case(2.5, "2.5 times a year")]
    fn rates_are_told_in_years(#[case] events: f64, #[case] words: &str) {
        assert_eq!(often(events), words);
    }

    #[rstest]
    #[case(0.0, "0 %")]
    #[case(1e-9, "< 0.0001 %")]
    #[case(0.00025, "0.0250 %")]
    #[case(0.08, "8.0 %")]
    #[case(1.0, "100.0 %")]
    fn shares_keep_the_digits_that_matter(#[case] share: f64, #[case] words: &str) {
        assert_eq!(percent(share), words);
    }

    #[rstest]
    #[case(0.0, "0.00")]
    #[case(0.0004, "4.0e-4")]
    #[case(0.123, "0.12")]
    #[case(1234.4, "1,234")]
    fn small_numbers_stay_numbers(#[case] number: f64, #[case] words: &str) {
        assert_eq!(small(number), words);
    }

    #[rstest]
    #[case(0.01, "14 min")]
    #[case(0.5, "12.0 h")]
    #[case(1.0, "day")]
    #[case(3.0, "3 days")]
    #[case(3.7, "3.7 days")]
    fn stretches_of_days_are_told(#[case] stretch: f64, #[case] words: &str) {
        assert_eq!(days(stretch), words);
    }

    #[rstest]
    #[case(&[], None)]
    #[case(&[5], None)]
    #[case(&[5, 5], None)]
    #[case(&[0, 2, 4, 9], Some(3.0))]
    fn past_syncs_tell_how_often_there_is_one(#[case] days: &[i64], #[case] gap: Option<f64>) {
        let times: Vec<i64> = days.iter().map(|day| day * 86_400_000_000_000).collect();
        assert_eq!(mean_gap(&times), gap);
    }

    #[test]
    fn only_the_last_syncs_count() {
        let mut times: Vec<i64> = (0..5).map(|n| n * 30 * 86_400_000_000_000).collect();
        let last = times[4];
        times.extend((1..=10).map(|n| last + n * 86_400_000_000_000));
        assert_eq!(mean_gap(&times), Some(1.0));
    }
}
