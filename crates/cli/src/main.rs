//! `zinc-sieve`: words into calls, results into text.

mod args;
mod chart;
mod command_line;
mod commands;
mod complete;
mod confirm;
mod demo;
mod dispatch;
mod exit;
mod human;
mod json;
mod load;
mod log;
mod machine;
mod new_file;
mod output;
mod pager;
mod progress;
mod restraint;
mod sheet;
mod shelf;
mod signals;
mod tell;

use std::ffi::OsString;
use std::process::ExitCode;

use clap::Parser;
use sieve_disk::Result;

use crate::exit::Outcome;

fn main() -> ExitCode {
    commands::plan::manual::answer_shell();
    let given: Vec<_> = std::env::args_os().collect();
    let given = commands::mount::as_mount_helper(&given).unwrap_or(given);
    let arguments = match command_line::Arguments::try_parse_from(&given) {
        Ok(arguments) => arguments,
        Err(mistake) => return exit::misused(&mistake, &given),
    };
    let json = arguments.common.json;
    let end = match begin(&arguments).and_then(|()| run(arguments, &given)) {
        Ok(outcome) => outcome.into(),
        Err(failure) => exit::report(&failure, json),
    };
    pager::end();
    match output::failure() {
        None => end,
        Some(why) => exit::unwritten(&why),
    }
}

/// How it is to be told.
fn begin(arguments: &command_line::Arguments) -> Result<()> {
    let common = &arguments.common;
    colorchoice::ColorChoice::from(common.color).write_global();
    human::units::choose(common.binary);
    output::choose(common.detail(), arguments.command.has_answer());
    if !common.json && !common.no_pager && arguments.command.is_read_at_leisure() {
        pager::begin();
    }
    common.log.as_deref().map_or(Ok(()), log::begin)
}

fn run(arguments: command_line::Arguments, given: &[OsString]) -> Result<Outcome> {
    tracing::info!(arguments = ?given.get(1..).unwrap_or_default(), "begins");
    let outcome = match dispatch::run(arguments) {
        Err(failure) if dispatch::is_overtaken(&failure) => {
            // What somebody had begun is finished, and nothing of this: it begins anew, by the pool file as it is now.
            say_aside!("note: {}", failure.message);
            dispatch::run(command_line::Arguments::parse_from(given))
        }
        outcome => outcome,
    };
    match &outcome {
        Ok(outcome) => tracing::info!(?outcome, "ends"),
        Err(failure) => tracing::error!(code = failure.code, "ends: {failure}"),
    }
    outcome
}
