//! `grow`: one more disk.

use std::path::PathBuf;

use clap::Args;
use sieve_actions::disks::membership::grow;
use sieve_actions::disks::membership::grow::{GrowPlan, GrowReport, GrowRequest, PreparedGrow};
use sieve_catalogue::label::Role;
use sieve_core::pool::PoolSpec;
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments, RoleWord, VolumeChoice};
use crate::commands::context::Context;
use crate::commands::protect::sync::{show_bytes, show_forecast};
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{size, style, units};
use crate::progress::Watch;
use crate::{json, load};

json::named!("grow-plan", GrowPlan);
json::named!("grow", GrowReport);

/// A disk that joins.
#[derive(Args)]
pub(crate) struct GrowArguments {
    /// The disk; a new name comes into the pool file
    #[arg(value_name = "NAME", add = crate::complete::disks())]
    pub(crate) name: String,
    /// What it is to do
    #[arg(long = "as", value_name = "ROLE")]
    pub(crate) role: RoleWord,
    /// Where it is mounted, if the pool file does not say so
    #[arg(long, value_name = "DIR")]
    pub(crate) at: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: GrowArguments) -> Result<Outcome> {
    let GrowArguments { name, role, at, volume, restraint, consent } = arguments;
    let mut pool = load::pool(&context.pool)?;
    crate::restraint::hold(&restraint, &mut pool);
    let request = GrowRequest { name, volume: volume.volume, role: role.into(), at };
    let show = |pool: &Pool, prepared: &PreparedGrow| {
        if !context.json {
            show_plan(&pool.spec, &prepared.plan);
        }
    };
    let question = Question { consent, work: Work::Long("grow"), words: "Let it join?" };
    let essence = |prepared: &PreparedGrow| essence_of(&prepared.plan);
    let prepared =
        match agree(&mut pool, &question, |pool| grow::plan(pool, &request), show, essence, |_| true)? {
            Agreed::Yes(prepared) => prepared,
            Agreed::No(prepared) => {
                if context.json {
                    json::print(&prepared.plan)?;
                }
                return Ok(Outcome::Fine);
            }
        };
    let watch = Watch::begin(restraint.events)?;
    let report = grow::execute(&mut pool, prepared, &watch)?;
    drop(watch);
    if context.json {
        json::print(&report)?;
    } else {
        show_report(&report);
    }
    Ok(Outcome::well(report.parity_cells_left == 0 && !report.stopped))
}

fn show_plan(pool: &PoolSpec, plan: &GrowPlan) {
    let GrowPlan { disk, volume, at, .. } = plan;
    let usable = size(plan.usable);
    match plan.role {
        Role::Data => {
            crate::say!("{disk} ({at}, {usable}) joins volume {volume} as a data disk, slot {}.", plan.slot);
            crate::say!(
                "What is on it stays as it is and becomes part of the volume: {} ({}).",
                units::files(plan.kept_files),
                size(plan.kept_bytes)
            );
        }
        Role::Cache => {
            crate::say!("{disk} ({at}, {usable}) joins volume {volume} as a cache.");
            crate::say!(
                "What is on it stays as it is and waits for the next settle: {} ({}).",
                units::files(plan.kept_files),
                size(plan.kept_bytes)
            );
        }
        Role::Parity => {
            crate::say!("{disk} ({at}, {usable}) joins volume {volume} as parity {}.", plan.slot + 1);
            crate::say!("Its image is computed from the data disks; nothing else is written:\n");
            show_bytes(Some(pool), &plan.read_bytes, &plan.written_bytes);
        }
    }
    show_forecast(&plan.forecast);
    for doubt in &plan.doubts {
        crate::say!("  {} {doubt}", style::paint(style::WATCH, "?"));
    }
    crate::say!("\nThe pool file is changed; comments in it stay.");
}

fn show_report(report: &GrowReport) {
    let GrowReport { disk, volume, .. } = report;
    match report.role {
        Role::Data => crate::answer!(
            "\n{disk} is a data disk of {volume} now, with {} on it. Next: zinc-sieve sync",
            units::files(report.files)
        ),
        Role::Cache => {
            crate::answer!("\n{disk} is a cache of {volume} now, with {} on it.", units::files(report.files));
        }
        Role::Parity => crate::answer!(
            "\n{disk} is a parity disk of {volume} now: {} computed.",
            units::parity_cells(report.parity_cells)
        ),
    }
    if report.parity_cells_left > 0 {
        let why = if report.stopped { "It was stopped" } else { "Some rows could not be read as they were" };
        let text = format!(
            "{why}: {} left, zinc-sieve sync computes them.",
            units::parity_cells(report.parity_cells_left)
        );
        crate::say!("{}", style::paint(style::WATCH, text));
    }
}
