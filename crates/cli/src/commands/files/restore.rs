//! `restore`: files as the last sync has them, or as they were when they were removed.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Args;
use sieve_actions::files::restore;
use sieve_actions::files::restore::{Candidate, Recoverable, RestoreReport, Target, What};
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;
use sieve_pool::scan;

use crate::args::{Consent, RestraintArguments, VolumeChoice};
use crate::commands::context::{Context, volume_path};
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, time, units};
use crate::progress::Watch;
use crate::{json, load};

json::list!("restore-list", Recoverables { files: Candidate });
json::list!("restore-plan", Wanted { files: Candidate });
json::named!("restore", RestoreReport);

/// What is brought back.
#[derive(Args)]
pub(crate) struct RestoreArguments {
    /// Files or folders, as they were called in the volume
    #[arg(required_unless_present = "list", value_name = "PATH", add = crate::complete::paths())]
    pub(crate) paths: Vec<OsString>,
    /// Show what could be had back, and stop
    #[arg(long)]
    pub(crate) list: bool,
    /// Into this folder outside of the pool, instead of where they were
    #[arg(long, value_name = "DIR")]
    pub(crate) into: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &RestoreArguments) -> Result<Outcome> {
    let paths = arguments.paths.iter().map(volume_path).collect::<Result<Vec<_>>>()?;
    let mut pool = load::pool(&context.pool)?;
    let events = arguments.restraint.events;
    crate::restraint::hold(&arguments.restraint, &mut pool);
    let volume = pool.volume(arguments.volume.volume.as_deref())?.name;
    if arguments.list {
        let candidates = candidates(&pool, &volume, &paths, events)?;
        if context.json {
            json::print(&Recoverables { files: &candidates })?;
        } else {
            show_list(&candidates, pool.machine.now());
        }
        return Ok(Outcome::Fine);
    }
    let target = arguments.into.as_deref().map_or(Target::Place, Target::Folder);
    let planned = |pool: &Pool| {
        let mut wanted = candidates(pool, &volume, &paths, events)?;
        wanted.retain(|candidate| candidate.comes_back == Recoverable::Whole);
        newest_of_each(&mut wanted);
        if wanted.is_empty() {
            let named: Vec<String> = paths.iter().map(ToString::to_string).collect();
            let message = format!("there is nothing of {} to be had back", named.join(", "));
            return Err(
                Error::new(Kind::NotFound, "restore.nothing", message).remedy("zinc-sieve restore --list")
            );
        }
        Ok(wanted)
    };
    let show = |_: &_, wanted: &Vec<Candidate>| {
        if !context.json {
            show_plan(wanted, target);
        }
    };
    let work = if matches!(target, Target::Place) { Work::Short } else { Work::Outside };
    let question = Question { consent: arguments.consent, work, words: "Restore?" };
    let wanted = match agree(&mut pool, &question, planned, show, essence_of, |_| true)? {
        Agreed::Yes(wanted) => wanted,
        Agreed::No(wanted) => {
            if context.json {
                json::print(&Wanted { files: &wanted })?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let report = restore::execute(&pool, &volume, &wanted, target, &Watch::begin(events)?)?;
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&report);
    }
    Ok(Outcome::well(report.not_back.is_empty() && !report.stopped))
}

fn candidates(pool: &Pool, volume: &str, paths: &[RelPath], events: bool) -> Result<Vec<Candidate>> {
    scan::scan_all(pool, |member| member.row.volume == volume, &Watch::new(events))?;
    restore::list(pool, volume, paths)
}

/// Of several states of a file the one that was given up last.
fn newest_of_each(wanted: &mut Vec<Candidate>) {
    wanted.sort_by(|a, b| {
        (&a.path, &a.path_hex, &a.disk, b.since).cmp(&(&b.path, &b.path_hex, &b.disk, a.since))
    });
    wanted.dedup_by(|a, b| (&a.path, &a.path_hex, &a.disk) == (&b.path, &b.path_hex, &b.disk));
}

const fn word(what: What) -> &'static str {
    match what {
        What::Removed => "removed",
        What::Replaced => "replaced",
        What::Deleted => "deleted on the disk",
        What::Overwritten => "overwritten on the disk",
    }
}

fn show_list(candidates: &[Candidate], now: i64) {
    if candidates.is_empty() {
        crate::say!("Nothing was removed or overwritten since the last sync.");
        return;
    }
    let mut table = Table::new(&["file", "??disk", "?>size", "what happened", "?when", "comes back"]);
    for candidate in candidates {
        let comes_back = match candidate.comes_back {
            Recoverable::Whole => style::paint(style::WELL, "whole"),
            Recoverable::Pieces => style::paint(style::WATCH, "in pieces only"),
            Recoverable::Nothing => style::paint(style::BAD, "no"),
        };
        table.row([
            candidate.path.clone(),
            candidate.disk.clone(),
            size(candidate.size_bytes),
            word(candidate.what).into(),
            candidate.since.map_or("since the last sync".into(), |at| time::ago(at, now)),
            comes_back,
        ]);
    }
    table.print();
    crate::say!("\nThis can be had back until the next sync has passed it.");
}

fn show_plan(wanted: &[Candidate], target: Target<'_>) {
    let bytes: ByteLength = wanted.iter().map(|candidate| candidate.size_bytes).sum();
    let place = match target {
        Target::Place => "to where they were (beside what has their name now)".to_string(),
        Target::Folder(folder) => format!("to {}", folder.display()),
    };
    crate::say!("Brings {} back, {}, {place}:", units::files(wanted.len() as u64), size(bytes));
    for candidate in wanted.iter().take(10) {
        crate::say!("  {}:{} ({})", candidate.disk, candidate.path, word(candidate.what));
    }
    if wanted.len() > 10 {
        crate::say!("  and {} more", count(wanted.len() as u64 - 10));
    }
}

fn show_report(report: &RestoreReport) {
    for file in report.restored.iter().filter(|file| file.beside) {
        crate::say!("{} has another name, as its own is taken: {}", file.path, file.at);
    }
    for (path, why) in &report.not_back {
        crate::say!("{} {path}: {why}", style::paint(style::BAD, "not back"));
    }
    crate::answer!("{} back, each checked.", units::files(report.restored.len() as u64));
    if report.stopped {
        let text = "Stopped: what is back is whole. Run it again for the rest.";
        crate::say!("{}", style::paint(style::WATCH, text));
    }
}
