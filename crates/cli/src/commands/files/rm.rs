//! `rm`: files out of sight, held until the next sync.

use clap::Args;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::files::remove;
use sieve_actions::files::remove::{RemovePlan, RemoveReport};
use sieve_core::count::Count;
use sieve_disk::Result;
use std::ffi::OsString;

use crate::args::{Consent, VolumeChoice};
use crate::commands::context::{Context, volume_path};
use crate::commands::files::put::show_by_disk;
use crate::commands::files::settle::show_left_alone;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::human::{size, units};
use crate::{json, load};

json::named!("rm", RemoveReport);

/// What would be removed.
#[derive(Serialize, JsonSchema)]
struct Intended {
    #[serde(flatten)]
    report: RemoveReport,
}
json::named!("rm-plan", Intended);

/// What is removed.
#[derive(Args)]
pub(crate) struct RmArguments {
    /// Paths in the volume
    #[arg(required = true, value_name = "PATH", add = crate::complete::paths())]
    pub(crate) paths: Vec<OsString>,
    /// Remove folders with everything in them
    #[arg(long)]
    pub(crate) recursive: bool,
    #[command(flatten)]
    pub(crate) volume: VolumeChoice,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &RmArguments) -> Result<Outcome> {
    let RmArguments { paths, recursive, volume, consent } = arguments;
    let (recursive, volume, consent) = (*recursive, volume.volume.as_deref(), *consent);
    let paths = paths.iter().map(volume_path).collect::<Result<Vec<_>>>()?;
    let mut pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume)?.name;
    let show = |_: &_, plan: &RemovePlan| {
        if !context.json {
            show_plan(&volume, plan);
        }
    };
    let question = Question { consent, work: Work::Short, words: "Remove?" };
    let planned = |pool: &_| remove::plan(pool, &volume, &paths, recursive);
    let report = match agree(&mut pool, &question, planned, show, essence_of, |_| true)? {
        Agreed::Yes(plan) => remove::execute(&pool, plan)?,
        Agreed::No(RemovePlan { by_disk, others, .. }) => {
            if context.json {
                json::print(&Intended { report: RemoveReport { by_disk, others, left_alone: Vec::new() } })?;
            }
            return Ok(Outcome::Fine);
        }
    };
    if context.json {
        json::print(&report)?;
    } else {
        show_left_alone(report.left_alone.iter());
        show_report(&report);
    }
    Ok(Outcome::well(report.left_alone.is_empty()))
}

fn show_report(report: &RemoveReport) {
    let gone = report.by_disk.iter().fold(Count::default(), |sum, (_, amount)| sum.plus(*amount));
    let left = match report.left_alone.len() as u64 {
        0 => String::new(),
        left => format!(" Left alone: {}.", units::files(left)),
    };
    crate::answer!(
        "\nRemoved: {}, {}.{left} `zinc-sieve restore` brings them back until the next sync.",
        units::files(gone.files),
        size(gone.bytes)
    );
}

fn show_plan(volume: &str, plan: &RemovePlan) {
    crate::say!(
        "Removes from {volume}; the files stay, out of sight, until the next sync has passed them:\n"
    );
    show_by_disk(&plan.by_disk);
    if plan.others > 0 {
        crate::say!("  and {} folders and symlinks", plan.others);
    }
}
