//! Times at which nothing collides: before and after beside each other, and into the pool file.

use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::pool_file::{self, Edit};
use sieve_core::agenda::{Exposure, Job, Judged, Played, Setting, When, judge, solve};
use sieve_core::forecast::Duration;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::agenda::Outline;
use sieve_pool::pool::home_folder;

use super::words::{self, Told, a_week};
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, style};
use crate::progress::thinking;
use crate::{json, load};

json::named!("agenda-solve", Answer<'_>);

/// Times that collide less, as `--json` has them.
#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// All jobs.
    jobs: Vec<Moved<'a>>,
    /// As the times are.
    before: Outcomes<'a>,
    /// As they would be.
    after: Outcomes<'a>,
    /// The times are in the pool file now.
    written: bool,
}

/// A job, and its better time.
#[derive(Serialize, JsonSchema)]
struct Moved<'a> {
    /// The job.
    job: &'a str,
    /// When it is done now, as the pool file has it.
    #[schemars(with = "String")]
    now: &'a When,
    /// When it would be done.
    #[schemars(with = "String")]
    better: &'a When,
    /// The share of the rows that it reads each time, from 0 to 1.
    share: f64,
    /// How long its longest run in four weeks is likely to take.
    likely_seconds: Duration,
    /// How long it takes, cautiously.
    cautious_seconds: Duration,
}

/// What four weeks come to.
#[derive(Serialize, JsonSchema)]
struct Outcomes<'a> {
    /// What collides.
    clashes: Vec<Told>,
    /// How long new files are unguarded.
    unguarded: Vec<OfVolume<'a>>,
    /// Hours that disks are awake in a week, all disks added up.
    disk_hours_a_week: f64,
}

/// How long new files of a volume are unguarded.
#[derive(Serialize, JsonSchema)]
struct OfVolume<'a> {
    /// The volume.
    volume: &'a str,
    #[serde(flatten)]
    exposure: Exposure,
}

impl<'a> Outcomes<'a> {
    fn of(setting: &'a Setting, judged: &Judged) -> Self {
        let timed = Setting { jobs: judged.jobs.clone(), ..setting.clone() };
        let volumes = setting.volumes.iter().zip(&judged.played.exposure);
        Self {
            clashes: judged.clashes.iter().map(|clash| Told::of(&timed, clash)).collect(),
            unguarded: volumes
                .map(|(volume, exposure)| OfVolume { volume: &volume.name, exposure: *exposure })
                .collect(),
            disk_hours_a_week: a_week(judged.played.disk_hours),
        }
    }
}

impl<'a> Answer<'a> {
    fn of(setting: &'a Setting, before: &'a Judged, after: &'a Judged, written: bool) -> Self {
        let jobs = before.jobs.iter().zip(&after.jobs).enumerate();
        let moved = |(position, (old, new)): (usize, (&'a Job, &'a Job))| {
            let (likely_seconds, cautious_seconds) = takes(new, &after.played, position);
            let (job, now, better) = (&old.name, &old.when, &new.when);
            Moved { job, now, better, share: new.share, likely_seconds, cautious_seconds }
        };
        Self {
            jobs: jobs.map(moved).collect(),
            before: Outcomes::of(setting, before),
            after: Outcomes::of(setting, after),
            written,
        }
    }
}

pub(super) fn run(
    context: &Context,
    outline: &Outline,
    now: i64,
    zone: &TimeZone,
    write: bool,
) -> Result<Outcome> {
    let setting = &outline.setting;
    let thinking = thinking("trying times");
    let (before, after) = (judge(setting, now, zone), solve(setting, now, zone));
    drop(thinking);
    let edits = edits(context, &before.jobs, &after.jobs)?;
    if write && !edits.is_empty() {
        pool_file::rehearse(&context.pool, &edits)?;
        let home = crate::machine::real().open_disk(home_folder(&context.pool))?;
        pool_file::apply(&*home, &context.pool, &edits)?;
    }
    if context.json {
        json::print(&Answer::of(setting, &before, &after, write && !edits.is_empty()))?;
    } else {
        show(setting, &before, &after);
        if !edits.is_empty() && write {
            crate::say!("\nWritten into {}.", context.pool.display());
        } else if !edits.is_empty() {
            crate::say!("\n`zinc-sieve agenda --solve --write` writes these times into the pool file.");
        }
    }
    Ok(Outcome::well(after.clashes.is_empty()))
}

