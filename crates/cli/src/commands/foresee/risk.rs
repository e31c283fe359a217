//! `risk`: how much to worry, and what would help.

use crate::human::amounts::{bytes, days, files, hours, often, stretch};
use std::collections::BTreeMap;

use anstyle::Style;
use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::health::raised_over_a_year;
use sieve_core::risk::{Action, Advice, Cause, Comparison, HabitSource, RateSource, Simulated};
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::paper;
use sieve_foresight::risk::{
    DiskRisk, Finding, FolderRisk, IntervalSource, Regularity, Request, VolumeRisk, risk,
};
use sieve_foresight::{Look, Others, Outlook, PoolOutlook};

use super::regularity::regularity;
use crate::args::{Documents, PaperArguments};
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, count, odds, percent_of, size, style, time, two_digits};
use crate::progress::{Watch, thinking};
use crate::shelf::Shelf;
use crate::{json, load};

json::named!("risk", Answer<'_>);

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

/// So many pieces of advice are shown.
const ADVICE: usize = 6;
/// So many folders are shown.
const FOLDERS: usize = 8;

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// All volumes.
    volumes: &'a [VolumeRisk],
    /// What should be known.
    notes: &'a [String],
}

pub(crate) fn run(context: &Context, asked: &RiskArguments) -> Result<Outcome> {
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
            let others = Others::read(&spec, &context.pool, now);
            note_others(&others, &mut notes);
            let _thinking = thinking("reckoning the odds");
            risk(&mut outlook, &request, Regularity::default(), &others)?
        }
        None => {
            let pool = load::pool(&context.pool)?;
            let done = regularity(&pool, now)?;
            let mut outlook = PoolOutlook::open(&pool, Look::Always, &Watch::begin(false)?)?;
            for missing in outlook.missing() {
                notes.push(format!(
                    "{} is missing: what it held is told as lost or guarded as it is now",
                    missing.name
                ));
            }
            let others = Others::read(&pool.spec, &context.pool, now);
            note_others(&others, &mut notes);
            let _thinking = thinking("reckoning the odds");
            risk(&mut outlook, &request, done, &others)?
        }
    };
    for volume in volumes.iter().filter(|volume| volume.beyond > 0.0) {
        notes.push(format!(
            "{}: still more disks failing together, {}, are not reckoned with: there are too many sets of them",
            volume.volume,
            often(volume.beyond)
        ));
    }
    let agrees = volumes.iter().flat_map(|v| &v.comparison).all(|line| line.agrees);
    if context.json {
        json::print(&Answer { volumes: &volumes, notes: &notes })?;
    } else {
        volumes.iter().for_each(|volume| show(volume, asked.advise));
        notes.iter().for_each(|note| crate::say!("\nnote: {note}"));
    }
    Ok(Outcome::well(agrees))
}

