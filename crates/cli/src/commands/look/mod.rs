//! What is there: the disks of the machine, their bays and their health.

pub(crate) mod bays;
pub(crate) mod burn_in;
pub(crate) mod disks;
pub(crate) mod health;
pub(crate) mod probe;
pub(crate) mod self_test;

use clap::Args;
use sieve_disk::Result;

use crate::args::{Documents, ReachWord};
use crate::commands::context::Context;
use crate::exit::Outcome;

/// Which disks are judged, and how.
#[derive(Args)]
pub(crate) struct HealthArguments {
    /// Only these disks of the pool
    #[arg(add = crate::complete::disks())]
    pub(crate) names: Vec<String>,
    /// Have the disks test themselves, one after another, and follow it
    #[arg(long, value_name = "REACH", conflicts_with = "from")]
    pub(crate) self_test: Option<ReachWord>,
    /// Is it real? Read samples of one disk, weigh what it says of itself and of its cable, and say what to do
    #[arg(long, conflicts_with = "self_test")]
    pub(crate) probe: bool,
    #[command(flatten)]
    pub(crate) from: Documents,
}

/// Judges them, probes one, or has them test themselves.
pub(crate) fn health(context: &Context, arguments: &HealthArguments) -> Result<Outcome> {
    let HealthArguments { names, self_test: reach, probe: is_probed, from } = arguments;
    match reach {
        Some(reach) => self_test::run(context, (*reach).into(), names),
        None if *is_probed => probe::run(context, names, from.from.as_deref()),
        None => health::run(context, names, from.from.as_deref()),
    }
}
