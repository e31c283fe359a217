//! `create`: labels on the disks, a catalogue at home.

use sieve_actions::disks::create;
use sieve_actions::disks::create::{CreatePlan, Standing, volume};
use sieve_disk::Result;

use crate::args::Consent;
use crate::commands::context::Context;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{Table, count, size, style};
use crate::progress::Bars;
use crate::{confirm, json, load, machine};

json::named!("create", CreatePlan);

pub(crate) fn run(context: &Context, consent: Consent) -> Result<Outcome> {
    if create::standing(&context.pool)? == Standing::Made {
        return add_volumes(context, consent);
    }
    let machine = machine::real();
    let (spec, looked) = load::spec_with_disks(&context.pool, &*machine)?;
    let plan = create::plan(&*machine, &context.pool, &spec)?;
    if !context.json {
        show(&plan);
        for doubt in looked.findings.iter().filter(|f| f.severity == sieve_pool::check::Severity::Doubt) {
            crate::say!("  {} {}", style::paint(style::WATCH, "?"), doubt.message);
        }
    }
    if !confirm::go_on(consent, "Create the pool?")? {
        if context.json {
            json::print(&plan)?;
        }
        return Ok(Outcome::Fine);
    }
    let plan = create::execute(&machine, &context.pool, &spec, &plan, &Bars::new())?.1;
    tell(context, &plan, "The pool is created.")
}

/// A pool that is there gets the volumes that the pool file has and it has not.
fn add_volumes(context: &Context, consent: Consent) -> Result<Outcome> {
    let mut pool = load::pool(&context.pool)?;
    let show = |_: &_, plan: &CreatePlan| {
        if !context.json {
            show(plan);
        }
    };
    let question = Question { consent, work: Work::Long("create"), words: "Make it?" };
    match agree(&mut pool, &question, volume::plan, show, essence_of, |_| true)? {
        Agreed::Yes(plan) => {
            volume::execute(&mut pool, &plan, &Bars::new())?;
            tell(context, &plan, "The volume is made.")
        }
        Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            Ok(Outcome::Fine)
        }
    }
}

fn tell(context: &Context, plan: &CreatePlan, done: &str) -> Result<Outcome> {
    if context.json {
        json::print(plan)?;
    } else {
        crate::answer!("\n{} Next: zinc-sieve sync", style::paint(style::WELL, done));
    }
    Ok(Outcome::Fine)
}

fn show(plan: &CreatePlan) {
    let what = match (plan.resumes, plan.adds.as_slice()) {
        (true, _) => format!("Goes on creating pool {}", plan.pool),
        (false, []) => format!("Creates pool {}", plan.pool),
        (false, volumes) => format!("Adds volume {} to pool {}", volumes.join(", "), plan.pool),
    };
    crate::say!("{what}. On each disk a folder .zinc-sieve is made; nothing is erased.\n");
    let mut table =
        Table::new(&["disk", "role", "?volume", "bay", "serial", ">usable", "files that are kept", "??at"]);
    for step in &plan.disks {
        let kept = match step.kept_files {
            0 => "-".to_string(),
            files => format!("{} ({}) join the volume", count(files), size(step.kept_bytes)),
        };
        table.row([
            step.name.clone(),
            format!("{} {}", step.role.word(), step.slot),
            step.volume.clone(),
            step.bay.clone().unwrap_or_else(|| "-".into()),
            step.serial.clone().unwrap_or_else(|| "-".into()),
            size(step.usable),
            kept,
            step.path.clone(),
        ]);
    }
    table.print();
}
