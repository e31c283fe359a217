//! `health NAME --probe`: is it real? One suspicious disk alone: what it gives back, what it says of itself, and its cable.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::measure::probe::{Probed, of_device, of_files};
use sieve_core::health::{Cause, Check, Conclusion, FOLLOWED_DAYS, conclude};
use sieve_core::pool::{Role, VolumeKind};
use sieve_disk::{Error, Kind, Result};

use super::health::judge_one;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{place, size, style, time};
use crate::progress::Watch;
use crate::shelf::{Item, Shelf};
use crate::{json, machine};

/// What an alarm about a disk is worth.
#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// The disk.
    disk: &'a str,
    #[serde(flatten)]
    conclusion: &'a Conclusion,
    /// What came of reading it.
    read: &'a Probed,
    /// All that is to be said of what it reports.
    checks: &'a [Check],
    /// What to do, one command after another.
    next: &'a [String],
}
json::named!("health-probe", Answer<'_>);

/// So many samples that cannot be read are told.
const SHOWN: usize = 10;

pub(crate) fn run(context: &Context, names: &[String], from: Option<&Path>) -> Result<Outcome> {
    let [name] = names else {
        let message = format!("{} disks were named", names.len());
        return Err(Error::new(Kind::Usage, "probe.one", message)
            .remedy("a probe looks at one disk: zinc-sieve health cedar --probe"));
    };
    let shelf = Shelf::look(&context.pool, from)?;
    let items = shelf.items();
    let Some(item) = items.iter().find(|item| item.title() == name) else {
        let message = sieve_core::suggest::unknown("disk", name, items.iter().map(Item::title));
        return Err(Error::new(Kind::NotFound, "health.disk", message));
    };
    let read = read(item, from.is_none())?;
    if read.taken == 0 && item.report().is_none() {
        let message = format!("nothing lies on {name} that could be read, and it says nothing of itself");
        return Err(Error::new(Kind::NotFound, "probe.empty", message).remedy(
            "as root the device itself is read; an empty disk is tried out with zinc-sieve burn-in",
        ));
    }
    // What grew and was told by an earlier look is part of why somebody asks.
    let checks = shelf.judge_over(item, FOLLOWED_DAYS)?.checks;
    judge_one(&shelf, item, time::date(shelf.now))?;
    let conclusion = conclude(&checks, read.samples());
    let next = next(&shelf, item, conclusion.cause);
    if context.json {
        let answer =
            Answer { disk: name, conclusion: &conclusion, read: &read, checks: &checks, next: &next };
        json::print(&answer)?;
    } else {
        show(item, &read, &conclusion, &next);
    }
    Ok(Outcome::well(conclusion.cause == Cause::FalseAlarm && !read.stopped))
}

/// The whole device where it may be opened; else what lies on it. Documents may be of another machine, on which the same name
/// is another disk.
fn read(item: &Item<'_>, is_of_this_machine: bool) -> Result<Probed> {
    let watch = Watch::begin(false)?;
    let device = item.found.filter(|_| is_of_this_machine);
    let device = device.map(|found| Path::new("/dev").join(&found.device.name));
    if let Some(probed) = device.and_then(|device| of_device(&device, &watch).ok()) {
        return Ok(probed);
    }
    let path: Option<PathBuf> = item.spec.and_then(|spec| spec.path.as_ref()).map(PathBuf::from);
    let path = path.ok_or_else(|| {
        let message = format!(
            "nothing of {} can be read: it has no path, and its device cannot be opened",
            item.title()
        );
        Error::new(Kind::NotFound, "probe.nothing", message).remedy("run it as root, or mount the disk")
    })?;
    let disk = machine::real().open_disk(&path).map_err(|error| {
        let name = item.title();
        error.remedy(format!(
            "if it comes back, mount it there; if it does not answer at all it is dead: zinc-sieve fate --lose {name}, then zinc-sieve rebuild {name} --onto DIR"
        ))
    })?;
    of_files(&*disk, &watch)
}

/// What keeps most safe. A disk that still gives back most of what is on it is copied, and parity brings the rest: no other
/// disk's files are guarded less meanwhile, as they would be if it were pulled and computed anew.
fn next(shelf: &Shelf, item: &Item<'_>, cause: Cause) -> Vec<String> {
    let name = item.title();
    let volume = shelf.spec.as_ref().and_then(|spec| spec.volume_of(name));
    let Some(volume) = volume else {
        return match cause {
            Cause::FalseAlarm => Vec::new(),
            Cause::Cable => vec![format!("zinc-sieve health {name} --probe")],
            Cause::Dying => vec!["zinc-sieve disks".into()],
        };
    };
    let is_parity = volume.roles().any(|(role, _, member)| role == Role::Parity && member == name);
    let has_guard = !volume.parity.is_empty() || volume.kind == VolumeKind::Mirrored;
    match cause {
        Cause::Dying if is_parity || has_guard => vec![format!("zinc-sieve replace {name} --onto DIR")],
        Cause::Dying => {
            vec![format!("zinc-sieve vacate {name}"), format!("zinc-sieve replace {name} --onto DIR")]
        }
        Cause::Cable => vec![
            format!("zinc-sieve health {name} --probe"),
            format!("zinc-sieve verify --disks {name} --mend"),
        ],
        Cause::FalseAlarm => vec![format!("zinc-sieve verify --disks {name} --mend")],
    }
}

fn show(item: &Item<'_>, read: &Probed, conclusion: &Conclusion, next: &[String]) {
    let name = item.title();
    let (words, paint) = match conclusion.cause {
        Cause::FalseAlarm => ("a false alarm, by all that can be seen", style::WELL),
        Cause::Cable => ("its cable or its port, not the disk", style::WATCH),
        Cause::Dying => ("the disk is dying", style::BAD),
    };
    let place = item.spec.and_then(place::of).map_or(String::new(), |place| format!(" ({place})"));
    crate::answer!("{}", style::paint(paint, format!("{name}{place}: {words}.")));
    crate::say!();
    for reason in &conclusion.reasons {
        crate::say!("  {} {reason}", style::paint(paint, "-"));
    }
    for bad in read.unreadable.iter().take(SHOWN) {
        crate::say!("    {} {}: {}", style::paint(style::BAD, "unreadable"), bad.at, bad.why);
    }
    if read.unreadable.len() > SHOWN {
        crate::say!("    and {} more (all with --json)", read.unreadable.len() - SHOWN);
    }
    if read.taken > 0 {
        show_read(read);
    }
    advise(conclusion.cause, next);
}

fn show_read(read: &Probed) {
    let of = if read.of_device { "over its whole length" } else { "of what lies on it" };
    let stopped = if read.stopped { " before it was asked to stop" } else { "" };
    crate::say!(
        "\n  Read: {} in {} samples {of}{stopped}; the longest took {:.2} s.",
        size(read.bytes),
        read.taken,
        read.longest_seconds
    );
}

fn advise(cause: Cause, next: &[String]) {
    let how = match cause {
        Cause::FalseAlarm => "It reads all of the disk, and mends what an alarm left wrong",
        Cause::Cable => {
            "Shut the machine down, change the cable, then the port; look again, and read all of the disk once"
        }
        Cause::Dying => {
            "What it still gives is copied, parity brings the rest, and nothing is guarded less meanwhile. Until then write nothing to it"
        }
    };
    if !next.is_empty() {
        crate::say!("\n{how}:");
        next.iter().for_each(|command| crate::say!("  {command}"));
    }
}
