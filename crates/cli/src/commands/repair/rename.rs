//! `rename`: another name for a disk, a volume or the pool.

use clap::Args;
use sieve_actions::disks::rename::{self, RenamePlan};
use sieve_catalogue::pool_file::Named;
use sieve_disk::Result;
use sieve_mount::record::refuse_mounted;
use sieve_pool::pool::Pool;

use crate::args::{Consent, NamedWord};
use crate::commands::context::Context;
use crate::confirm::{Agreed, Question, Work, agree, essence_of};
use crate::exit::Outcome;
use crate::{json, load};

json::named!("rename", RenamePlan);

/// What gets which name.
#[derive(Args)]
pub(crate) struct RenameArguments {
    /// disk, volume or pool
    pub(crate) what: NamedWord,
    /// Its name so far
    pub(crate) old: String,
    /// Its new name
    pub(crate) new: String,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &RenameArguments) -> Result<Outcome> {
    let RenameArguments { what, old, new, consent } = arguments;
    let what = Named::from(*what);
    let mut pool = load::pool(&context.pool)?;
    let planned = |pool: &Pool| {
        if what == Named::Volume {
            refuse_mounted(&*pool.home, old)?;
        }
        rename::plan(pool, what, old, new)
    };
    let show = |_: &_, plan: &RenamePlan| {
        if !context.json {
            crate::say!(
                "The {} {} is called {} from now on: in the pool file, where comments stay, in the catalogue and on the labels.",
                plan.what.word(),
                plan.old,
                plan.new
            );
        }
    };
    let question = Question { consent: *consent, work: Work::Long("rename"), words: "Rename it?" };
    let plan = match agree(&mut pool, &question, planned, show, essence_of, |_| true)? {
        Agreed::Yes(plan) => plan,
        Agreed::No(plan) => {
            if context.json {
                json::print(&plan)?;
            }
            return Ok(Outcome::Fine);
        }
    };
    rename::execute(&pool, &plan)?;
    drop(pool);
    // Whoever begins a work next makes the names of the file those of catalogue and labels.
    let spec = load::spec(&context.pool)?;
    let mut renamed = sieve_pool::open(crate::machine::real(), &context.pool, spec)?;
    sieve_actions::begin_long(&mut renamed, "rename")?;
    if context.json {
        json::print(&plan)?;
    } else {
        crate::answer!("Done.");
    }
    Ok(Outcome::Fine)
}
