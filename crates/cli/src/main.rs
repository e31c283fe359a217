//! `zinc-sieve`: words into calls, results into text.

mod args;
mod chart;
mod command_line;
mod commands;
mod confirm;
mod demo;
mod dispatch;
mod exit;
mod human;
mod json;
mod load;
mod machine;
mod new_file;
mod output;
mod progress;
mod restraint;
mod shelf;
mod tell;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let given: Vec<_> = std::env::args_os().collect();
    let arguments = match commands::mount::as_mount_helper(&given) {
        Some(call) => command_line::Arguments::parse_from(call),
        None => command_line::Arguments::parse_from(given),
    };
    human::units::choose(arguments.binary);
    let json = arguments.json;
    let end = match dispatch::run(arguments) {
        Ok(outcome) => outcome.into(),
        Err(failure) => exit::report(&failure, json),
    };
    match output::failure() {
        None => end,
        Some(why) => exit::unwritten(&why),
    }
}
