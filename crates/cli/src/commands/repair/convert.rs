//! `convert`: a volume of one kind becomes one of another.

use clap::Args;
use sieve_actions::disks::convert::{self, ConvertPlan, ConvertReport, ConvertRequest, PreparedConvert};
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use crate::args::{Consent, KindWord, RestraintArguments};
use crate::commands::context::Context;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("convert-plan", ConvertPlan);
json::named!("convert", ConvertReport);

/// So many files are told by name.
const SHOWN: usize = 20;

/// What a volume becomes.
#[derive(Args)]
pub(crate) struct ConvertArguments {
    /// The volume
    #[arg(value_name = "VOLUME", add = crate::complete::volumes())]
    volume: String,
    /// The kind that it becomes
    #[arg(long, value_name = "KIND")]
    to: KindWord,
    /// Of a tiered volume: its fast disks
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    fast: Vec<String>,
    /// Of a mirrored volume: on how many disks each file lies [default: 2]
    #[arg(long, value_name = "N")]
    copies: Option<usize>,
    /// Allow that afterwards only so many disks may be lost without losing a file [default: as many as now]
    #[arg(long, value_name = "N")]
    never_below: Option<u8>,
    #[command(flatten)]
    restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: ConvertArguments) -> Result<Outcome> {
    let ConvertArguments { volume, to, fast, copies, never_below, restraint, consent } = arguments;
    let request = ConvertRequest { volume, to: to.into(), fast, copies, never_below };
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(&restraint, &mut pool);
    let watch = Watch::begin(restraint.events)?;
    let planned = |pool: &Pool| {
        refuse_mounted(&*pool.home, &request.volume)?;
        convert::plan(pool, &request, &watch)
    };
    let show = |_: &_, prepared: &PreparedConvert| {
        if !context.json {
            show_plan(&prepared.plan);
        }
    };
    let question = Question { consent, work: Work::Long("convert"), words: "Convert it?" };
    let essence = |prepared: &PreparedConvert| essence_of(&prepared.plan);
    let prepared = match agree(&mut pool, &question, planned, show, essence, |_| true)? {
        Agreed::Yes(prepared) => prepared,
        Agreed::No(prepared) => {
            if context.json {
                json::print(&prepared.plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let to_copy = prepared.plan.to_copy.files;
    let report = convert::execute(&mut pool, prepared, &watch)?;
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&report, to_copy);
    }
    Ok(Outcome::well(report.is_done()))
}

fn show_plan(plan: &ConvertPlan) {
    let ConvertPlan { volume, from, to, .. } = plan;
    let files = format!("{}, {}", units::files(plan.files.files), size(plan.files.bytes));
    crate::say!(
        "{volume}, {files}, is {from} and becomes {to}. Every file stays where it is; parity is not touched."
    );
    if plan.to_copy.files > 0 {
        let (copies, bytes) = (plan.to_copy.files, size(plan.to_copy.bytes));
        crate::say!("The next sync makes the further copies: {copies}, {bytes}.");
    }
    if plan.surplus.files > 0 {
        let (copies, bytes) = (plan.surplus.files, size(plan.surplus.bytes));
        crate::say!(
            "Copies that are one too many: {copies}, {bytes}; each is held, out of sight, after the one that stays was read, until a sync has passed that."
        );
    }
    let guard = match (plan.guard_before, plan.guard_after) {
        (before, after) if before == after => {
            format!("Guard stays as it is: {} may be lost, whichever they are.", disks(after))
        }
        (before, after) => style::paint(
            style::WATCH,
            format!(
                "Guard falls: {} may be lost now, whichever they are, and {} afterwards.",
                disks(before),
                disks(after)
            ),
        ),
    };
    crate::say!("{guard}\nThe pool file is changed; comments in it stay.");
}

fn show_report(report: &ConvertReport, to_copy: u64) {
    if !report.is_done() {
        let held = units::files(report.held.files);
        let stopped = if report.stopped { "Stopped: " } else { "" };
        let text = format!(
            "{stopped}{} is {} still; further copies of {held} are held.",
            report.volume, report.from
        );
        crate::answer!("\n{}", style::paint(style::WATCH, text));
        for left in report.left_alone.iter().take(SHOWN) {
            crate::say!("  {}: {}", left.path, left.why);
        }
        crate::say!("Next: see to them, then run it again to go on; a sync makes the copies anew instead.");
        return;
    }
    crate::answer!("\n{}", style::paint(style::WELL, format!("{} is {} now.", report.volume, report.to)));
    if to_copy > 0 {
        crate::say!("Next: zinc-sieve sync makes the further copies.");
    } else if report.held.files > 0 {
        crate::say!("Next: zinc-sieve sync frees what is held.");
    } else if report.to == "tiered" {
        crate::say!("Next: zinc-sieve settle --dry-run shows what would change its tier.");
    }
}

fn disks(count: u8) -> String {
    match count {
        0 => "no disk".into(),
        1 => "one disk".into(),
        count => format!("{count} disks"),
    }
}
