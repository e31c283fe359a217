//! `settle`: from the cache to the disks.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::ffi::OsString;

use clap::Args;
use sieve_actions::files::settle;
use sieve_actions::files::settle::{LeftAlone, Options, Reason, SettlePlan, SettleReport, Why};
use sieve_actions::guard::sync;
use sieve_core::count::Count;
use sieve_core::pool::{PoolSpec, VolumeSpec};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_disk::{Error, Kind};
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments, VolumeChoice};
use crate::commands::context::{Context, volume_path};
use crate::commands::protect::sync::{show_bytes, show_forecast};
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, time, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("settle-plan", SettlePlan);

/// What was settled, and synced after it.
#[derive(Serialize, JsonSchema)]
struct Settled<'a> {
    /// What was settled.
    settle: &'a SettleReport,
    /// Where it was asked for.
    sync: Option<&'a sync::SyncReport>,
}
json::named!("settle", Settled<'_>);

/// What settles.
#[derive(Args)]
pub(crate) struct SettleArguments {
    /// Only what lies in this folder
    #[arg(long, value_name = "PATH", add = crate::complete::paths())]
    pub(crate) folder: Option<OsString>,
    /// Only what has been waiting for so long, "12 hours"
    #[arg(long, value_name = "TIME")]
    pub(crate) older_than: Option<String>,
    /// No more than it takes for so much to be free on the cache
    #[arg(long, value_name = "SIZE", value_parser = ByteLength::parse)]
    pub(crate) until: Option<ByteLength>,
    /// Guard what has settled with a sync at once
    #[arg(long)]
    pub(crate) then_sync: bool,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

/// So many files are shown by name.
const SHOWN: usize = 12;

pub(crate) fn run(context: &Context, arguments: &SettleArguments) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    let events = arguments.restraint.events;
    crate::restraint::hold(&arguments.restraint, &mut pool);
    let volume = pool.volume(arguments.volume.volume.as_deref())?;
    let options = options_of(arguments)?;
    let show = |pool: &Pool, plan: &SettlePlan| {
        if context.json {
            return;
        }
        show_plan(&pool.spec, plan, pool.machine.now());
        if arguments.then_sync && volume.has_guard() {
            crate::say!("\nThen a sync guards what has settled.");
        }
    };
    let is_something = |plan: &SettlePlan| !plan.is_empty() || arguments.then_sync;
    let question = Question { consent: arguments.consent, work: Work::Long("settle"), words: "Settle?" };
    let planned = |pool: &Pool| settle::plan(pool, &volume, &options, &Watch::new(events));
    let plan = match agree(&mut pool, &question, planned, show, essence_of, is_something)? {
        Agreed::Yes(plan) if is_something(&plan) => plan,
        Agreed::Yes(plan) | Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let watch = Watch::begin(events)?;
    let report = settle::execute(&mut pool, &volume, &plan, &options, &watch)?;
    let synced = match arguments.then_sync && !report.moved.stopped {
        true => Some(then_sync(&mut pool, &watch)?),
        false => None,
    };
    drop(watch);
    let is_well = !report.moved.stopped && synced.as_ref().is_none_or(sync::SyncReport::is_clean);
    if context.json {
        json::print(&Settled { settle: &report, sync: synced.as_ref() })?;
    } else {
        show_report(&report, &plan);
        show_guard(&volume, &report, synced.as_ref());
    }
    Ok(Outcome::well(is_well))
}

fn options_of(arguments: &SettleArguments) -> Result<Options> {
    let wrong = |message: String| Error::new(Kind::Usage, "settle.older-than", message);
    Ok(Options {
        folder: arguments.folder.as_deref().map(volume_path).transpose()?,
        older_than: arguments
            .older_than
            .as_deref()
            .map(|text| sieve_core::pool::parse_days(text).map_err(wrong))
            .transpose()?,
        until: arguments.until,
        everything: false,
    })
}

/// What has settled is guarded.
fn then_sync(pool: &mut Pool, watch: &Watch) -> Result<sync::SyncReport> {
    let options = sync::Options::default();
    let plan = sync::plan(pool, &options, watch)?;
    sync::execute(pool, &plan, &options, watch)
}

fn show_plan(pool: &PoolSpec, plan: &SettlePlan, now: i64) {
    if plan.moves_nothing() {
        crate::answer!("Nothing of {} has to move.", plan.volume);
    } else {
        crate::say!(
            "Volume {}: {} to move, {}.\n",
            plan.volume,
            units::files(plan.files.len() as u64),
            size(plan.bytes())
        );
        show_files(plan, now);
    }
    if plan.others > 0 {
        crate::say!("\nSymlinks that go with them: {}.", count(plan.others));
    }
    if plan.given_up.files > 0 {
        crate::say!(
            "\n{} ({}) that settled earlier and are held on the cache are given up for their space.",
            units::files(plan.given_up.files),
            size(plan.given_up.bytes)
        );
    }
    if !plan.left_alone.is_empty() {
        style::heading("Left alone");
        show_left_alone(plan.left_alone.iter());
    }
    show_caches(plan);
    show_tiers(plan);
    if !plan.moves_nothing() {
        crate::say!();
        show_bytes(Some(pool), &plan.read_bytes, &plan.written_bytes);
        show_forecast(&plan.forecast);
        if plan.holds_on_tiers {
            crate::say!("\nWhat leaves a disk is held there, out of sight, until a sync has passed it.");
        }
        if plan.holds {
            crate::say!(
                "\nEach file stays on the cache, out of sight, until a sync has passed it on the disks."
            );
        }
    }
}

fn show_files(plan: &SettlePlan, now: i64) {
    let mut table = Table::new(&["file", ">size", "?from", "to", "??why"]);
    for file in plan.files.iter().take(SHOWN) {
        let why = match file.why {
            Why::Waits => format!("came {}", time::ago(file.since, now)),
            Why::Tier(Reason::Pinned) => "pinned".to_string(),
            Why::Tier(Reason::Hot) => "used often".to_string(),
            Why::Tier(Reason::Cold) => "not used any more".to_string(),
            Why::Tier(Reason::MakesRoom) => "makes room".to_string(),
        };
        table.row([file.path.clone(), size(file.size_bytes), file.from.join(" "), file.to.join(" "), why]);
    }
    table.print();
    if plan.files.len() > SHOWN {
        crate::say!("  and {} more (all with --json)", plan.files.len() - SHOWN);
    }
}

fn show_caches(plan: &SettlePlan) {
    if plan.caches.is_empty() {
        return;
    }
    style::heading("Free on the cache");
    let mut table = Table::new(&["disk", ">now", ">then", "?>after a sync", "?>reserve"]);
    for cache in &plan.caches {
        table.row([
            cache.disk.clone(),
            size(cache.free),
            size(cache.free_after),
            size(cache.free_after_sync),
            size(cache.reserve),
        ]);
    }
    table.print();
}

/// What stays where it is, by reason.
pub(crate) fn show_left_alone<'a>(left_alone: impl Iterator<Item = &'a LeftAlone>) {
    let mut by_reason: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for left in left_alone {
        by_reason.entry(&left.why).or_default().push(&left.path);
    }
    for (why, paths) in by_reason {
        crate::say!("  {}: {why}", style::paint(style::WATCH, units::files(paths.len() as u64)));
        paths.iter().take(3).for_each(|path| crate::say!("    {path}"));
        if paths.len() > 3 {
            crate::say!("    and {} more", paths.len() - 3);
        }
    }
}

/// What the move is good for.
fn show_tiers(plan: &SettlePlan) {
    let Some(tiers) = &plan.tiers else { return };
    crate::say!(
        "\nOf the reads that are to be expected the fast disks serve {} now, {} after this,\nand {} when a sync and another settling have followed.\nFree on them are {}{}; {} are to stay free.",
        percent(tiers.fast_reads_before),
        percent(tiers.fast_reads_after),
        percent(tiers.fast_reads_after_sync),
        size(tiers.free),
        if tiers.held == ByteLength::ZERO {
            String::new()
        } else {
            format!(", {} more when the next sync gives up what is held", size(tiers.held))
        },
        size(tiers.reserve)
    );
}

fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}

