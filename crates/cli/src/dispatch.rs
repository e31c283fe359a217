//! From the command line to the command.

use crate::command_line::{Arguments, Command};
use crate::commands::agenda;
use crate::commands::build::{adopt, create, grow, prepare};
use crate::commands::context::Context;
use crate::commands::files::{find, get, ls, moving, put, restore, rm, settle, shift};
use crate::commands::foresee::{drill, fate, risk};
use crate::commands::look::{self, bays, burn_in, disks};
use crate::commands::mount;
use crate::commands::plan::{check, design, forms, ingest, init, manual};
use crate::commands::protect::{sync, verify};
use crate::commands::repair::{convert, dissolve, rebuild, rename, replace, route, vacate, wipe};
use crate::commands::watch::{
    bench, duplicates, elsewhere, journal, listing, measure, notice, report, status, usage,
};
use crate::exit::Outcome;
use sieve_disk::{Error, Result};

/// Runs a command.
///
/// # Errors
/// Its own.
pub(crate) fn run(arguments: Arguments) -> Result<Outcome> {
    let pool = crate::load::pool_file(arguments.common.pool);
    let pool = std::path::absolute(&pool).map_err(|e| Error::io("pool-file.path", &pool, e))?;
    let context = Context { pool, json: arguments.common.json };
    let (changes, did) = (arguments.command.changes_files(), arguments.command.did());
    let outcome = dispatch(&context, arguments.command);
    if let (Some(did), Err(failure)) = (did, &outcome)
        && !is_overtaken(failure)
    {
        journal::note_failure(&context.pool, did, failure);
    }
    if changes {
        sieve_mount::record::bring_up(&context.pool);
    }
    outcome
}

/// Whether a command only finished what another one had begun with the pool file, which it had read before.
pub(crate) fn is_overtaken(failure: &Error) -> bool {
    failure.code == "pool-file.changed"
}

fn dispatch(context: &Context, command: Command) -> Result<Outcome> {
    match command {
        Command::Disks { name, sheet, from } => {
            disks::run(context, name.as_deref(), &sheet, from.from.as_deref())
        }
        Command::Bays { find, from } => bays::run(context, find.as_deref(), from.from.as_deref()),
        Command::Health(arguments) => look::health(context, &arguments),
        Command::BurnIn(arguments) => burn_in::run(context, &arguments),
        Command::Ingest(arguments) => ingest::run(context, &arguments),
        Command::Design(arguments) => design::run(context, &arguments),
        Command::Prepare { disks, erase, filesystem, mount_root, from } => {
            prepare::run(context, &disks, &erase, filesystem.into(), &mount_root, from.from.as_deref())
        }
        Command::Check => check::run(context),
        Command::Create(consent) => create::run(context, consent),
        Command::Mount(arguments) => mount::run(context, &arguments),
        Command::Umount { folder } => mount::umount(context, &folder),
        Command::Put(arguments) => put::run(context, &arguments),
        Command::Get(arguments) => get::run(context, &arguments),
        Command::Measure { amount, volume } => measure::run(context, amount, volume.volume.as_deref()),
        Command::Ls(arguments) => ls::run(context, &arguments),
        Command::Rm(arguments) => rm::run(context, &arguments),
        Command::Bench(arguments) => bench::run(context, &arguments),
        Command::Settle(arguments) => settle::run(context, &arguments),
        Command::Restore(arguments) => restore::run(context, &arguments),
        Command::Sync(arguments) => sync::run(context, arguments),
        Command::Verify(arguments) => verify::run(context, &arguments),
        Command::Fate(arguments) => fate::run(context, &arguments),
        Command::Risk(arguments) => risk::run(context, &arguments),
        Command::Drill(arguments) => drill::run(context, &arguments),
        Command::Adopt { folders, consent } => adopt::run(context, &folders, consent),
        Command::Grow(arguments) => grow::run(context, arguments),
        Command::Route(arguments) => route::run(context, &arguments),
        Command::Replace(arguments) => replace::run(context, &arguments),
        Command::Dissolve(arguments) => dissolve::run(context, &arguments),
        Command::Wipe { folder, was, consent } => wipe::run(context, &folder, was.as_deref(), consent),
        Command::Vacate(arguments) => vacate::run(context, &arguments),
        Command::Rebuild(arguments) => rebuild::run(context, &arguments),
        Command::Status { look, paper } => status::run(context, look, &paper),
        Command::Agenda(arguments) => agenda::run(context, &arguments),
        Command::Report(arguments) => report::run(context, &arguments),
        Command::Listing(arguments) => listing::run(context, &arguments),
        Command::Init(arguments) => init::run(context, &arguments),
        Command::Completions { shell } => manual::completions(&shell),
        Command::Man { folder } => manual::man(folder.as_deref()),
        Command::Schema { name, into } => forms::run(name.as_deref(), into.as_deref()),
        Command::Convert(arguments) => convert::run(context, arguments),
        Command::Rename(arguments) => rename::run(context, &arguments),
        Command::Move(arguments) => moving::run(context, &arguments),
        Command::EvenOut(arguments) => shift::run_even_out(context, &arguments),
        Command::Where(arguments) => find::run(context, &arguments),
        Command::Usage(arguments) => usage::run(context, &arguments),
        Command::Elsewhere(arguments) => elsewhere::run(context, &arguments),
        Command::Duplicates(arguments) => duplicates::run(context, &arguments),
        Command::Notice(arguments) => notice::run(context, &arguments),
        Command::Journal(arguments) => journal::run(context, &arguments),
        Command::Demo(arguments) => crate::demo::perform(&arguments, context.json),
    }
}
