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
    commands::plan::manual::answer_shell();
    let given: Vec<_> = std::env::args_os().collect();
    let given = commands::mount::as_mount_helper(&given).unwrap_or(given);
    let arguments = command_line::Arguments::parse_from(&given);
    human::units::choose(arguments.binary);
    let json = arguments.json;
    let outcome = match dispatch::run(arguments) {
        Err(failure) if dispatch::is_overtaken(&failure) => {
            // What somebody had begun is finished, and nothing of this: it begins anew, by the pool file as it is now.
            say_aside!("note: {}", failure.message);
            dispatch::run(command_line::Arguments::parse_from(&given))
        }
        outcome => outcome,
    };
    let end = match outcome {
        Ok(outcome) => outcome.into(),
        Err(failure) => exit::report(&failure, json),
    };
    match output::failure() {
        None => end,
        Some(why) => exit::unwritten(&why),
    }
}
