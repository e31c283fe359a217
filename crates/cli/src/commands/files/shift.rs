//! `even-out`, and `move` within a volume: files from one data disk to another.

use clap::Args;
use sieve_actions::files::shift;
use sieve_actions::files::shift::{Measure, ShiftPlan, ShiftReport};
use sieve_core::pool::{Share, VolumeSpec};
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::{Context, share};
use crate::commands::protect::sync::show_forecast;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("move-plan", ShiftPlan);
json::named!("move", ShiftReport);

/// So many files are shown by name.
const SHOWN: usize = 12;

/// How even the disks are to be.
#[derive(Args)]
pub(crate) struct EvenOutArguments {
    /// The volume, where there are several
    #[arg(value_name = "VOLUME", add = crate::complete::volumes())]
    volume: Option<String>,
    /// No disk is to be fuller than this, "80 %"; without it all are to be equally full
    #[arg(long, value_name = "SHARE")]
    until: Option<String>,
    /// Equally full by share, or with the same space free
    #[arg(long, value_name = "MEASURE", default_value = "share")]
    by: MeasureWord,
    #[command(flatten)]
    restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum MeasureWord {
    Share,
    Free,
}

impl From<MeasureWord> for Measure {
    fn from(word: MeasureWord) -> Self {
        match word {
            MeasureWord::Share => Self::Share,
            MeasureWord::Free => Self::Free,
        }
    }
}

pub(crate) fn run_even_out(context: &Context, arguments: &EvenOutArguments) -> Result<Outcome> {
    let until =
        arguments.until.as_deref().map(|text| share(text, "even-out.until", "--until")).transpose()?;
    let until = until.and_then(|fraction| Share::parse(&format!("{}%", fraction * 100.0)));
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(&arguments.restraint, &mut pool);
    let volume = pool.volume(arguments.volume.as_deref())?;
    let events = arguments.restraint.events;
    let measure = arguments.by.into();
    let planned = |pool: &Pool| shift::even_out(pool, &volume, until, measure, &Watch::new(events));
    agree_and_shift(context, &mut pool, &volume, (arguments.consent, events), planned)
}

pub(super) fn agree_and_shift(
    context: &Context,
    pool: &mut Pool,
    volume: &VolumeSpec,
    (consent, events): (Consent, bool),
    planned: impl FnMut(&Pool) -> Result<ShiftPlan>,
) -> Result<Outcome> {
    let show = |_: &_, plan: &ShiftPlan| {
        if !context.json {
            show_shift(plan);
        }
    };
    let question = Question { consent, work: Work::Long("move"), words: "Move them?" };
    let plan = match agree(pool, &question, planned, show, essence_of, |plan| !plan.is_empty())? {
        Agreed::Yes(plan) if !plan.is_empty() => plan,
        Agreed::Yes(plan) | Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    let report = shift::execute(pool, volume, &plan, &[], &Watch::begin(events)?)?;
    if context.json {
        json::print(&report)?;
    } else {
        show_moved(&report);
        if plan.holds {
            crate::say!("A sync guards them where they are now, and frees what they held where they were.");
        }
    }
    Ok(Outcome::well(!report.moved.stopped && report.moved.left_alone.is_empty()))
}

/// What moves where, and how full the disks are then.
pub(crate) fn show_shift(plan: &ShiftPlan) {
    let total = plan.total();
    if plan.is_empty() {
        crate::answer!("Nothing of {} has to move.", plan.volume);
    } else {
        crate::say!("{} of {} move, {}:\n", units::files(total.files), plan.volume, size(total.bytes));
        let mut table = Table::new(&["file", "?>size", "from", "to"]);
        for file in plan.files.iter().take(SHOWN) {
            let piece = file.piece.map(|piece| format!(", piece {piece}")).unwrap_or_default();
            let name = format!("{}{piece}", file.path);
            table.row([name, size(file.size_bytes), file.from.clone(), file.to.clone()]);
        }
        table.print();
        if plan.files.len() > SHOWN {
            crate::say!("  and {} more (all with --json)", count((plan.files.len() - SHOWN) as u64));
        }
        crate::say!();
        let mut fills = Table::new(&["disk", ">full now", ">then"]);
        for fill in &plan.fills {
            let percent = |bytes: sieve_core::units::ByteLength| {
                format!("{:.0} %", bytes.exact() as f64 / fill.space.exact().max(1) as f64 * 100.0)
            };
            fills.row([fill.disk.clone(), percent(fill.before), percent(fill.after)]);
        }
        fills.print();
        show_forecast(&plan.forecast);
        if plan.holds {
            crate::say!("\nWhat leaves a disk is held there, out of sight, until a sync has passed it.");
        }
    }
    show_left(&plan.left_alone);
}

/// What moved.
pub(crate) fn show_moved(report: &ShiftReport) {
    let total =
        report.moved.by_disk.values().fold(sieve_core::count::Count::default(), |sum, one| sum.plus(*one));
    let stopped = if report.moved.stopped { " before it was asked to stop" } else { "" };
    crate::answer!("\n{} moved{stopped}, {}.", units::files(total.files), size(total.bytes));
    show_left(&report.moved.left_alone);
}

pub(super) fn show_left(left: &[sieve_actions::files::settle::LeftAlone]) {
    if left.is_empty() {
        return;
    }
    style::heading("Left alone");
    for file in left.iter().take(SHOWN) {
        crate::say!("  {}: {}", file.path, file.why);
    }
    if left.len() > SHOWN {
        crate::say!("  and {} more (all with --json)", count((left.len() - SHOWN) as u64));
    }
}
