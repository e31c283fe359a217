//! `agenda`: what is done when, what collides, times at which nothing does, and doing it.

mod draw;
mod export;
mod others;
mod runner;
mod solved;
mod watch;
pub(crate) mod words;

use std::path::PathBuf;

use clap::Args;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::agenda::{Clash, Exposure, Hall, Played, Run, Setting, Span, judge, play, wanted};
use sieve_core::forecast::Duration;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::agenda::{ArrivalSource, Outline, outline};
use sieve_pool::pool::Pool;
use sieve_pool::writer::at_work;

use crate::args::RestraintArguments;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, time};
use crate::{chart, json, load};

json::named!("agenda", Answer<'_>);

/// So many lines of the table are shown; what comes around all day is told in one.
const ROWS: usize = 30;
/// A job that runs so often in the time that is shown is told in one line.
const OFTEN: usize = 10;

/// What is shown of the agenda, or done.
#[derive(Args)]
pub(crate) struct AgendaArguments {
    /// So many days are shown
    #[arg(long, value_name = "NUMBER", default_value_t = 7, value_parser = clap::value_parser!(u16).range(1..=366))]
    days: u16,
    /// Find times at which nothing collides
    #[arg(long, conflicts_with_all = ["export", "run", "due"])]
    solve: bool,
    /// Write the times that were found into the pool file; comments stay
    #[arg(long, requires = "solve")]
    write: bool,
    /// Draw the days into a new file, .svg or .png
    #[arg(long, value_name = "FILE")]
    chart: Option<PathBuf>,
    #[command(flatten)]
    look: chart::Look,
    /// Write a calendar (ics), units of the system's service manager (timers) or crontab lines (cron) into a folder;
    /// nothing is installed
    #[arg(long, value_names = ["KIND", "DIR"], num_args = 2, conflicts_with_all = ["run", "due"])]
    export: Option<Vec<String>>,
    /// Stay in the foreground and do what is due, until a signal comes
    #[arg(long, conflicts_with = "due")]
    run: bool,
    /// Do what is due now, and end
    #[arg(long)]
    due: bool,
    #[command(flatten)]
    restraint: RestraintArguments,
}

impl AgendaArguments {
    /// Whether the coming days are shown, and nothing else is done.
    pub(crate) const fn is_only_looked_at(&self) -> bool {
        !self.run && !self.due && !self.solve && self.export.is_none()
    }
}

/// The agenda, as `--json` has it.
#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The time zone of the times in the pool file.
    zone: String,
    /// What runs in the days that were asked for.
    runs: Vec<TimedRun<'a>>,
    /// What collides in four weeks.
    clashes: Vec<words::Told>,
    /// How long new files are unguarded, by four weeks.
    exposure: Vec<Exposed<'a>>,
    /// Hours that disks are awake in a week, all disks added up.
    disk_hours_a_week: f64,
    /// What is under way.
    at_work: Option<sieve_pool::writer::AtWork>,
}

#[derive(Serialize, JsonSchema)]
struct TimedRun<'a> {
    /// The job.
    job: &'a str,
    /// When it begins.
    begins: String,
    /// When it is likely to end.
    likely_end: String,
    /// When it ends, cautiously.
    cautious_end: String,
    /// The disks that it keeps awake.
    disks: Vec<&'a str>,
    /// It is stopped by the end of the usable hours, and goes on in the next ones.
    stopped: bool,
}

#[derive(Serialize, JsonSchema)]
struct Exposed<'a> {
    /// The volume.
    volume: &'a str,
    #[serde(flatten)]
    exposure: Exposure,
    /// What arrives in a day.
    #[serde(rename = "arrives_bytes_a_day")]
    arrives_a_day: ByteLength,
    /// Where that comes from.
    arrivals: ArrivalSource,
}

/// All that is shown.
struct Week<'a> {
    outline: &'a Outline,
    hall: Hall,
    /// The days that are shown.
    days: Played,
    /// What four weeks come to.
    clashes: Vec<Clash>,
    month: Played,
    zone: TimeZone,
}

