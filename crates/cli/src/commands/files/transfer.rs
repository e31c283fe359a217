//! `move --volume`: files from one volume to another.

use sieve_actions::files::transfer;
use sieve_actions::files::transfer::{Request, TransferPlan, TransferReport};
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use super::put::{show_by_disk, show_files};
use super::shift::show_left;
use crate::args::Consent;
use crate::commands::context::Context;
use crate::commands::protect::sync::show_forecast;
use crate::confirm::{Agreed, Question, Work, agree};
use crate::exit::Outcome;
use crate::human::{size, style, units};
use crate::json;
use crate::progress::Watch;

json::named!("move-volume-plan", TransferPlan);
json::named!("move-volume", TransferReport);

pub(super) fn run(
    context: &Context,
    pool: &mut Pool,
    request: Request<'_>,
    (consent, events): (Consent, bool),
) -> Result<Outcome> {
    let planned = |pool: &Pool| transfer::plan(pool, request, &Watch::new(events));
    let show = |pool: &Pool, plan: &TransferPlan| {
        if !context.json {
            show_plan(plan);
            if consent.dry_run {
                show_files(pool, plan.files.iter().cloned());
            }
            show_ways(plan);
        }
    };
    let question = Question { consent, work: Work::Long("move"), words: "Move them?" };
    let plan = match agree(pool, &question, planned, show, TransferPlan::essence, |_| true)? {
        Agreed::Yes(plan) => plan,
        Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let report = transfer::execute(pool, &plan, &Watch::begin(events)?)?;
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&plan, &report);
    }
    Ok(Outcome::well(report.is_whole()))
}

fn show_plan(plan: &TransferPlan) {
    let (from, to) = (&plan.from, &plan.to);
    crate::say!(
        "Moves from {from} to {to}, under the same paths, each file verified before it gets its name:\n"
    );
    show_by_disk(&plan.by_disk);
    if plan.there_already > 0 {
        crate::say!(
            "\n{} there already, whole and the same: not copied again.",
            units::files(plan.there_already)
        );
    }
    for skipped in &plan.skipped {
        crate::say!("  stays in {from}: {skipped}");
    }
}

/// How long it takes, and what guards the files on the way.
fn show_ways(plan: &TransferPlan) {
    let (from, to) = (&plan.from, &plan.to);
    if let Some(forecast) = &plan.forecast {
        show_forecast(forecast);
    }
    if plan.syncs {
        crate::say!("\nThen a sync guards them in {to}, and only then they leave {from}.");
    }
    crate::say!(
        "What leaves {from} is held there, out of sight, until its next sync has passed it; `zinc-sieve restore` brings it back until then."
    );
    if plan.guard_after < plan.guard_before {
        let told = format!(
            "They are guarded less then: {} bears {}, {to} {}.",
            from,
            units::disks(plan.guard_before as u64),
            units::disks(plan.guard_after as u64),
        );
        crate::say!("{}", style::paint(style::WATCH, told));
    }
}

fn show_report(plan: &TransferPlan, report: &TransferReport) {
    let total = report.total();
    match &report.stays {
        Some(why) => {
            let told = format!("What was copied is in {} and still in {}: {why}.", plan.to, plan.from);
            crate::answer!("\n{}", style::paint(style::WATCH, told));
        }
        None => crate::answer!(
            "\n{} moved from {} to {}, {}.",
            units::files(total.files),
            plan.from,
            plan.to,
            size(total.bytes)
        ),
    }
    show_left(&report.left_alone);
}
