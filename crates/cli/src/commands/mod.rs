//! One file a command.

mod adopt;
mod bays;
mod bench;
mod burn_in;
mod check;
mod create;
pub(crate) mod design;
mod disks;
pub(crate) mod dissolve;
pub(crate) mod drill;
pub(crate) mod fate;
pub(crate) mod get;
pub(crate) mod grow;
mod health;
pub(crate) mod ingest;
mod ls;
mod measure;
mod prepare;
pub(crate) mod put;
pub(crate) mod rebuild;
pub(crate) mod replace;
pub(crate) mod restore;
pub(crate) mod risk;
mod rm;
pub(crate) mod settle;
mod status;
pub(crate) mod sync;
pub(crate) mod vacate;
pub(crate) mod verify;
mod wipe;

use std::ffi::OsStr;
use std::path::PathBuf;

use sieve_core::path::RelPath;
use sieve_core::pool::Share;
use sieve_disk::{Error, Kind, Result};

use crate::command_line::{Arguments, Command};
use crate::exit::Outcome;

/// What every command needs.
pub(crate) struct Context {
    pub(crate) pool: PathBuf,
    pub(crate) json: bool,
}

/// Runs a command.
///
/// # Errors
/// Its own.
pub(crate) fn run(arguments: Arguments) -> Result<Outcome> {
    let pool = pool_file(arguments.pool);
    let pool = std::path::absolute(&pool).map_err(|e| Error::io("pool-file.path", &pool, e))?;
    let context = Context { pool, json: arguments.json };
    match arguments.command {
        Command::Disks { name, from } => disks::run(&context, name.as_deref(), from.from.as_deref()),
        Command::Bays { find, from } => bays::run(&context, find.as_deref(), from.from.as_deref()),
        Command::Health { from } => health::run(&context, from.from.as_deref()),
        Command::BurnIn { path, amount, overwrite, consent } => {
            let amount = amount.as_deref().map(size_argument).transpose()?;
            burn_in::run(
                &context,
                &sieve_actions::measure::burn_in::Request { path, amount, overwrite },
                consent,
            )
        }
        Command::Ingest(arguments) => ingest::run(&context, &arguments),
        Command::Design(arguments) => design::run(&context, &arguments),
        Command::Prepare { disks, erase, filesystem, mount_root, from } => {
            prepare::run(&context, &disks, &erase, filesystem.into(), &mount_root, from.from.as_deref())
        }
        Command::Check => check::run(&context),
        Command::Create(consent) => create::run(&context, consent),
        Command::Put(arguments) => put::run(&context, &arguments),
        Command::Get(arguments) => get::run(&context, &arguments),
        Command::Measure { amount, volume } => measure::run(&context, amount, volume.volume.as_deref()),
        Command::Ls { folder, volume } => ls::run(&context, &folder, volume.volume.as_deref()),
        Command::Rm { paths, recursive, volume, consent } => {
            rm::run(&context, &paths, recursive, volume.volume.as_deref(), consent)
        }
        Command::Bench { disks: true, amount, .. } => bench::disks(&context, amount),
        Command::Bench { kernel, quick, .. } => bench::run(&context, kernel.as_deref(), quick),
        Command::Settle(arguments) => settle::run(&context, &arguments),
        Command::Restore(arguments) => restore::run(&context, &arguments),
        Command::Sync(arguments) => sync::run(&context, arguments),
        Command::Verify(arguments) => verify::run(&context, &arguments),
        Command::Fate(arguments) => fate::run(&context, &arguments),
        Command::Risk(arguments) => risk::run(&context, &arguments),
        Command::Drill(arguments) => drill::run(&context, &arguments),
        Command::Adopt { folders, consent } => adopt::run(&context, &folders, consent),
        Command::Grow(arguments) => grow::run(&context, arguments),
        Command::Replace(arguments) => replace::run(&context, arguments),
        Command::Dissolve(arguments) => dissolve::run(&context, &arguments),
        Command::Wipe { folder, was, consent } => wipe::run(&context, &folder, was.as_deref(), consent),
        Command::Vacate(arguments) => vacate::run(&context, &arguments),
        Command::Rebuild(arguments) => rebuild::run(&context, &arguments),
        Command::Status { paper } => status::run(&context, &paper),
        Command::Demo { dir: Some(dir), set_up_only: true, .. } => crate::demo::set_up(&dir, context.json),
        Command::Demo { dir: Some(dir), paper: true, .. } => crate::demo::paper(&dir, context.json),
        Command::Demo { dir, .. } => crate::demo::run(dir.as_deref(), context.json),
    }
}

/// The pool file that is named; else the one in this folder; else the one of the environment.
fn pool_file(named: Option<PathBuf>) -> PathBuf {
    let here = PathBuf::from("pool.toml");
    let from_environment = || std::env::var_os("ZINC_SIEVE_POOL").filter(|_| !here.exists());
    named.or_else(|| from_environment().map(PathBuf::from)).unwrap_or(here)
}

fn size_argument(text: &str) -> Result<sieve_core::units::ByteLength> {
    sieve_core::units::ByteLength::parse(text)
        .map_err(|e| Error::new(Kind::Usage, "argument.size", e.to_string()))
}

/// A path in a volume, as it is typed: `.` or `/` is the root, a slash in front or behind does not matter.
pub(crate) fn volume_path(typed: impl AsRef<OsStr>) -> Result<RelPath> {
    use std::os::unix::ffi::OsStrExt;
    // Names on a disk are bytes: not all of them are text.
    let mut path = typed.as_ref().as_bytes();
    while let Some(rest) = path.strip_prefix(b"./") {
        path = rest;
    }
    while let Some(rest) = path.strip_prefix(b"/") {
        path = rest;
    }
    while let Some(rest) = path.strip_suffix(b"/") {
        path = rest;
    }
    let path: &[u8] = if path == b"." { b"" } else { path };
    let text = sieve_core::path::shown(typed.as_ref().as_bytes());
    let path = RelPath::new(path).map_err(|why| {
        Error::new(Kind::Usage, "path.invalid", format!("`{text}` is no path in a volume: {why}"))
    })?;
    if path.is_ours() {
        let message = format!("`{text}` is reserved");
        return Err(Error::new(Kind::Usage, "path.reserved", message));
    }
    Ok(path)
}

/// A share that an option takes, above 0 and below 100 %.
fn share(text: &str, code: &'static str, option: &str) -> Result<f64> {
    let share = Share::parse(text).map(Share::fraction).filter(|s| *s > 0.0 && *s < 1.0);
    share.ok_or_else(|| {
        Error::new(Kind::Usage, code, format!("`{text}` is no share"))
            .remedy(format!("write a share between 0 and 100 %: {option} \"5 %\""))
    })
}
