//! `sync`: parity up to the present.

use std::collections::BTreeMap;

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::files::mirror::MirrorPlan;
use sieve_actions::guard::sync;
use sieve_actions::guard::sync::{Options, SyncPlan, SyncReport};
use sieve_core::amounts::Amounts;
use sieve_core::count::Count;
use sieve_core::fate::Unguarded;
use sieve_core::forecast::{Duration, Forecast};
use sieve_core::pool::PoolSpec;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_foresight::status;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::Context;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, place, reason, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("sync-plan", SyncPlan);
json::named!("sync", Synced<'_>);

/// What a sync does.
#[derive(Args)]
pub(crate) struct SyncArguments {
    /// What is on this disk now is right, also if it looks suspicious
    #[arg(long, value_name = "DISK", value_delimiter = ',')]
    pub(crate) accept: Vec<String>,
    /// Look only at these disks, and let the others sleep
    #[arg(long, value_name = "DISK", value_delimiter = ',')]
    pub(crate) disks: Vec<String>,
    /// Let as many disks sleep as can be, also if it takes longer
    #[arg(long)]
    pub(crate) let_sleep: bool,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

/// What a sync did, and what is unguarded all the same.
#[derive(Serialize, JsonSchema)]
struct Synced<'a> {
    #[serde(flatten)]
    report: &'a SyncReport,
    /// What is unguarded all the same, by the reason.
    unguarded: &'a BTreeMap<Unguarded, Count>,
}

pub(crate) fn run(context: &Context, arguments: SyncArguments) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    let SyncArguments { accept, disks, let_sleep, restraint, consent } = arguments;
    crate::restraint::hold(&restraint, &mut pool);
    let options = Options { accept, disks, let_sleep };
    let has_parity = pool.volumes().iter().any(|volume| !volume.parity.is_empty());
    let show = |_: &_, plan: &SyncPlan| {
        if !context.json {
            show_plan(plan, has_parity);
        }
    };
    let question = Question { consent, work: Work::Long("sync"), words: "Sync?" };
    let planned = |pool: &_| sync::plan(pool, &options, &Watch::new(restraint.events));
    let plan = match agree(&mut pool, &question, planned, show, essence_of, |plan| !plan.is_empty())? {
        Agreed::Yes(plan) => plan,
        Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let asks = !plan.is_empty();
    let report = sync::execute(&mut pool, &plan, &options, &Watch::begin(restraint.events)?)?;
    let is_shown = context.json || asks || !report.is_clean();
    let unguarded = if is_shown { status::unguarded(&pool)? } else { BTreeMap::new() };
    if context.json {
        json::print(&Synced { report: &report, unguarded: &unguarded })?;
    } else if is_shown {
        style::heading(match has_parity {
            true => "Done, with parity and a copy of the catalogue on the disks:",
            false => "Done, with a copy of the catalogue on the disks:",
        });
        show_report(&plan, &report, &options.disks, &unguarded);
    }
    Ok(if report.unreadable.is_empty() { Outcome::well(report.is_clean()) } else { Outcome::Failed })
}

fn show_plan(plan: &SyncPlan, has_parity: bool) {
    let mut table = Table::new(&["disk", ">files", ">get guarded", ">size", "?>given up", "?>size"]);
    for scan in &plan.scans {
        let change = plan.changes.get(&scan.disk).copied().unwrap_or_default();
        let cells = |files: u64, bytes| match files {
            0 => ["·".to_string(), "·".to_string()],
            _ => [count(files), size(bytes)],
        };
        let [entering, entering_size] = cells(change.entering_files, change.entering_bytes);
        let [leaving, leaving_size] = cells(change.leaving_files, change.leaving_bytes);
        table.row([scan.disk.clone(), count(scan.files), entering, entering_size, leaving, leaving_size]);
        scan.left_alone.iter().for_each(|text| crate::say_aside!("left alone: {text}"));
    }
    crate::say!("Scanned. Since the last sync:\n");
    table.print();
    plan.mirrors.iter().for_each(|(volume, copies)| show_copies(volume, copies));
    show_no_room(&plan.no_room);
    if plan.is_empty() {
        crate::answer!("\nNothing changed since the last sync.");
        return;
    }
    let reads = format!("reads {} for their checksums", units::files(plan.files_to_checksum));
    let computes = has_parity && !plan.computes_nothing();
    let held = format!("gives up {} held", units::files(plan.held_files));
    let works = [
        (plan.files_to_checksum > 0, reads),
        (computes, in_cells(plan)),
        (plan.held_files > 0, held),
        (!computes, "brings the replicas of the catalogue up to date".into()),
    ];
    let works: Vec<String> =
        works.into_iter().filter(|(is_done, _)| *is_done).map(|(_, what)| what).collect();
    crate::say!("\n{}:\n", capitalised(&works.join(", ")));
    show_bytes(None, &plan.read_bytes, &plan.written_bytes);
    let asleep: Vec<&str> = plan
        .read_bytes
        .iter()
        .filter(|(name, read)| {
            *read == ByteLength::ZERO
                && plan.written_bytes.get(name).is_none_or(|written| written == ByteLength::ZERO)
        })
        .map(|(name, _)| name.as_str())
        .collect();
    if has_parity && plan.cells > 0 && !asleep.is_empty() {
        crate::say!("\nNothing is read of {} while parity is computed.", asleep.join(", "));
    }
    show_forecast(&plan.forecast);
}

/// What no sync can guard before the parity drives are larger.
fn show_no_room(places: &[String]) {
    if let [first, rest @ ..] = places {
        let more =
            if rest.is_empty() { String::new() } else { format!(", and {} more", count(rest.len() as u64)) };
        let words = format!("No room below the end of the parity disks: {first}{more}");
        crate::say!("\n{}", style::paint(style::WATCH, &words));
    }
}

/// What the copies of a mirrored volume lack.
fn show_copies(volume: &str, plan: &MirrorPlan) {
    for (amount, what) in
        [(plan.missing, "are missing and get made"), (plan.outdated, "are outdated and follow the newest")]
    {
        if amount.files > 0 {
            crate::say!("\n{volume}: copies that {what}: {} ({}).", count(amount.files), size(amount.bytes));
        }
    }
}

/// As a sentence begins.
fn capitalised(words: &str) -> String {
    let mut characters = words.chars();
    characters.next().map_or_else(String::new, |first| first.to_uppercase().chain(characters).collect())
}

/// What is computed, for whoever knows what a cell is, and how many of them from what changed alone.
fn in_cells(plan: &SyncPlan) -> String {
    if !crate::output::is_verbose() {
        return "computes parity".into();
    }
    let how = match plan.cells_by_delta {
        0 => String::new(),
        all if all == plan.cells => " from what changed alone".into(),
        some => format!(" ({} from what changed alone)", count(some)),
    };
    format!("computes {}{how}", units::parity_cells(plan.cells))
}

/// How long something is likely to take, and what holds it up.
pub(crate) fn show_forecast(forecast: &Forecast) {
    if is_over_in_a_moment(forecast) {
        return;
    }
    crate::say!(
        "\nIt is likely to take {}, cautiously {}; held up by {}.",
        forecast.likely,
        forecast.cautious,
        forecast.bottleneck
    );
}

/// Whether a work needs no forecast.
pub(crate) fn is_over_in_a_moment(forecast: &Forecast) -> bool {
    forecast.cautious.seconds() < 10.0
}

/// A table of bytes by disk; with a pool file also where these disks are.
pub(crate) fn show_bytes(pool: Option<&PoolSpec>, read: &Amounts, written: &Amounts) {
    let mut table = Table::new(&["disk", ">reads", ">writes", "?where"]);
    let mut names: Vec<&String> = read.disks().chain(written.disks()).collect();
    names.sort();
    names.dedup();
    for name in names {
        let of = |map: &Amounts| map.get(name).map_or("-".into(), size);
        let place = pool.and_then(|pool| pool.disk(name)).and_then(place::of);
        table.row([name.clone(), of(read), of(written), place.unwrap_or_else(|| "-".into())]);
    }
    table.leave_blanks_out();
    table.print();
}

fn show_report(
    plan: &SyncPlan,
    report: &SyncReport,
    disks: &[String],
    unguarded: &BTreeMap<Unguarded, Count>,
) {
    show_bytes(None, &report.read_bytes, &report.written_bytes);
    show_lists(report);
    show_how_long(&plan.forecast, report.seconds);
    if report.stopped {
        crate::answer!(
            "\n{}",
            style::paint(style::WATCH, "Stopped at a checkpoint: run sync again to go on from here.")
        );
    }
    if report.rows_left > 0 {
        crate::say!("\n{} stayed as before.", units::parity_cells(report.rows_left));
    }
    if report.is_clean() {
        show_guard(plan, disks, unguarded);
    } else if !report.stopped {
        crate::answer!(
            "\n{}",
            style::paint(style::BAD, "Not everything could be synced: zinc-sieve sync names what.")
        );
    }
}

/// How long something took against its forecast, where it was no matter of a moment.
pub(crate) fn show_how_long(forecast: &Forecast, seconds: f64) {
    if forecast.likely.seconds() >= 10.0 || seconds >= 10.0 {
        let took = Duration::from_seconds(seconds);
        crate::say!("\nIt took {took}; {} had been forecast.", forecast.likely);
    }
}

/// What was not synced, or is not right, file by file.
fn show_lists(report: &SyncReport) {
    let lists = [
        ("changed while it was read, left for the next sync", &report.left_for_next),
        ("of another user: only root copies them without making them its own", &report.of_others),
        ("cannot be read", &report.unreadable),
        (
            "content differs although size and time say it does not; not synced (sync --accept DISK if it is right)",
            &report.suspect,
        ),
        ("damaged; what parity has of it stays as it was", &report.damage),
        ("no room below the end of the parity disks", &report.no_room),
        (
            "disk too full for a replica of the catalogue: what it has is of an earlier sync",
            &report.no_replica,
        ),
        (
            "copies went separate ways; both stay: put the right one with --replace, or remove one",
            &report.conflicts,
        ),
        (
            "one copy was removed behind our back; zinc-sieve rm removes the rest, get and put bring it back",
            &report.one_copy_removed,
        ),
    ];
    for (what, files) in lists.into_iter().filter(|(_, files)| !files.is_empty()) {
        style::heading(&format!("{} — {what}:", units::files(files.len() as u64)));
        files.iter().take(20).for_each(|file| crate::say!("  {}", style::paint(style::BAD, file)));
        if files.len() > 20 {
            crate::say!("  and {} more (all with --json)", files.len() - 20);
        }
    }
}

/// What is guarded after a sync without trouble.
fn show_guard(plan: &SyncPlan, disks: &[String], unguarded: &BTreeMap<Unguarded, Count>) {
    let named = disks.join(", ");
    let is_empty = plan.scans.iter().all(|scan| scan.files == 0);
    let left = unguarded.values().fold(Count::default(), |sum, one| sum.plus(*one));
    let left = format!("{}, {}", units::files(left.files), size(left.bytes));
    let what = match (unguarded.is_empty(), disks) {
        (true, []) if is_empty => "There are no files yet: nothing is guarded.".to_string(),
        (true, []) => "Everything there is, is guarded now.".to_string(),
        (true, _) => format!("What is on {named} is guarded now; the other disks were not looked at."),
        (false, []) => format!("What a sync can guard is guarded now. What it cannot: {left}."),
        (false, _) => {
            format!("What a sync of {named} can guard is guarded now. What is not, as was last seen: {left}.")
        }
    };
    crate::answer!("\n{}", style::paint(style::WELL, what));
    reason::show_unguarded(unguarded);
}
