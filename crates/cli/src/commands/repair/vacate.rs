//! `vacate`: disks leave.

use anstyle::Style;
use clap::Args;
use sieve_actions::disks::membership::empty;
use sieve_actions::disks::membership::vacate;
use sieve_actions::disks::membership::vacate::VacatePlan;
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::Context;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style};
use crate::{json, load};

json::named!("vacate-plan", VacatePlan);
json::named!("vacate", vacate::VacateReport);

/// The disks that leave.
#[derive(Args)]
pub(crate) struct VacateArguments {
    /// The disks: parity disks, empty caches, or data disks, whose files go to the others first
    #[arg(required = true, value_name = "NAME", add = crate::complete::disks())]
    pub(crate) names: Vec<String>,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &VacateArguments) -> Result<Outcome> {
    let VacateArguments { names, restraint, consent } = arguments;
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(restraint, &mut pool);
    let names: Vec<String> = names.iter().flat_map(|n| n.split(',')).map(str::to_string).collect();
    if empty::is_meant(&pool, &names)? {
        return super::empty::run(context, &mut pool, &names, *consent, restraint.events);
    }
    let show = |_: &_, plan: &VacatePlan| {
        if !context.json {
            show_plan(plan);
        }
    };
    let question =
        Question { consent: *consent, work: Work::Long("vacate"), words: "Take it out of the pool?" };
    let planned = |pool: &Pool| {
        // New files would go on landing on a cache that has left. A parity disk no program writes to.
        for member in pool.members.iter().filter(|member| names.contains(&member.row.name)) {
            if member.row.role.holds_files() {
                refuse_mounted(&*pool.home, &member.row.volume)?;
            }
        }
        vacate::plan(pool, &names)
    };
    let plan = match agree(&mut pool, &question, planned, show, essence_of, |_| true)? {
        Agreed::Yes(plan) => plan,
        Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let report = vacate::execute(&mut pool, &plan)?;
    if context.json {
        json::print(&report)?;
    } else {
        crate::answer!("\n{} left volume {}; the pool file says so.", report.disks.join(", "), report.volume);
    }
    Ok(Outcome::Fine)
}

fn show_plan(plan: &VacatePlan) {
    let names = plan.disks.join(", ");
    let what = if plan.freed == ByteLength::ZERO {
        "nothing is on it".to_string()
    } else {
        format!("its parity, {}, is removed", size(plan.freed))
    };
    crate::say!("{names} leaves volume {}: {what}.\n", plan.volume);
    let mut table = Table::new(&["guard", ">files now", ">size", ">files then", ">size"]);
    for change in plan.guards.iter().rev() {
        let style = match (change.guard, change.before.files, change.after.files) {
            (0, before, after) if after > before => style::WATCH,
            (_, 0, 0) => style::FAINT,
            _ => Style::new(),
        };
        table.styled_row([
            (change.guard.to_string(), style),
            (count(change.before.files), style),
            (size(change.before.bytes), style),
            (count(change.after.files), style),
            (size(change.after.bytes), style),
        ]);
    }
    table.print();
    if !plan.missing.is_empty() {
        let text = format!("{} is not there: what is on it stays.", plan.missing.join(", "));
        crate::say!("\n{}", style::paint(style::WATCH, text));
    }
    crate::say!("\nThe pool file is changed; comments in it, and the disk's own entry, stay.");
}
