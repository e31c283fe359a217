//! `replace`: another disk takes the place of one; of a parity disk the image moves.

use std::path::{Path, PathBuf};

use clap::Args;
use sieve_actions::disks::membership::About;
use sieve_actions::disks::membership::handover::HandoverRequest;
use sieve_actions::disks::membership::replace;
use sieve_actions::disks::membership::replace::{
    PreparedReplace, ReplacePlan, ReplaceReport, ReplaceRequest,
};
use sieve_core::units::ByteLength;
use sieve_disk::inventory::devices_of_system;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use super::handover::Told;
use super::words::POOL_FILE;
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
    /// The disks: parity disks, whose images move; or data or cache disks, whose files are copied
    #[arg(required = true, value_name = "NAME", add = crate::complete::disks())]
    pub(crate) names: Vec<String>,
    /// The folder of the new disk, one for each name
    #[arg(long, required = true, value_name = "DIR")]
    pub(crate) onto: Vec<PathBuf>,
    /// How much of the new disk may be used, where the pool file limits the old one
    #[arg(long, value_name = "SIZE", value_parser = ByteLength::parse)]
    pub(crate) capacity: Option<ByteLength>,
    /// The disk of the pool file that takes what the new one has no room for: the image lies on both
    #[arg(long, value_name = "NAME", add = crate::complete::disks())]
    pub(crate) rest: Option<String>,
    /// Of a disk with files: take our traces off the old one when the new one has its place; its ordinary files stay
    #[arg(long)]
    pub(crate) wipe_label: bool,
    /// The bay of the new disk, for the pool file
    #[arg(long, value_name = "BAY")]
    pub(crate) bay: Option<String>,
    /// Its serial number; where the machine tells it, that is taken
    #[arg(long, value_name = "TEXT")]
    pub(crate) serial: Option<String>,
    /// The day it was bought, as "2031-05-04"
    #[arg(long, value_name = "DAY")]
    pub(crate) bought: Option<String>,
    /// What it cost, as "249 EUR"
    #[arg(long, value_name = "PRICE")]
    pub(crate) price: Option<String>,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

json::list!("replace", Replaced { replaced: Told });

pub(crate) fn run(context: &Context, arguments: &ReplaceArguments) -> Result<Outcome> {
    let (names, onto) = (&arguments.names, &arguments.onto);
    if names.len() != onto.len() {
        let message = format!("{} disks and {} new ones were named", names.len(), onto.len());
        return Err(Error::new(Kind::Usage, "replace.pairs", message)
            .remedy("one --onto DIR for each disk, in the same order"));
    }
    let one_only = [&arguments.bay, &arguments.serial, &arguments.bought, &arguments.price];
    if names.len() > 1 && one_only.iter().any(|text| text.is_some()) {
        let message = "--bay, --serial, --bought and --price speak of one disk";
        return Err(Error::new(Kind::Usage, "replace.about", message)
            .remedy("replace them one after the other, or write these into the pool file"));
    }
    if names.len() > 1 && arguments.rest.is_some() {
        let message = "--rest goes with one disk";
        return Err(
            Error::new(Kind::Usage, "replace.rest", message).remedy("replace them one after the other")
        );
    }
    let mut reports = Vec::new();
    let mut outcome = Outcome::Fine;
    // One after the other, each by the pool as the one before left it: what is done stays done.
    for (name, onto) in names.iter().zip(onto) {
        let (one, report) = replace_one(context, arguments, name, onto).inspect_err(|_| {
            if !reports.is_empty() {
                crate::say_aside!("note: replaced before that: {}", names[..reports.len()].join(", "));
            }
        })?;
        reports.push(report);
        outcome = one;
        if one != Outcome::Fine {
            break;
        }
    }
    if context.json {
        json::print(&Replaced { replaced: &reports })?;
    }
    Ok(outcome)
}