fn show_report(report: &SettleReport, plan: &SettlePlan) {
    show_moved(&report.moved.by_disk);
    if report.given_up > 0 {
        crate::say!("\nGiven up for their space: {}.", units::files(report.given_up));
    }
    let planned: Vec<&str> = plan.left_alone.iter().map(|left| left.path.as_str()).collect();
    let unplanned = report.moved.left_alone.iter().filter(|left| !planned.contains(&left.path.as_str()));
    show_left_alone(unplanned);
    if report.moved.stopped {
        crate::say!("\n{}", style::paint(style::WATCH, "Stopped: run settle again for the rest."));
    }
}

fn show_moved(by_disk: &BTreeMap<String, Count>) {
    if by_disk.is_empty() {
        return;
    }
    let files = by_disk.values().map(|count| count.files).sum();
    style::heading(&format!("Moved and verified: {}.", units::files(files)));
    let mut table = Table::new(&["disk", ">files", ">size"]);
    for (disk, amount) in by_disk {
        table.row([disk.clone(), count(amount.files), size(amount.bytes)]);
    }
    table.print();
}

/// What guards what has moved.
fn show_guard(volume: &VolumeSpec, report: &SettleReport, synced: Option<&sync::SyncReport>) {
    let has_moved = !report.moved.by_disk.is_empty();
    match synced {
        _ if has_moved && !volume.has_guard() => {
            let words = format!("Nothing guards it: {} has no parity.", volume.name);
            crate::answer!("\n{}", style::paint(style::WATCH, words));
        }
        Some(sync) if sync.is_clean() => {
            crate::answer!("\n{}", style::paint(style::WELL, "Synced: what has settled is guarded now."));
        }
        Some(_) => crate::answer!(
            "\n{}",
            style::paint(style::WATCH, "The sync did not guard everything: zinc-sieve sync says why.")
        ),
        None if has_moved => crate::answer!("\nThe next sync guards what has settled."),
        None => {}
    }
}
