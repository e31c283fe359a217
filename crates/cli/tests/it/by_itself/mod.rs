//! What runs by itself: the agenda, notices, the journal, the report.

mod agenda;
mod channels;
mod holdings;
mod journal;
mod month;
mod report;

use std::process::Command;

use sieve_testkit::{Lab, Run};

/// Friday, 2 May 2031, 00:00 UTC, in seconds since 1970.
pub(super) const FRIDAY: i64 = 1_935_446_400;
pub(super) const HOUR: i64 = 3600;
pub(super) const DAY: i64 = 24 * HOUR;

/// Three data disks and a parity disk, with these lines behind.
pub(super) fn lab(agenda: &str) -> Lab {
    let lab = Lab::new(env!("CARGO_BIN_EXE_zinc-sieve"), 3, 1, "40 MB");
    lab.write_pool_file(&format!("{}\n{agenda}", lab.pool_text()));
    lab
}

/// The program at a moment, in seconds since 1970, in UTC.
pub(super) fn command_at(lab: &Lab, at: i64, arguments: &[&str]) -> Command {
    let mut command = lab.command(arguments);
    command.env("ZINC_SIEVE_NOW", (at * 1_000_000_000).to_string()).env("TZ", "UTC");
    command.env("PATH", std::env::var_os("PATH").unwrap_or_default());
    command
}

pub(super) fn run_at(lab: &Lab, at: i64, arguments: &[&str]) -> Run {
    Run::of(&command_at(lab, at, arguments).output().expect("the program can be run"))
}

/// Puts a file of these bytes into the volume, as its owner does.
#[expect(clippy::disallowed_methods, reason = "a test's own file")]
pub(super) fn bring(lab: &Lab, disk: &str, name: &str, bytes: &[u8]) {
    std::fs::write(lab.disk(disk).join(name), bytes).expect("a file can be written");
}
