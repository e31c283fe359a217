//! `dissolve`: the end of a volume.

use sieve_store::Result;
use sieve_store::membership::dissolve::{self, DissolvePlan};

use super::Context;
use crate::args::Consent;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::progress::Bars;
use crate::{json, load};

pub(super) fn run(context: &Context, volume: &str, consent: Consent) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    let show = |_: &_, plan: &DissolvePlan| {
        if !context.json {
            show_plan(plan);
        }
    };
    let question = Question { consent, work: Work::Long("dissolve"), words: "Dissolve it?" };
    let planned = |pool: &_| dissolve::plan(pool, volume);
    let (plan, goes_on) = match agree(&mut pool, &question, planned, show, essence_of, |_| true)? {
        Agreed::Yes(plan) => (plan, true),
        Agreed::No(plan) => (plan, false),
    };
    if goes_on {
        dissolve::execute(&mut pool, &plan, &Bars::new())?;
    }
    if context.json {
        json::print(&plan)?;
    } else if goes_on {
        let end = if plan.is_last {
            "; it was the last one, and the pool is no more. The pool file stays: `zinc-sieve create` would make it anew."
        } else {
            "."
        };
        crate::say!("\nVolume {} is dissolved{end}", plan.volume);
    }
    Ok(Outcome::Fine)
}

fn show_plan(plan: &DissolvePlan) {
    crate::say!(
        "Volume {} ends. Its files stay on their disks, and nothing guards them any more:\n",
        plan.volume
    );
    let mut table = Table::new(&["disk", "role", ">files stay", ">size", ">parity goes", "where"]);
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
