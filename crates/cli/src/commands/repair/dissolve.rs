//! `dissolve`: the end of a volume.

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::disks::membership::dissolve;
use sieve_actions::disks::membership::dissolve::{DissolvePlan, DissolveReport};
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::Context;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("dissolve-plan", DissolvePlan);
json::named!("dissolve", Dissolved<'_>);

/// The volume that ends.
#[derive(Args)]
pub(crate) struct DissolveArguments {
    /// The volume
    #[arg(value_name = "VOLUME", add = crate::complete::volumes())]
    pub(crate) volume: String,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

/// What was planned, and what came of it.
#[derive(Serialize, JsonSchema)]
struct Dissolved<'a> {
    #[serde(flatten)]
    plan: &'a DissolvePlan,
    #[serde(flatten)]
    report: DissolveReport,
}

pub(crate) fn run(context: &Context, arguments: &DissolveArguments) -> Result<Outcome> {
    let DissolveArguments { volume, restraint, consent } = arguments;
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(restraint, &mut pool);
    let show = |_: &_, plan: &DissolvePlan| {
        if !context.json {
            show_plan(plan);
        }
    };
    let question = Question { consent: *consent, work: Work::Long("dissolve"), words: "Dissolve it?" };
    let planned = |pool: &Pool| {
        refuse_mounted(&*pool.home, volume)?;
        dissolve::plan(pool, volume)
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
    let report = dissolve::execute(&mut pool, &plan, &Watch::begin(restraint.events)?)?;
    if context.json {
        json::print(&Dissolved { plan: &plan, report })?;
    } else if report.stopped {
        let text =
            "Stopped: the volume is still there, and every file whole. Run it again to go on from here.";
        crate::answer!("\n{}", style::paint(style::WATCH, text));
    } else {
        let end = if plan.is_last {
            "; it was the last one, and the pool is no more. The pool file stays: `zinc-sieve create` would make it anew."
        } else {
            "."
        };
        crate::answer!("\nVolume {} is dissolved{end}", plan.volume);
    }
    Ok(Outcome::well(!report.stopped))
}

fn show_plan(plan: &DissolvePlan) {
    crate::say!(
        "Volume {} ends. Its files stay on their disks, and nothing guards them any more:\n",
        plan.volume
    );
    let mut table = Table::new(&["disk", "?role", ">files stay", ">size", ">parity goes", "where"]);
    for disk in &plan.disks {
        table.row([
            disk.disk.clone(),
            disk.role.word().into(),
            count(disk.files.files),
            size(disk.files.bytes),
            size(disk.parity),
            disk.at.clone().unwrap_or_else(|| "missing: its label stays on it".into()),
        ]);
    }
    table.print();
    for join in &plan.joins {
        crate::say!(
            "\n{} ({}) lies in pieces and is put together on {}.",
            join.path,
            size(join.size_bytes),
            join.to
        );
    }
    if let Some(settles) = plan.settles.as_ref().filter(|settles| !settles.moves_nothing()) {
        crate::say!("\nWhat is on the cache moves to the disks, verified:\n");
        let mut table = Table::new(&["to", ">files", ">size"]);
        for (disk, amount) in &settles.by_disk {
            table.row([disk.clone(), count(amount.files), size(amount.bytes)]);
        }
        table.print();
    }
    let held: u64 = plan.disks.iter().map(|disk| disk.held).sum();
    if held > 0 {
        let text = format!(
            "{} removed or replaced since the last sync are held, and go for good: zinc-sieve restore brings them back before.",
            units::files(held)
        );
        crate::say!("\n{}", style::paint(style::WATCH, text));
    }
}
