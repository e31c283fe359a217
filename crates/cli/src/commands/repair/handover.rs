//! `replace` of a living data or cache disk.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::disks::membership::handover;
use sieve_actions::disks::membership::handover::{
    HandoverPlan, HandoverReport, HandoverRequest, PreparedHandover,
};
use sieve_actions::disks::membership::replace::{ReplacePlan, ReplaceReport};
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use super::words::POOL_FILE;
use crate::args::Consent;
use crate::commands::context::Context;
use crate::commands::protect::sync::show_forecast;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{size, style, units};
use crate::progress::Watch;

/// So many files are told by name.
const SHOWN: usize = 20;

/// What is printed of one disk: of one with files, or of a parity drive; as it would be done, or as it was.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub(super) enum Told {
    Plan(HandoverPlan),
    Report(HandoverReport),
    ParityPlan(ReplacePlan),
    ParityReport(ReplaceReport),
}

pub(super) fn run(
    context: &Context,
    pool: &mut Pool,
    request: &HandoverRequest,
    consent: Consent,
    events: bool,
) -> Result<(Outcome, Told)> {
    let planned = |pool: &Pool| {
        // A mounted volume writes to the old disk, and would go on doing so.
        refuse_mounted(&*pool.home, &pool.member_named(&request.name)?.row.volume)?;
        handover::plan(pool, request)
    };
    let show = |_: &_, prepared: &PreparedHandover| {
        if !context.json {
            show_plan(&prepared.plan);
        }
    };
    let question = Question { consent, work: Work::Long("replace"), words: "Replace it?" };
    let essence = |prepared: &PreparedHandover| essence_of(&prepared.plan);
    let prepared = match agree(pool, &question, planned, show, essence, |_| true)? {
        Agreed::Yes(prepared) => prepared,
        Agreed::No(prepared) => return Ok((Outcome::Fine, Told::Plan(prepared.plan))),
    };
    let report = handover::execute(pool, prepared, &Watch::begin(events)?)?;
    if !context.json {
        show_report(&report);
    }
    Ok((Outcome::well(report.is_done()), Told::Report(report)))
}

fn show_plan(plan: &HandoverPlan) {
    let goes_on = if plan.resumes { "go on being copied" } else { "are copied" };
    crate::say!(
        "{} on {}, {}, {goes_on} to {} ({}), verified; {} is only read.",
        units::files(plan.files.files),
        plan.disk,
        size(plan.files.bytes),
        plan.onto,
        size(plan.space),
        plan.from
    );
    crate::say!(
        "Parity stays as it is: not one byte of it is written, and none read but for what {} does not give any more.",
        plan.disk
    );
    show_forecast(&plan.forecast);
    for doubt in &plan.doubts {
        crate::say!("  {} {doubt}", style::paint(style::WATCH, "?"));
    }
    if plan.wipes {
        crate::say!("At the end our traces go from {}; its ordinary files stay.", plan.from);
    }
    crate::say!("\n{POOL_FILE}");
}

fn show_report(report: &HandoverReport) {
    if report.stopped {
        let text =
            "Stopped: nothing has changed yet; what was copied is kept. Run it again to go on from here.";
        crate::answer!("\n{}", style::paint(style::WATCH, text));
        return;
    }
    if !report.from_parity.is_empty() {
        let files = units::files(report.from_parity.len() as u64);
        let text =
            format!("{files} came from parity, since {} does not give them as they should be:", report.disk);
        crate::say!("\n{}", style::paint(style::WATCH, text));
        show_files(&report.from_parity);
    }
    if !report.unreadable.is_empty() {
        let text = format!(
            "{} cannot be had from {}, nor from parity; it keeps its place:",
            units::files(report.unreadable.len() as u64),
            report.disk
        );
        crate::answer!("\n{}", style::paint(style::BAD, text));
        show_files(&report.unreadable);
        crate::say!(
            "Next: zinc-sieve fate --explain PATH says why; remove them (zinc-sieve rm) or bring them from elsewhere, then run this again."
        );
        return;
    }
    crate::answer!(
        "\n{}",
        style::paint(
            style::WELL,
            format!(
                "{} is at {} now: {}, {}, verified.",
                report.disk,
                report.onto,
                units::files(report.copied.files),
                size(report.copied.bytes)
            )
        )
    );
    match (&report.not_wiped, report.wiped) {
        (_, true) => {
            crate::say!(
                "{} is no member any more, and shows no trace of the pool; its files stay.",
                report.from
            );
        }
        (Some(why), _) => crate::say!("{} is no member any more; our traces stay on it: {why}", report.from),
        (None, false) => crate::say!(
            "{} is left whole, and no member any more: zinc-sieve wipe takes our traces off it.",
            report.from
        ),
    }
}

fn show_files(files: &[(String, String)]) {
    for (path, why) in files.iter().take(SHOWN) {
        crate::say!("  {path}: {why}");
    }
    if files.len() > SHOWN {
        crate::say!("  and {} more (all with --json)", units::files((files.len() - SHOWN) as u64));
    }
}
