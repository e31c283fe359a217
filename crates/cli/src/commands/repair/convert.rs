//! `convert`: a volume of one kind becomes one of another.

use clap::Args;
use sieve_actions::disks::convert::{
    self, ConvertPlan, ConvertReport, ConvertRequest, PiecesPlan, PiecesReport, PreparedConvert,
};
use sieve_core::count::Count;
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use crate::args::{Consent, KindWord, RestraintArguments};
use crate::commands::context::Context;
use crate::commands::protect::sync::show_forecast;
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
    // What only waits for a sync went well.
    let waits = report.waits() && !report.stopped && report.left_alone.is_empty();
    Ok(if waits { Outcome::Waits } else { Outcome::well(report.is_done()) })
}

fn show_plan(plan: &ConvertPlan) {
    let ConvertPlan { volume, from, to, .. } = plan;
    let what = format!("{volume}, {}", counted(plan.files));
    match &plan.pieces {
        None => crate::say!(
            "{what}, is {from} and becomes {to}. Every file stays where it is; parity is not touched."
        ),
        Some(_) if from == to => crate::say!("{what}, is {from}, and stays so."),
        Some(_) => crate::say!(
            "{what}, is {from} and becomes {to}. Every whole file stays where it is; what lies in pieces becomes whole first."
        ),
    }
    if let Some(pieces) = &plan.pieces {
        show_pieces_plan(plan, pieces);
    }
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
    crate::say!("{guard}");
    if from != to && !plan.pieces.as_ref().is_some_and(|pieces| pieces.goes_on) {
        crate::say!("The pool file is changed; comments in it stay.");
    }
}

/// What becomes of files in pieces.
fn show_pieces_plan(plan: &ConvertPlan, pieces: &PiecesPlan) {
    let lines = [
        (
            pieces.to_copy,
            "copied whole onto one disk, beside the pieces, which are the files until a sync has guarded the copies",
        ),
        (
            pieces.to_become_whole,
            "whole copies take the place of the pieces, which are held, out of sight, until a sync has passed that",
        ),
        (pieces.waiting, "whole copies are there, and a sync has to guard them first"),
        (pieces.without_room, "no disk has room for all of one now"),
        (pieces.taken_back, "whole copies are taken back: held, out of sight, until a sync has passed that"),
    ];
    for (count, words) in lines.into_iter().filter(|(count, _)| count.files > 0) {
        crate::say!("  {}: {words}.", counted(count));
    }
    if let Some(forecast) = &pieces.forecast {
        show_forecast(forecast);
    }
    if pieces.goes_on {
        crate::say!(
            "{} is {} still when that is done; after a sync, the same command goes on.",
            plan.volume,
            plan.from
        );
    }
}

fn counted(count: Count) -> String {
    format!("{}, {}", units::files(count.files), size(count.bytes))
}

fn show_report(report: &ConvertReport, to_copy: u64) {
    let ConvertReport { volume, from, to, .. } = report;
    if let Some(pieces) = &report.pieces {
        show_pieces_report(pieces);
    }
    if !report.is_done() {
        let stopped = if report.stopped { "Stopped: " } else { "" };
        let held = if report.held.files > 0 {
            format!("; further copies of {} are held", units::files(report.held.files))
        } else {
            String::new()
        };
        let text = format!("{stopped}{volume} is {from} still{held}.");
        crate::answer!("\n{}", style::paint(style::WATCH, text));
        for left in report.left_alone.iter().take(SHOWN) {
            crate::say!("  {}: {}", left.path, left.why);
        }
        if report.left_alone.is_empty() && report.waits() {
            crate::say!(
                "Next: zinc-sieve sync, then run this again to go on; --to {from} takes the copies back."
            );
        } else if report.left_alone.is_empty() {
            crate::say!("Next: run it again to go on.");
        } else if *from == "mirrored" {
            crate::say!(
                "Next: see to them, then run it again to go on; a sync makes the copies anew instead."
            );
        } else {
            crate::say!("Next: see to them, then run it again to go on.");
        }
        return;
    }
    let words =
        if from == to { format!("{volume} is {from}, as it was.") } else { format!("{volume} is {to} now.") };
    crate::answer!("\n{}", style::paint(style::WELL, words));
    let frees = report.held.files > 0
        || report
            .pieces
            .as_ref()
            .is_some_and(|pieces| pieces.became_whole.files + pieces.taken_back.files > 0);
    if to_copy > 0 {
        crate::say!("Next: zinc-sieve sync makes the further copies.");
    } else if frees {
        crate::say!("Next: zinc-sieve sync frees what is held.");
    } else if *to == "tiered" {
        crate::say!("Next: zinc-sieve settle --dry-run shows what would change its tier.");
    }
}

/// What became of files in pieces.
fn show_pieces_report(pieces: &PiecesReport) {
    let lines = [
        (pieces.copied, "copied whole, beside the pieces"),
        (pieces.became_whole, "whole now, each on one disk; their pieces are held"),
        (pieces.taken_back, "whole copies taken back, and held"),
        (pieces.waiting, "not whole yet: a sync has to guard the copies first"),
        (pieces.without_room, "in pieces still: no disk has room for all of one now"),
    ];
    for (count, words) in lines.into_iter().filter(|(count, _)| count.files > 0) {
        crate::say!("{}: {words}.", counted(count));
    }
}

fn disks(count: u8) -> String {
    match count {
        0 => "no disk".into(),
        1 => "one disk".into(),
        count => format!("{count} disks"),
    }
}
