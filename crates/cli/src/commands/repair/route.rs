//! `route`: in which order a pool is changed.

use std::path::PathBuf;

use clap::Args;
use sieve_core::forecast::Duration;
use sieve_core::pool::Share;
use sieve_core::route::Totals;
use sieve_disk::{Error, Kind, Result};
use sieve_foresight::Look;
use sieve_foresight::route::{self, Answer, Checklist, DriveLine, Next, Request, StepLine};
use sieve_foresight::status::status;

use crate::args::VolumeChoice;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::style::{self, paint};
use crate::human::{count, size, time};
use crate::progress::{Watch, thinking};
use crate::{json, load, new_file};

json::named!("route", Answer);
json::named!("route-next", Next);

/// What is wanted.
#[derive(Args)]
pub(crate) struct RouteArguments {
    /// The goals: "cedar is 14 TB", "parity is 14 TB", "oak holds data", "without beech", "2 parities", "10 TB more",
    /// "46 TB in all", "kind is mirrored"
    #[arg(value_name = "GOAL")]
    pub(crate) goals: Vec<String>,
    /// A disk that is bought: "14 TB", "2 x 14 TB by 2031-06", "14 TB at /mnt/new"; without it, what the goals need
    #[arg(long, value_name = "DISK")]
    pub(crate) buy: Vec<String>,
    /// Allow steps while which only so many disks may die without losing a file [default: as many as now]
    #[arg(long, value_name = "N")]
    pub(crate) never_below: Option<usize>,
    /// On paper: how full the data disks are
    #[arg(long, value_name = "SHARE", default_value = "75 %")]
    pub(crate) full: String,
    /// Write the steps as a list to tick off; with --next, the list that is read
    #[arg(long, value_name = "FILE")]
    pub(crate) steps: Option<PathBuf>,
    /// Say which step of the list comes next, by what the pool is now; the list is route.md beside the pool file, or that of
    /// --steps
    #[arg(long, conflicts_with_all = ["goals", "buy", "never_below"])]
    pub(crate) next: bool,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
}

pub(crate) fn run(context: &Context, asked: &RouteArguments) -> Result<Outcome> {
    if asked.next {
        return next(context, asked);
    }
    let request =
        Request { goals: asked.goals.clone(), buy: asked.buy.clone(), never_below: asked.never_below };
    let volume = asked.volume.volume.as_deref();
    let land = match load::spec_on_paper(&context.pool, false)? {
        Some(spec) => route::of_paper(&spec, volume, full(&asked.full)?)?,
        None => route::of_pool(&mut load::pool(&context.pool)?, volume, &Watch::begin(false)?)?,
    };
    let thinking = thinking("finding the way");
    let answer = route::plan(land, &request)?;
    drop(thinking);
    if let Some(file) = &asked.steps {
        let text = Checklist::of(&answer).text(quoted)?;
        new_file::write(file, &text, "route.write")?;
    }
    if context.json {
        json::print(&answer)?;
    } else {
        show(&answer);
        if let Some(file) = &asked.steps {
            crate::say!("\nThe list is in {}.", file.display());
        }
    }
    Ok(Outcome::Fine)
}

fn full(text: &str) -> Result<Share> {
    Share::parse(text).ok_or_else(|| {
        Error::new(Kind::Usage, "argument.share", format!("`{text}` is no share"))
            .remedy("say it like \"75 %\"")
    })
}

fn show(answer: &Answer) {
    let goals = answer.goals.join(", ");
    if answer.steps.is_empty() {
        crate::say!("{}: {goals}: it is so already.", answer.volume);
        return;
    }
    let Totals { likely_seconds, cautious_seconds, disk_seconds, .. } = answer.totals;
    crate::say!(
        "{}: {goals}\n{}: {} of passes (cautious: {}), {} of disk time.",
        answer.volume,
        many(answer.steps.len(), "step"),
        duration(likely_seconds),
        duration(cautious_seconds),
        duration(disk_seconds),
    );
    crate::say!("{}", guard_in_words(answer));
    if !answer.to_buy.is_empty() {
        let assumed =
            if answer.buying_is_assumed { " (taken from the goals; --buy says what really is)" } else { "" };
        crate::say!("To buy: {}{assumed}.", bought(&answer.to_buy));
    }
    answer.steps.iter().for_each(show_step);
    let last = answer.steps.last().map_or(answer.space_now_bytes, |step| step.space_after_bytes);
    crate::say!("\nSpace for files: {} now, {} then.", size(answer.space_now_bytes), size(last));
    show_by_hand(answer);
    answer.notes.iter().for_each(|note| crate::say!("\nnote: {note}"));
}

fn guard_in_words(answer: &Answer) -> String {
    if has_copies(answer) {
        return paint(
            if answer.totals.least_guard < answer.guard_now { style::BAD } else { style::WELL },
            disks_that_may_die(answer),
        );
    }
    let drives = |count: usize| many(count, "parity drive");
    if answer.totals.least_guard >= answer.guard_now {
        return match answer.guard_now {
            0 => "No parity drive guards the files, now or meanwhile.".into(),
            now => paint(
                style::WELL,
                format!("Throughout, {} guard{} every file.", drives(now), if now == 1 { "s" } else { "" }),
            ),
        };
    }
    paint(style::BAD, weakened(&answer.totals, answer.guard_now))
}

fn disks_that_may_die(answer: &Answer) -> String {
    let least = answer.totals.least_guard;
    if least > 0 {
        return format!(
            "Throughout, {} may die, whichever they are, without losing a file.",
            many(least, "disk")
        );
    }
    let end = answer.steps.last().map_or(answer.guard_now, |step| step.guard_after);
    let when = if answer.guard_now == 0 { "No disk may die now" } else { "Meanwhile no disk may die" };
    match end {
        0 => format!("{when} without losing a file, nor at the end."),
        end => format!("{when} without losing a file; at the end {} may.", many(end, "disk")),
    }
}

