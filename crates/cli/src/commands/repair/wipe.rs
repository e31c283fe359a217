//! `wipe`: the traces of a pool on a disk that is no member any more.

use std::path::Path;

use sieve_actions::disks::membership::wipe::{WipePlan, execute, find, plan};
use sieve_disk::Result;
use sieve_pool::pool::catalogue_path;

use crate::args::Consent;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::{confirm, json, load, machine};

json::named!("wipe", WipePlan);

pub(crate) fn run(context: &Context, folder: &Path, was: Option<&str>, consent: Consent) -> Result<Outcome> {
    let machine = machine::real();
    // Where there is a pool, its members are not given away.
    let here = match context.pool.exists() && catalogue_path(&context.pool).exists() {
        true => Some(load::pool(&context.pool)?),
        false => None,
    };
    // A name is that of a former disk, unless there is a folder of that name.
    let name = folder.to_str().filter(|name| !name.contains('/') && !folder.exists());
    let folder = match (name, &here) {
        (Some(name), Some(here)) => &find(&*machine, name, here)?,
        _ => folder,
    };
    let planned = plan(&*machine, folder, was, here.as_ref())?;
    if !context.json {
        crate::say!(
            "{} was disk {} ({}). What that pool left on it goes; ordinary files stay where they are.",
            planned.at,
            planned.was(),
            planned.role.word()
        );
    }
    let goes_on = confirm::go_on(consent, "Wipe its traces?")?;
    if goes_on {
        execute(&*machine, &planned, here.as_ref())?;
    }
    if context.json {
        json::print(&planned)?;
    } else if goes_on {
        crate::answer!("Done: {} can become a member again.", planned.at);
    }
    Ok(Outcome::Fine)
}