/// What the listings of other machines leave open.
fn note_others(others: &Others, notes: &mut Vec<String>) {
    notes.extend(
        others.stale().map(|name| format!("the listing of {name} is old: what it has may be gone there")),
    );
    let unread = others.unread.iter();
    notes.extend(unread.map(|unread| format!("the listing of {} is not there: {}", unread.name, unread.why)));
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

fn show(volume: &VolumeRisk, with_advice: bool) {
    let chance = volume.any_in_a_year;
    let paint = if chance < 0.001 {
        style::WELL
    } else if chance < 0.02 {
        style::WATCH
    } else {
        style::BAD
    };
    crate::answer!(
        "{}: the chance of losing anything within a year is {}\n",
        style::paint(style::HEAD, &volume.volume),
        style::paint(paint, odds(chance))
    );
    let [low, high] = volume.range.any_in_a_year;
    let ends = |low: String, high: String| {
        if low == high {
            String::new()
        } else {
            style::paint(style::FAINT, format!("   ({low} to {high})")).replace("about ", "")
        }
    };
    crate::say!(
        "  anything lost within a year   {}{}",
        style::paint(paint, odds(chance)),
        ends(odds(low), odds(high))
    );
    let [low, high] = volume.range.bytes;
    crate::say!(
        "  to be expected in a year      {}, {}{}",
        bytes(volume.total.bytes),
        files(volume.total.files),
        ends(bytes(low), bytes(high))
    );
    if let Some(gone) = volume.for_good {
        crate::say!("  of that on no other machine   {}, {}", bytes(gone.bytes), files(gone.files));
    }
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

pub(crate) const fn cause_words(cause: Cause) -> &'static str {
    match cause {
        Cause::Single => "one disk fails, and takes what was unguarded",
        Cause::Second => "a second disk fails during a rebuild",
        Cause::Further => "a third disk, or still another, fails beside them",
        Cause::Unreadable => "a sector cannot be read during a rebuild",
        Cause::Cache => "a cache fails, and takes what waits on it",
    }
}

fn show_causes(volume: &VolumeRisk) {
    style::heading("By cause");
    let mut table = Table::new(&["", ">a year", ">size a year", ">files a year"]);
    for (cause, figure) in &volume.odds.causes {
        if *cause == Cause::Cache && !volume.has_cache {
            let none = || ("-".to_string(), style::FAINT);
            let words = ("files wait unguarded on a cache: there is none".to_string(), style::FAINT);
            table.styled_row([words, none(), none(), none()]);
            continue;
        }
        let is_unknown = *cause == Cause::Single && volume.arrives.source == HabitSource::Unknown;
        table.row([
            cause_words(*cause).into(),
            if is_unknown && figure.events == 0.0 { "not known".into() } else { often(figure.events) },
            bytes(figure.bytes),
            files(figure.files),
        ]);
    }
    table.print();
}

fn show_folders(volume: &VolumeRisk) {
    style::heading("By folder");
    let name = |folder: &FolderRisk| match folder.folder.as_str() {
        "" => "(top)".to_string(),
        name => format!("{name}/"),
    };
    let shown = volume.folders.iter().take(FOLDERS);
    if volume.for_good.is_some() {
        let mut table = Table::new(&["folder", ">size a year", ">files a year", ">size on no other machine"]);
        for folder in shown {
            let for_good = bytes(folder.bytes_for_good.unwrap_or_default());
            table.row([name(folder), bytes(folder.bytes), files(folder.files), for_good]);
        }
        table.print();
    } else {
        let mut table = Table::new(&["folder", ">size a year", ">files a year"]);
        shown.for_each(|folder| table.row([name(folder), bytes(folder.bytes), files(folder.files)]));
        table.print();
    }
    if volume.folders.len() > FOLDERS {
        crate::say!("  and {} more (all with --json)", volume.folders.len() - FOLDERS);
    }
}

fn show_disks(volume: &VolumeRisk) {
    style::heading("Worked out from");
    let mut table =
        Table::new(&["disk", ">fails in a year", "?>low to high", ">back within", "??>of that rebuild", "?"]);
    for disk in &volume.disks {
        let raised = if disk.rate.raised > 1.0 {
            (format!("{:.1} times as likely by its health", disk.rate.raised), style::BAD)
        } else if disk.is_missing {
            ("missing now".into(), style::BAD)
        } else {
            (source_mark(disk).into(), style::FAINT)
        };
        table.styled_row([
            (disk.name.clone(), style::HEAD),
            (percent_of(disk.rate.share), Style::new()),
            (format!("{} to {}", percent_of(disk.rate.low), percent_of(disk.rate.high)), style::FAINT),
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
        IntervalSource::Agenda => "as the agenda has it",
        IntervalSource::Observed => "as the journal shows",
        IntervalSource::Assumed => {
            "assumed: no job of the agenda and too few in the journal tell; `sync_every` in [risk] says it"
        }
    };
    let faint = |text: String| crate::say!("  {}", style::paint(style::FAINT, text));
    faint(format!("a sync every {}, {how}", days(volume.sync_every_days)));
    faint(arriving(volume));
    faint(format!(
        "a disk of the same batch fails {} times as likely beside a rebuild",
        two_digits(volume.batch_factor)
    ));
}

/// What comes between syncs, and where that is known from.
fn arriving(volume: &VolumeRisk) -> String {
    let arrives = &volume.arrives;
    let what = format!("{} a day", bytes(arrives.bytes));
    let how = match arrives.source {
        HabitSource::Given => format!("{what} arrive, as the pool file says"),
        HabitSource::Observed { days: seen } => {
            format!("{what} arrive or change, as over the {} since the first sync", stretch(seen))
        }
        HabitSource::Unknown => {
            "nothing is known of what arrives between syncs, so nothing is counted: `arrives_a_day` in [risk] says it"
                .into()
        }
    };
    match arrives.waiting_bytes {
        Some(waiting) => format!("{how}; {} of it wait on the cache on average", bytes(waiting)),
        None if volume.has_cache => format!("{how}; on the cache counts what lies there now"),
        None => how,
    }
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
        let show = |value: f64| if line.what == "bytes" { bytes(value) } else { two_digits(value) };
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
    crate::say!(
        "  {}",
        style::paint(
            style::FAINT,
            "what is rare is played more often than it happens, and weighed by how rare it is"
        )
    );
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
        Table::new(&["", ">saves a year", "??>chance of a loss", "?>disk time", "?>price, saves each"]);
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
                if one.saves_chance > 0.0 { format!("{} less", odds(one.saves_chance)) } else { "-".into() },
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
        Action::SettleEvery { days: every } => format!("settle every {}", days(*every)),
        Action::MirrorCache { disk } => format!("mirror the cache {disk}"),
        Action::SyncEvery { days: every } => format!("sync every {}", days(*every)),
        Action::AddParity { capacity } => format!("one more parity drive, {}", size(*capacity)),
        Action::Replace { disk } => format!("replace {disk} by a new disk"),
        Action::Gather { folder, to, hits, hits_then, .. } => {
            let (now, then) = (odds(*hits), odds(*hits_then));
            format!("gather {} on {to}: hit {then} a year, not {now}", folder_words(folder))
        }
        Action::Move { folder, from, to, bytes } => {
            format!("move {} ({}) from {} to {}", folder_words(folder), size(*bytes), from, to)
        }
    }
}

fn folder_words(folder: &str) -> String {
    if folder.is_empty() { "the files at the top".into() } else { format!("{folder}/") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "never")]
    #[case(1e-9, "about 1 in 1,000 million")]
    #[case(0.00005, "about 1 in 20,000")]
    #[case(0.25, "about 1 in 4")]
    #[case(2.53, "2.5 times")]
    fn how_often_something_happens_in_a_year(#[case] events: f64, #[case] words: &str) {
        assert_eq!(often(events), words);
    }

    #[rstest]
    #[case(0.0, "0 files")]
    #[case(0.0004, "less than 0.01 files")]
    #[case(0.123, "0.12 files")]
    #[case(1.0, "1 file")]
    #[case(1234.4, "1,200 files")]
    fn files_have_two_digits(#[case] number: f64, #[case] words: &str) {
        assert_eq!(files(number), words);
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
}