/// Whether copies guard the files, now or in the end.
fn has_copies(answer: &Answer) -> bool {
    let becomes = answer.steps.iter().filter_map(|step| step.to);
    becomes.chain([answer.kind]).any(|kind| kind == "mirrored")
}

fn weakened(totals: &Totals, guard_now: usize) -> String {
    let left = match totals.least_guard {
        0 => "no parity drive guards the files".into(),
        1 => format!("only 1 parity drive of {guard_now} guards the files"),
        left => format!("only {left} parity drives of {guard_now} guard the files"),
    };
    format!("For {} {left}.", duration(totals.weakened_seconds))
}

fn bought(drives: &[DriveLine]) -> String {
    let one = |drive: &DriveLine| {
        let from = drive.from.map_or(String::new(), |day| format!(" by {}", time::day(day)));
        format!("{}, {}{from}", drive.name, size(drive.size_bytes))
    };
    drives.iter().map(one).collect::<Vec<_>>().join("; ")
}

fn show_step(step: &StepLine) {
    let what = match (step.does, &step.onto) {
        ("sync", _) => "sync".to_string(),
        ("convert", _) => format!("{} becomes {}", step.member, step.to.unwrap_or_default()),
        ("grow", Some(drive)) => {
            format!("{} joins as {}, {}", step.member, step.role, size(drive.size_bytes))
        }
        (does, Some(drive)) => {
            format!("{does} {} ({}) onto {}, {}", step.member, step.role, drive.name, size(drive.size_bytes))
        }
        (does, None) => format!("{does} {} ({})", step.member, step.role),
    };
    let from = step.not_before.map_or(String::new(), |day| format!(" · from {}", time::day(day)));
    let guard = format!(" · guard {}", guard(step));
    let takes = if step.likely_seconds < 1.0 { "at once".into() } else { duration(step.likely_seconds) };
    crate::say!("\n{:>3}  {} · {takes}{guard}{from}", step.number, paint(style::HEAD, what));
    step.before.iter().for_each(|line| crate::say!("     {line}"));
    step.commands.iter().for_each(|command| crate::say!("     {}", quoted(command)));
    step.afterwards.iter().for_each(|line| crate::say!("     then {line}"));
}

fn guard(step: &StepLine) -> String {
    if step.guard_during == step.guard_after {
        return step.guard_after.to_string();
    }
    format!("{}, then {}", step.guard_during, step.guard_after)
}

fn show_by_hand(answer: &Answer) {
    let by_hand = &answer.by_hand;
    if by_hand.totals == answer.totals && by_hand.stuck_at.is_none() {
        return;
    }
    let mut text = format!(
        "By hand, goal after goal, each disk pulled and the next one computed: {}, {} of disk time",
        many(by_hand.steps.len(), "step"),
        duration(by_hand.totals.disk_seconds)
    );
    if let Some(goal) = &by_hand.stuck_at {
        text += &format!("; and then \"{goal}\" can no longer be reached");
    }
    crate::say!("{text}.");
    if by_hand.totals.weakened_seconds > 0.0 && !has_copies(answer) {
        crate::say!("{}", weakened(&by_hand.totals, answer.guard_now));
    }
    by_hand.steps.iter().for_each(|step| crate::say!("     {step}"));
}

/// "1 step", "4 steps".
fn many(number: usize, what: &str) -> String {
    format!("{} {what}{}", count(number as u64), if number == 1 { "" } else { "s" })
}

fn duration(seconds: f64) -> String {
    Duration::from_seconds(seconds).to_string()
}

/// A command as a shell takes it.
fn quoted(command: &[String]) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./=:+".contains(c);
    let word = |word: &String| {
        if !word.is_empty() && word.chars().all(is_plain) {
            word.clone()
        } else {
            format!("'{}'", word.replace('\'', "'\\''"))
        }
    };
    command.iter().map(word).collect::<Vec<_>>().join(" ")
}

fn next(context: &Context, asked: &RouteArguments) -> Result<Outcome> {
    let beside = context.pool.with_file_name("route.md");
    let file = asked.steps.clone().unwrap_or(beside);
    let text = std::fs::read_to_string(&file).map_err(|e| {
        Error::new(Kind::NotFound, "route.list", format!("{}: {e}", file.display()))
            .remedy("zinc-sieve route GOAL… --steps FILE writes the list that --next reads")
    })?;
    let list = Checklist::read(&text, &file)?;
    let mut pool = load::pool(&context.pool)?;
    let told = status(&mut pool, Look::WhereShort, &Watch::begin(false)?)?;
    let is_synced = told.sync_would_guard.unwrap_or_default().files == 0;
    let found = route::next(&pool, &list, is_synced)?;
    if context.json {
        json::print(&found)?;
        return Ok(Outcome::Fine);
    }
    show_next(&found);
    Ok(Outcome::Fine)
}

fn show_next(found: &Next) {
    let Some(item) = &found.next else {
        crate::say!("All {} are taken.", many(found.steps, "step"));
        return;
    };
    crate::say!("{} of {} steps are taken. Next: {} {}", found.taken, found.steps, item.does, item.member);
    item.before.iter().for_each(|line| crate::say!("     {line}"));
    item.commands.iter().for_each(|command| crate::say!("     {}", quoted(command)));
    item.afterwards.iter().for_each(|line| crate::say!("     then {line}"));
}
