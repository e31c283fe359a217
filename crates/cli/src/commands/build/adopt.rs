//! `adopt`: a pool that comes from elsewhere.

use std::path::PathBuf;

use anstyle::Style;
use sieve_actions::disks::adopt;
use sieve_actions::disks::adopt::{AdoptPlan, AdoptReport, CatalogueSource, PoolFileSource};
use sieve_disk::Result;

use crate::args::Consent;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style, units};
use crate::progress::Bars;
use crate::{confirm, json};

json::named!("adopt-plan", AdoptPlan);
json::named!("adopt", AdoptReport);

pub(crate) fn run(context: &Context, folders: &[PathBuf], consent: Consent) -> Result<Outcome> {
    let machine = crate::machine::real();
    let prepared = adopt::plan(&machine, &context.pool, folders)?;
    if !context.json {
        show_plan(context, &prepared.plan);
    }
    let is_whole = prepared.plan.members.iter().all(|member| member.at.is_some());
    if !confirm::go_on(consent, "Adopt it?")? {
        if context.json {
            json::print(&prepared.plan)?;
        }
        return Ok(Outcome::well(is_whole));
    }
    let report = adopt::execute(&machine, &context.pool, prepared, &Bars::new())?;
    if context.json {
        json::print(&report)?;
    } else {
        show_report(context, &report);
    }
    Ok(Outcome::well(is_whole))
}

fn show_plan(context: &Context, plan: &AdoptPlan) {
    let (all, present) = (plan.members.len(), plan.members.iter().filter(|m| m.at.is_some()).count());
    let missing: Vec<&str> =
        plan.members.iter().filter(|m| m.at.is_none()).map(|m| m.name.as_str()).collect();
    let told = match missing.len() {
        0 => format!("all {all} disks are here"),
        1 => format!("{present} of {all} present, {} is missing", missing[0]),
        _ => format!("{present} of {all} present, {} are missing", missing.join(", ")),
    };
    crate::say!("The pool {}: {told}.\n", plan.pool);
    let mut table = Table::new(&["disk", "?volume", "role", "??>checkpoint", "where"]);
    for member in &plan.members {
        let (place, colour) = match &member.at {
            Some(at) => (at.clone(), Style::new()),
            None => ("missing".into(), style::BAD),
        };
        let checkpoint = member.checkpoint.map_or("-".into(), count);
        table.styled_row([
            (member.name.clone(), colour),
            (member.volume.clone(), colour),
            (member.role.word().into(), colour),
            (checkpoint, colour),
            (place, colour),
        ]);
    }
    table.print();
    for place in &plan.passed_over {
        crate::say!("\n{place} is no member of a pool, and is passed over.");
    }
    let catalogue = match &plan.catalogue {
        CatalogueSource::Home => "The catalogue here knows all that the disks know, and stays.".to_string(),
        CatalogueSource::Replica { disk, replaces_older } => {
            let older = if *replaces_older { "; the older one here is kept beside it" } else { "" };
            format!(
                "The newest catalogue, of checkpoint {}, comes from {disk}{older}.",
                count(plan.checkpoint)
            )
        }
    };
    let pool_file = match plan.pool_file {
        PoolFileSource::Home => "keeps what it says, with new paths",
        PoolFileSource::Disks => "is written as the disks carry it, with new paths",
        PoolFileSource::Catalogue => "is made anew: see what you would add to it",
    };
    crate::say!("\n{catalogue}\nThe pool file {} {pool_file}.", context.pool.display());
    crate::say!("Nothing is written to the disks.");
}

fn show_report(context: &Context, report: &AdoptReport) {
    style::heading("What happened on the disks since:");
    let mut table = Table::new(&["disk", ">files", ">new", ">changed", ">gone", ">size"]);
    for scan in &report.scans {
        table.row([
            scan.disk.clone(),
            count(scan.files),
            count(scan.new),
            count(scan.changed),
            count(scan.gone),
            size(scan.changed_bytes),
        ]);
        scan.left_alone.iter().for_each(|text| crate::say_aside!("left alone: {text}"));
    }
    table.print();
    let missing = report.plan.members.iter().filter(|m| m.at.is_none()).count() as u64;
    let text = format!(
        "The pool {} is yours to work with: zinc-sieve --pool {} status",
        report.plan.pool,
        context.pool.display()
    );
    crate::answer!("\n{}", style::paint(style::WELL, text));
    if missing > 0 {
        let text = format!(
            "{} missing: zinc-sieve fate says what that means, rebuild brings back what was on it.",
            units::disks(missing)
        );
        crate::say!("{}", style::paint(style::WATCH, text));
    }
}