pub(crate) fn run(context: &Context, arguments: &AgendaArguments) -> Result<Outcome> {
    if arguments.run || arguments.due {
        return runner::run(context, &arguments.restraint, arguments.run);
    }
    let pool = load::pool(&context.pool)?;
    if pool.spec.agenda.jobs.is_empty() {
        return Err(words::no_jobs());
    }
    let (outline, zone) = (outline(&pool)?, TimeZone::system());
    let now = pool.machine.now().div_euclid(1_000_000_000);
    if arguments.solve {
        return solved::run(context, &outline, now, &zone, arguments.write);
    }
    let week = Week::of(&outline, now, arguments.days, zone);
    if let Some(path) = &arguments.chart {
        chart::week(path, &arguments.look, &pool.spec.name, &week.outline.setting, (&week.hall, &week.days))?;
    }
    if let Some(export) = &arguments.export {
        return export::run(context, &pool, (&outline, &week.month), export);
    }
    if context.json {
        json::print(&week.answer(&pool))?;
    } else {
        week.show(&pool);
    }
    Ok(Outcome::well(week.clashes.is_empty()))
}

impl<'a> Week<'a> {
    fn of(outline: &'a Outline, now: i64, days: u16, zone: TimeZone) -> Self {
        let setting = &outline.setting;
        let month = judge(setting, now, &zone);
        let within = Span { from: now, until: now + i64::from(days) * 86_400 };
        let hall = Hall::of(setting, within, &zone);
        let days = play(setting, &hall, &wanted(setting, &hall, &zone));
        Self { outline, hall, days, clashes: month.clashes, month: month.played, zone }
    }

    fn setting(&self) -> &Setting {
        &self.outline.setting
    }

