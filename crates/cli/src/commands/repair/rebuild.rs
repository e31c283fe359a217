//! `rebuild`: lost disks back onto new ones.

use std::path::PathBuf;

use clap::Args;
use sieve_actions::disks::rebuild;
use sieve_actions::disks::rebuild::{Options, Prepared, RebuildPlan, RebuildReport, Request};
use sieve_core::count::Totals;
use sieve_core::fate::Fate;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::{Context, volume_path};
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, place, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("rebuild-plan", RebuildPlan);
json::named!("rebuild", RebuildReport);

/// What is rebuilt, and where.
#[derive(Args)]
pub(crate) struct RebuildArguments {
    /// The lost disks
    #[arg(required = true, value_name = "NAME", add = crate::complete::disks())]
    pub(crate) names: Vec<String>,
    /// The folder of the new disk, one for each name
    #[arg(long, required = true, value_name = "DIR")]
    pub(crate) onto: Vec<PathBuf>,
    /// Bring these folders or files back before all others
    #[arg(long, value_name = "PATH", add = crate::complete::paths())]
    pub(crate) first: Vec<String>,
    /// Keep what comes back in pieces beside its name, with zeros for what is missing
    #[arg(long)]
    pub(crate) salvage: bool,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &RebuildArguments) -> Result<Outcome> {
    let RebuildArguments { names, onto, first, salvage, restraint, consent } = arguments;
    let first = first.iter().map(volume_path).collect::<Result<Vec<_>>>()?;
    let options = Options { first, salvage: *salvage };
    let names: Vec<&str> = names.iter().flat_map(|n| n.split(',')).collect();
    if names.len() != onto.len() {
        let message = format!(
            "{} disks are named and {} folders: one --onto DIR for each disk",
            names.len(),
            onto.len()
        );
        return Err(Error::new(Kind::Usage, "rebuild.pairs", message));
    }
    let requests: Vec<Request> = names
        .iter()
        .zip(onto)
        .map(|(name, onto)| Request { name: (*name).to_string(), onto: onto.clone() })
        .collect();
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(restraint, &mut pool);
    let show = |pool: &Pool, prepared: &Prepared| {
        if !context.json {
            show_plan(pool, &prepared.plan);
        }
    };
    let lost: Vec<String> = requests.iter().map(|request| request.name.clone()).collect();
    let question = Question { consent: *consent, work: Work::Without("rebuild", &lost), words: "Rebuild?" };
    let essence = |prepared: &Prepared| essence_of(&prepared.plan);
    let planned = |pool: &_| rebuild::plan(pool, &requests);
    let prepared = match agree(&mut pool, &question, planned, show, essence, |_| true)? {
        Agreed::Yes(prepared) => prepared,
        Agreed::No(prepared) => {
            if context.json {
                json::print(&prepared.plan)?;
            }
            return Ok(Outcome::well(prepared.plan.predicted.all_survive()));
        }
    };
    let report = rebuild::execute(&mut pool, &prepared, &options, &Watch::begin(restraint.events)?)?;
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&report);
    }
    Ok(Outcome::well(
        report.obtained.all_survive()
            && report.damage.is_empty()
            && report.parity_cells_left == 0
            && !report.stopped,
    ))
}

fn show_plan(pool: &Pool, plan: &RebuildPlan) {
    crate::say!("Rebuilds in volume {}; the other disks are only read:\n", plan.volume);
    let mut table = Table::new(&["disk", "?role", "onto", ">files", ">writes", "??>free there"]);
    for target in &plan.targets {
        table.row([
            target.disk.clone(),
            target.role.word().into(),
            target.onto.clone(),
            count(target.files),
            size(target.bytes),
            size(target.free),
        ]);
    }
    table.print();
    for spec in plan.targets.iter().filter_map(|target| pool.spec.disk(&target.disk)) {
        if let Some(place) = place::of(spec) {
            crate::say!("  the old {}: {place}", spec.name);
        }
    }
    for doubt in plan.targets.iter().flat_map(|t| &t.doubts) {
        crate::say!("  {} {doubt}", style::paint(style::WATCH, "?"));
    }
    if !plan.also_missing.is_empty() {
        let names = plan.also_missing.join(", ");
        crate::say!("  {} missing as well, and not rebuilt now: {names}", style::paint(style::WATCH, "?"));
    }
    style::heading("Reads at most");
    let mut reads = Table::new(&["disk", ">reads"]);
    for (disk, bytes) in &plan.read_bytes {
        reads.row([disk.clone(), size(bytes)]);
    }
    reads.print();
    crate::commands::protect::sync::show_forecast(&plan.forecast);
}

fn show_report(report: &RebuildReport) {
    style::heading("Predicted and obtained");
    show_comparison(&report.predicted, &report.obtained);
    for (path, fate) in report.not_back.iter().take(20) {
        crate::say!("  {} {path}", style::paint(style::of_fate(*fate), fate.word()));
    }
    if report.not_back.len() > 20 {
        crate::say!("  and {} more (all with --json)", report.not_back.len() - 20);
    }
    for damage in &report.damage {
        crate::say!("  {} {damage}", style::paint(style::BAD, "met"));
    }
    if report.parity_cells + report.parity_cells_left > 0 {
        crate::say!(
            "\n{} computed, {} could not be: the next sync computes them.",
            units::parity_cells(report.parity_cells),
            count(report.parity_cells_left)
        );
    }
    if report.stopped {
        let text = "Stopped: what is whole is there. Run it again to go on from here; the new disk is not a member yet.";
        crate::answer!("\n{}", style::paint(style::WATCH, text));
        return;
    }
    let exact = report.predicted == report.obtained;
    let (text, colour) =
        if exact { ("Exactly as predicted.", style::WELL) } else { ("Not as predicted.", style::WATCH) };
    crate::answer!("\n{}", style::paint(colour, text));
    for file in &report.salvaged {
        let holes: Vec<String> = file.holes.iter().map(|(from, to)| format!("{from} to {to}")).collect();
        crate::say!(
            "{} {}: zeros in place of bytes {}",
            style::paint(style::WATCH, "salvaged"),
            file.at,
            holes.join(", ")
        );
    }
}

/// Two totals side by side.
pub(crate) fn show_comparison(predicted: &Totals, obtained: &Totals) {
    let mut table = Table::new(&["fate", ">predicted", ">", ">obtained", ">"]);
    for fate in Fate::ALL {
        let (before, after) = (predicted.of(fate), obtained.of(fate));
        let style = if before.files + after.files == 0 { style::FAINT } else { style::of_fate(fate) };
        table.styled_row([
            (fate.word().into(), style),
            (count(before.files), style),
            (size(before.bytes), style),
            (count(after.files), style),
            (size(after.bytes), style),
        ]);
    }
    table.print();
}