/// What has to change in the pool file.
fn edits(context: &Context, before: &[Job], after: &[Job]) -> Result<Vec<Edit>> {
    let spec = load::spec(&context.pool)?;
    let mut edits = Vec::new();
    for (position, (old, new)) in before.iter().zip(after).enumerate() {
        let job = spec.agenda.jobs.get(position).filter(|job| job.name == old.name).ok_or_else(|| {
            Error::new(Kind::Conflict, "agenda.changed", "the pool file was changed meanwhile")
                .remedy("run this again")
        })?;
        if old.when == new.when && old.share == new.share {
            continue;
        }
        edits.push(Edit::Job {
            // One that an older key says is written out behind the others.
            position: if job.implied_by.is_some() { usize::MAX } else { position },
            task: job.task.word().into(),
            volume: job.volume.clone(),
            when: new.when.to_string(),
            share: (old.share != new.share).then(|| percent(new.share)),
        });
    }
    Ok(edits)
}

/// How long a job takes, likely and cautiously: its longest run in these weeks, which has the most to do.
pub(super) fn takes(job: &Job, played: &Played, position: usize) -> (Duration, Duration) {
    played.longest_run(position).unwrap_or((job.effort.likely, job.effort.cautious))
}

fn percent(share: f64) -> String {
    // Rounded up, so that all rows come up in the time that was wished.
    format!("{} %", (share * 1000.0).ceil() / 10.0)
}

fn show(setting: &Setting, before: &Judged, after: &Judged) {
    let same = before.jobs == after.jobs;
    let text = match (after.clashes.len(), same) {
        (0, true) => ("Nothing collides, and no other times are better.".to_string(), style::WELL),
        (0, false) => ("At these times nothing collides:".to_string(), style::WELL),
        (number, true) => {
            (format!("No other times are better; {number} things collide all the same:"), style::WATCH)
        }
        (number, false) => {
            (format!("These times are better; {number} things collide all the same:"), style::WATCH)
        }
    };
    crate::say!("{}\n", style::paint(text.1, text.0));
    let mut table = Table::new(&["job", "now", "better", ">share", ">takes"]);
    for (position, (old, new)) in before.jobs.iter().zip(&after.jobs).enumerate() {
        let better = if old.when == new.when { "·".into() } else { new.when.to_string() };
        let share = if new.share < 1.0 { percent(new.share) } else { "-".into() };
        let (likely, _) = takes(new, &after.played, position);
        table.row([old.name.clone(), old.when.to_string(), better, share, likely.to_string()]);
    }
    table.leave_blanks_out();
    table.print();
    crate::say!();
    let mut figures = Table::new(&["four weeks", ">now", ">better"]);
    let row = |what: &str, value: &dyn Fn(&Judged) -> String| [what.to_string(), value(before), value(after)];
    figures.row(row("things that collide", &|judged| judged.clashes.len().to_string()));
    for (position, volume) in setting.volumes.iter().enumerate().filter(|(_, volume)| volume.has_guard) {
        let of = |seconds: &dyn Fn(&Judged) -> f64, judged: &Judged| {
            Duration::from_seconds(seconds(judged)).to_string()
        };
        let mean = |judged: &Judged| judged.played.exposure[position].mean;
        let longest = |judged: &Judged| judged.played.exposure[position].longest;
        figures.row(row(&format!("new files of {} unguarded", volume.name), &|j| of(&mean, j)));
        figures.row(row("  at most", &|j| of(&longest, j)));
    }
    figures.row(row("hours of disks awake a week", &|j| format!("{:.0}", a_week(j.played.disk_hours))));
    figures.print();
    let after_setting = Setting { jobs: after.jobs.clone(), ..setting.clone() };
    for clash in &after.clashes {
        let (what, mend) = words::sentence(&after_setting, clash);
        crate::say!("\n  {}\n      {mend}", style::paint(style::WATCH, what));
    }
}
