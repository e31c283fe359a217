//! `create`: labels on the disks, a catalogue at home.

use sieve_actions::disks::create;
use sieve_actions::disks::create::CreatePlan;
use sieve_disk::Result;

use crate::args::Consent;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style};
use crate::progress::Bars;
use crate::{confirm, json, load, machine};

json::named!("create", CreatePlan);

pub(crate) fn run(context: &Context, consent: Consent) -> Result<Outcome> {
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
    if context.json {
        json::print(&plan)?;
    } else {
        crate::answer!("\n{} Next: zinc-sieve sync", style::paint(style::WELL, "The pool is created."));
    }
    Ok(Outcome::Fine)
}

fn show(plan: &CreatePlan) {
    let what = if plan.resumes { "Goes on creating" } else { "Creates" };
    crate::say!("{what} pool {}. On each disk a folder .zinc-sieve is made; nothing is erased.\n", plan.pool);
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
