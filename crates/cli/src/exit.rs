//! How a run ends.

use std::ffi::OsString;
use std::process::ExitCode;

use sieve_disk::{Error, Kind};

use crate::human::style;
use crate::{json, pager};

/// The answer of a command that worked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Outcome {
    /// All is well.
    Fine,
    /// The answer is that not all is well.
    NotWell,
    /// Nothing is wrong, and something waits.
    Waits,
    /// Wrong usage or pool file.
    Wrong,
    /// A disk or file failed on the way.
    Failed,
}

impl Outcome {
    /// The worse of two: a failure before what is not well, and that before what waits.
    pub(crate) fn or_worse(self, other: Self) -> Self {
        let badness = |outcome: Self| match outcome {
            Self::Fine => 0,
            Self::Waits => 1,
            Self::NotWell => 2,
            Self::Wrong => 3,
            Self::Failed => 4,
        };
        if badness(other) > badness(self) { other } else { self }
    }

    /// Well, or not.
    pub(crate) const fn well(is_well: bool) -> Self {
        if is_well { Self::Fine } else { Self::NotWell }
    }
}

impl From<Outcome> for ExitCode {
    fn from(outcome: Outcome) -> Self {
        match outcome {
            Outcome::Fine => Self::SUCCESS,
            Outcome::NotWell => Self::from(1),
            Outcome::Waits => Self::from(5),
            Outcome::Wrong => Self::from(2),
            Outcome::Failed => Self::from(3),
        }
    }
}

/// The exit code of a kind of error.
const fn code(kind: Kind) -> u8 {
    match kind {
        Kind::Stopped => 1,
        Kind::Usage | Kind::NotFound => 2,
        Kind::Corrupt | Kind::Io | Kind::Internal => 3,
        Kind::Conflict | Kind::Safety => 4,
    }
}

/// Says what went wrong and what to do next.
pub(crate) fn report(error: &Error, json: bool) -> ExitCode {
    let red = style::BAD.bold();
    crate::complain!("{red}error{red:#}: {error}");
    if let Some(remedy) = error.remedy.as_ref().filter(|r| !r.is_empty()) {
        crate::complain!("  {}: {remedy}", style::paint(style::HEAD, "next"));
    }
    if json {
        json::print_error(error.code, &error.message, error.remedy.as_deref());
    }
    ExitCode::from(code(error.kind))
}

/// Says what is wrong with the command line, or prints the help that was asked for.
pub(crate) fn misused(mistake: &clap::Error, given: &[OsString]) -> ExitCode {
    if mistake.use_stderr() {
        crate::complain!("{}", mistake.render().ansi().to_string().trim_end());
    } else {
        help(mistake, given);
    }
    let is_json = given.iter().take_while(|word| *word != "--").any(|word| word == "--json");
    if is_json && mistake.use_stderr() {
        let text = mistake.render().to_string();
        let message = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
        json::print_error("usage", message, Some("zinc-sieve --help"));
    }
    ExitCode::from(u8::try_from(mistake.exit_code()).unwrap_or(2))
}

/// Prints the help, a screen at a time where there is a terminal.
fn help(asked: &clap::Error, given: &[OsString]) {
    if given.iter().all(|word| word != "--no-pager") {
        pager::begin();
    }
    // Who closed the pipe, or the pager, has read enough.
    if pager::write(&asked.render().ansi().to_string()).is_none() {
        let _ = asked.print();
    }
    pager::end();
}

/// Says that the result could not be written. What was to be done is done.
pub(crate) fn unwritten(why: &str) -> ExitCode {
    crate::complain!("error: the result could not be written: {why}; what it tells of is done all the same");
    ExitCode::from(3)
}
