//! Guards against figures that are not measured, or a measurement that leaves something behind.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::process::{Command, Stdio};

use sieve_testkit::Run;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

#[test]
fn what_the_commands_take_is_measured_beside_the_same_by_hand() {
    let folders = [tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap()];
    let mut command = Command::new(PROGRAM);
    command.args(["bench", "--work", "--count", "60", "--json"]);
    for folder in &folders {
        command.arg("--within").arg(folder.path());
    }
    let run = Run::of(&command.stdin(Stdio::null()).output().unwrap()).expect(&[0]).json();
    assert_eq!((run["files"].as_u64(), run["disks"].as_u64()), (Some(60), Some(3)));
    let rows = run["rows"].as_array().unwrap();
    let of = |what: &str| {
        rows.iter().find(|row| row["what"] == what).unwrap_or_else(|| panic!("no {what}: {run}"))
    };
    for row in rows {
        let seconds = row["seconds"].as_f64().unwrap();
        assert!(seconds > 0.0, "{row}");
        if let Some(by_hand) = row["by_hand_seconds"].as_f64() {
            assert!((row["share"].as_f64().unwrap() - by_hand / seconds).abs() < 1e-6, "{row}");
        }
    }
    // A cell of parity, its table and what changed of the catalogue: not a copy of everything.
    let written = of("sync, one file of 1 KiB changed")["written_bytes"].as_u64().unwrap();
    assert!((1024..8 << 20).contains(&written), "{written}");
    assert!(of("put all files")["by_hand"].is_string() && of("rebuild of a disk")["by_hand"].is_string());
    for folder in &folders {
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left behind");
    }
}

#[test]
fn a_folder_that_is_not_there_is_told() {
    let output =
        Command::new(PROGRAM).args(["bench", "--work", "--within", "/nowhere/at/all"]).output().unwrap();
    let run = Run::of(&output);
    assert!(run.code > 0 && run.stderr.contains("/nowhere/at/all"), "{}", run.stderr);
}