    fn answer(&self, pool: &Pool) -> Answer<'_> {
        let setting = self.setting();
        let at = |second: i64| sieve_core::moment::text(second * 1_000_000_000);
        let run = |run: &Run| {
            let job = &setting.jobs[run.job];
            TimedRun {
                job: &job.name,
                begins: at(run.begin),
                likely_end: at(run.end),
                cautious_end: at(run.cautious_end),
                disks: job.disks.iter().map(|disk| setting.disks[*disk].as_str()).collect(),
                stopped: run.stopped,
            }
        };
        let exposed = |(position, exposure): (usize, &Exposure)| Exposed {
            volume: &setting.volumes[position].name,
            exposure: *exposure,
            arrives_a_day: setting.volumes[position].arrives_a_day,
            arrivals: self.outline.arrivals[position],
        };
        Answer {
            zone: self.zone.iana_name().unwrap_or("local").to_string(),
            runs: self.days.runs.iter().map(run).collect(),
            clashes: self.clashes.iter().map(|clash| words::Told::of(setting, clash)).collect(),
            exposure: self.month.exposure.iter().enumerate().map(exposed).collect(),
            disk_hours_a_week: words::a_week(self.month.disk_hours),
            at_work: at_work(&*pool.home),
        }
    }

    fn show(&self, pool: &Pool) {
        self.show_answer();
        if let Some(work) = at_work(&*pool.home) {
            crate::say!("Now at work: {}, since {}.", work.what, time::moment(work.since));
        }
        crate::say!();
        draw::week(&self.setting().jobs, &self.hall, &self.days, &self.zone);
        crate::say!("\nTimes are in {}.", self.zone_in_words());
        self.show_runs();
        self.show_clashes();
        self.show_figures();
    }

    fn zone_in_words(&self) -> String {
        let short = time::zone(self.hall.within.from * 1_000_000_000);
        self.zone.iana_name().map_or(short, String::from)
    }

    fn show_answer(&self) {
        let (text, paint) = match self.clashes.len() {
            0 => ("Nothing collides in the coming four weeks.".to_string(), style::WELL),
            1 => ("One thing collides in the coming four weeks.".to_string(), style::WATCH),
            number => {
                (format!("{} things collide in the coming four weeks.", count(number as u64)), style::WATCH)
            }
        };
        crate::answer!("{}", style::paint(paint, text));
    }

    fn show_runs(&self) {
        let setting = self.setting();
        let times = |job: usize| self.days.runs.iter().filter(move |run| run.job == job);
        let is_often = |job: usize| times(job).count() >= OFTEN;
        crate::say!();
        let mut table = Table::new(&["begins", "", "job", ">takes", "ends", "?at the latest", "??disks"]);
        let rare: Vec<&Run> = self.days.runs.iter().filter(|run| !is_often(run.job)).collect();
        for run in rare.iter().take(ROWS) {
            let second = |at: i64| at * 1_000_000_000;
            let ends = if run.stopped { "stopped, goes on".into() } else { time::clock(second(run.end)) };
            table.row([
                time::weekday_in_a_row(second(run.begin)),
                draw::letter(run.job).to_string(),
                setting.jobs[run.job].name.clone(),
                Duration::from_seconds((run.end - run.begin) as f64).to_string(),
                ends,
                time::clock(second(run.cautious_end)),
                self.disks(run.job),
            ]);
        }
        for job in (0..setting.jobs.len()).filter(|job| is_often(*job)) {
            let longest = times(job).map(|run| run.end - run.begin).max().unwrap_or(0);
            table.row([
                setting.jobs[job].when.to_string(),
                draw::letter(job).to_string(),
                setting.jobs[job].name.clone(),
                Duration::from_seconds(longest as f64).to_string(),
                format!("{} times", count(times(job).count() as u64)),
                "-".into(),
                self.disks(job),
            ]);
        }
        table.print();
        if rare.len() > ROWS {
            crate::say!("  and {} more (all with --json)", count((rare.len() - ROWS) as u64));
        }
    }

    /// The disks that a job keeps awake; where it is all of them, nobody has to read their names.
    fn disks(&self, job: usize) -> String {
        let setting = self.setting();
        let disks = &setting.jobs[job].disks;
        match disks.len() {
            0 => "none".into(),
            number if number == setting.disks.len() => "all".into(),
            _ => sieve_core::suggest::listed(disks.iter().map(|disk| setting.disks[*disk].as_str())),
        }
    }

    fn show_clashes(&self) {
        if self.clashes.is_empty() {
            return;
        }
        style::heading("What collides in the coming four weeks:");
        for clash in &self.clashes {
            let (what, mend) = words::sentence(self.setting(), clash);
            crate::say!("  {}\n      {mend}", style::paint(style::WATCH, what));
        }
        crate::say!("\n  `zinc-sieve agenda --solve` finds times at which as little as can be collides.");
    }

    fn show_figures(&self) {
        crate::say!();
        for (position, exposure) in self.month.exposure.iter().enumerate() {
            let volume = &self.setting().volumes[position];
            show_exposure(volume, exposure, self.outline.arrivals[position]);
        }
        crate::say!("Disks are awake for {:.0} hours a week in all.", words::a_week(self.month.disk_hours));
        let corrected = self.outline.runs.iter().filter(|runs| **runs > 0).count();
        let basis = match corrected {
            0 => "forecast from the curves of the disks".to_string(),
            all if all == self.outline.runs.len() => "forecast, corrected by earlier runs".to_string(),
            some => format!("forecast; those of {} jobs are corrected by earlier runs", count(some as u64)),
        };
        crate::say!("{}", style::paint(style::FAINT, format!("Durations are {basis}.")));
    }
}

fn show_exposure(volume: &sieve_core::agenda::Inflow, exposure: &Exposure, source: ArrivalSource) {
    let long = |seconds: f64| Duration::from_seconds(seconds).to_string();
    if !volume.has_guard {
        return;
    }
    let a_day = size(volume.arrives_a_day);
    let arrives = match source {
        ArrivalSource::Given => format!("{a_day} arrive in a day, as the pool file says"),
        ArrivalSource::Observed => format!("{a_day} arrive in a day, as since the first sync"),
        ArrivalSource::Unknown => "nothing is known of what arrives before the first sync".to_string(),
    };
    crate::say!(
        "New files of {} are unguarded for {} on average, {} at most.",
        volume.name,
        long(exposure.mean),
        long(exposure.longest)
    );
    crate::say!("  {}", style::paint(style::FAINT, format!("{arrives}.")));
}