/// One disk; with `--json` what is printed of it.
fn replace_one(
    context: &Context,
    arguments: &ReplaceArguments,
    name: &str,
    onto: &Path,
) -> Result<(Outcome, Told)> {
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(&arguments.restraint, &mut pool);
    let (name, onto) = (name.to_string(), onto.to_path_buf());
    if pool.member_named(&name)?.row.role.holds_files() {
        return hand_over(context, &mut pool, arguments, name, onto);
    }
    if arguments.wipe_label {
        let message = "--wipe-label is for a disk with files";
        return Err(Error::new(Kind::Usage, "replace.wipe", message)
            .remedy("leave it out; zinc-sieve wipe takes our traces off a parity disk afterwards"));
    }
    let (capacity, rest) = (arguments.capacity, arguments.rest.clone());
    let about = about(arguments, &onto);
    let request = ReplaceRequest { name, onto, capacity, rest, about };
    let show = |_: &_, prepared: &PreparedReplace| {
        if !context.json {
            show_plan(&prepared.plan);
        }
    };
    let question = Question { consent: arguments.consent, work: Work::Long("replace"), words: "Move it?" };
    let essence = |prepared: &PreparedReplace| essence_of(&prepared.plan);
    let prepared =
        match agree(&mut pool, &question, |pool| replace::plan(pool, &request), show, essence, |_| true)? {
            Agreed::Yes(prepared) => prepared,
            Agreed::No(prepared) => return Ok((Outcome::Fine, Told::ParityPlan(prepared.plan))),
        };
    let watch = Watch::begin(arguments.restraint.events)?;
    let report = replace::execute(&mut pool, prepared, &watch)?;
    drop(watch);
    if !context.json {
        show_report(&report);
    }
    Ok((Outcome::well(!report.stopped && report.left == 0), Told::ParityReport(report)))
}

/// What is known of the new disk: as it was typed, else as the machine tells it of the disk that is mounted there.
fn about(arguments: &ReplaceArguments, onto: &Path) -> About {
    let place = onto.canonicalize().unwrap_or_else(|_| onto.to_path_buf());
    // A help and no more: where the machine does not tell, it is left out.
    let devices = devices_of_system().unwrap_or_default();
    let device = devices.iter().find(|device| device.mount_points().any(|at| Path::new(at) == place));
    About {
        serial: arguments.serial.clone().or_else(|| device?.serial.clone()),
        model: device.and_then(|device| device.model.clone()),
        bay: arguments.bay.clone(),
        bought: arguments.bought.clone(),
        price: arguments.price.clone(),
    }
}

/// A disk with files: they are copied, and parity stays as it is.
fn hand_over(
    context: &Context,
    pool: &mut Pool,
    arguments: &ReplaceArguments,
    name: String,
    onto: PathBuf,
) -> Result<(Outcome, Told)> {
    if arguments.rest.is_some() {
        return Err(Error::new(
            Kind::Usage,
            "replace.rest",
            "--rest is for a parity disk: files go to one disk",
        )
        .remedy("leave it out; what does not fit can go to other disks first: zinc-sieve move"));
    }
    let (about, capacity, wipes) = (about(arguments, &onto), arguments.capacity, arguments.wipe_label);
    let request = HandoverRequest { name, onto, capacity, about, wipes };
    super::handover::run(context, pool, &request, arguments.consent, arguments.restraint.events)
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
    crate::say!("\n{POOL_FILE}");
}

fn show_report(report: &ReplaceReport) {
    if report.stopped && report.computed + report.left == 0 {
        let text =
            "Stopped: nothing has changed yet; what was copied is kept. Run it again to go on from here.";
        crate::answer!("\n{}", style::paint(style::WATCH, text));
        return;
    }
    let rest = report.rest.as_ref().map_or(String::new(), |name| format!(" and continues on {name}"));
    crate::answer!("\nThe parity of {} lies at {}{rest} now.", report.disk, report.onto);
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
