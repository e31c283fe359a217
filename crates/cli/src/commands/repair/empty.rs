//! `vacate` of data disks: their files go to the others, a sync passes them there, and then the disks leave.

use sieve_actions::disks::membership::empty;
use sieve_actions::disks::membership::empty::{Departure, EmptyPlan, EmptyReport};
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use crate::args::Consent;
use crate::commands::context::Context;
use crate::commands::files::shift::{show_moved, show_shift};
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::style;
use crate::json;
use crate::progress::Watch;

json::named!("vacate-data-plan", EmptyPlan);
json::named!("vacate-data", EmptyReport);

pub(super) fn run(
    context: &Context,
    pool: &mut Pool,
    names: &[String],
    consent: Consent,
    events: bool,
) -> Result<Outcome> {
    let planned = |pool: &Pool| {
        // New files would go on landing on a disk that is being emptied.
        for name in names {
            refuse_mounted(&*pool.home, &pool.member_named(name)?.row.volume)?;
        }
        empty::plan(pool, names, &Watch::new(events))
    };
    let show = |_: &_, plan: &EmptyPlan| {
        if !context.json {
            show_plan(plan);
        }
    };
    let question = Question {
        consent,
        work: Work::Long("vacate-data"),
        words: "Empty it, and take it out of the pool?",
    };
    let plan = match agree(pool, &question, planned, show, essence_of, |_| true)? {
        Agreed::Yes(plan) => plan,
        Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let report = empty::execute(pool, &plan, &Watch::begin(events)?)?;
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&plan, &report);
    }
    Ok(Outcome::well(matches!(report.departure, Departure::Left(_))))
}

fn show_plan(plan: &EmptyPlan) {
    let names = plan.disks.join(", ");
    if plan.shift.is_empty() {
        crate::say!("Nothing is on {names} any more that has to move.");
    } else {
        show_shift(&plan.shift);
    }
    if plan.syncs {
        crate::say!(
            "\nThen a sync guards what moved where it is now; until it has, what parity has of it stays on {names}."
        );
    }
    crate::say!(
        "Then {names} leaves the volume; nothing of ours stays on it. The pool file is changed; comments in it stay."
    );
}

fn show_report(plan: &EmptyPlan, report: &EmptyReport) {
    show_moved(&report.shift);
    let names = plan.disks.join(", ");
    match &report.departure {
        Departure::Left(_) => crate::answer!(
            "\n{}",
            style::paint(style::WELL, format!("{names} is empty, and no member any more."))
        ),
        Departure::Stay(why) => {
            crate::answer!("\n{}", style::paint(style::WATCH, format!("{names} is a member still: {why}.")));
        }
    }
}
