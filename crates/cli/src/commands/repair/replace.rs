//! `replace`: another disk takes the place of one; of a parity disk the image moves.

use std::path::PathBuf;

use clap::Args;
use sieve_actions::disks::membership::handover::HandoverRequest;
use sieve_actions::disks::membership::replace;
use sieve_actions::disks::membership::replace::{
    PreparedReplace, ReplacePlan, ReplaceReport, ReplaceRequest,
};
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::Context;
use crate::commands::protect::sync::show_forecast;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{count, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

/// A disk that gives its place to another.
#[derive(Args)]
pub(crate) struct ReplaceArguments {
    /// The disk: a parity disk, whose image moves; or a data or cache disk, whose files are copied
    #[arg(value_name = "NAME", add = crate::complete::disks())]
    pub(crate) name: String,
    /// The folder of the new disk
    #[arg(long, value_name = "DIR")]
    pub(crate) onto: PathBuf,
    /// How much of the new disk may be used, where the pool file limits the old one
    #[arg(long, value_name = "SIZE", value_parser = ByteLength::parse)]
    pub(crate) capacity: Option<ByteLength>,
    /// The disk of the pool file that takes what the new one has no room for: the image lies on both
    #[arg(long, value_name = "NAME", add = crate::complete::disks())]
    pub(crate) rest: Option<String>,
    /// Of a disk with files: take our traces off the old one when the new one has its place; its ordinary files stay
    #[arg(long)]
    pub(crate) wipe_label: bool,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: ReplaceArguments) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(&arguments.restraint, &mut pool);
    if pool.member_named(&arguments.name)?.row.role.holds_files() {
        return hand_over(context, &mut pool, arguments);
    }
    let ReplaceArguments { name, onto, capacity, rest, wipe_label, restraint, consent } = arguments;
    if wipe_label {
        let message = "--wipe-label is for a disk with files";
        return Err(Error::new(Kind::Usage, "replace.wipe", message)
            .remedy("leave it out; zinc-sieve wipe takes our traces off a parity disk afterwards"));
    }
    let request = ReplaceRequest { name, onto, capacity, rest };
    let show = |_: &_, prepared: &PreparedReplace| {
        if !context.json {
            show_plan(&prepared.plan);
        }
    };
    let question = Question { consent, work: Work::Long("replace"), words: "Move it?" };
    let essence = |prepared: &PreparedReplace| essence_of(&prepared.plan);
    let prepared =
        match agree(&mut pool, &question, |pool| replace::plan(pool, &request), show, essence, |_| true)? {
            Agreed::Yes(prepared) => prepared,
            Agreed::No(prepared) => {
                if context.json {
                    json::print(&prepared.plan)?;
                }
                return Ok(Outcome::Fine);
            }
        };
    let watch = Watch::begin(restraint.events)?;
    let report = replace::execute(&mut pool, prepared, &watch)?;
    drop(watch);
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&report);
    }
    Ok(Outcome::well(!report.stopped && report.left == 0))
}

/// A disk with files: they are copied, and parity stays as it is.
fn hand_over(context: &Context, pool: &mut Pool, arguments: ReplaceArguments) -> Result<Outcome> {
    let ReplaceArguments { name, onto, capacity, rest, wipe_label, restraint, consent } = arguments;
    if rest.is_some() {
        return Err(Error::new(
            Kind::Usage,
            "replace.rest",
            "--rest is for a parity disk: files go to one disk",
        )
        .remedy("leave it out; what does not fit can go to other disks first: zinc-sieve move"));
    }
    let request = HandoverRequest { name, onto, capacity, wipes: wipe_label };
    super::handover::run(context, pool, &request, consent, restraint.events)
}

fn show_plan(plan: &ReplacePlan) {
    let goes_on = if plan.resumes { "goes on moving" } else { "moves" };
    crate::say!("The parity of {} on {} {goes_on}; {} is only read:\n", plan.volume, plan.disk, plan.from);
    let rest = plan.cells - plan.cells_on_first;
    crate::say!("  {} cells to {}", count(plan.cells_on_first), plan.onto);
    if let Some(onto) = &plan.rest {
        crate::say!("  {} cells to {onto}: the image goes on there", count(rest));
    }
    crate::say!("\n{} are copied as they are.", size(plan.bytes));
    if plan.invalid > 0 {
        let text =
            format!("{} are not valid where they are, and are computed.", units::parity_cells(plan.invalid));
        crate::say!("{}", style::paint(style::WATCH, text));
    }
    show_forecast(&plan.forecast);
    for doubt in &plan.doubts {
        crate::say!("  {} {doubt}", style::paint(style::WATCH, "?"));
    }
    crate::say!("\nThe pool file is changed; comments in it stay.");
}

fn show_report(report: &ReplaceReport) {
    if report.stopped && report.computed + report.left == 0 {
        let text =
            "Stopped: nothing has changed yet; what was copied is kept. Run it again to go on from here.";
        crate::say!("\n{}", style::paint(style::WATCH, text));
        return;
    }
    let rest = report.rest.as_ref().map_or(String::new(), |name| format!(" and continues on {name}"));
    crate::say!("\nThe parity of {} lies at {}{rest} now.", report.disk, report.onto);
    crate::say!(
        "{} copied, {} computed. What the old disk holds is no longer used: wipe it before it is used again.",
        units::parity_cells(report.copied),
        count(report.computed)
    );
    if report.left > 0 {
        let text = format!("{} left: zinc-sieve sync computes them.", units::parity_cells(report.left));
        crate::say!("{}", style::paint(style::WATCH, text));
    }
}
