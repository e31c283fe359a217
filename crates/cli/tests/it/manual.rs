//! Guards against completions that know nothing of the pool at hand, a manual that lacks a command, and pages written over others.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::process::Command;

use rstest::rstest;
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// What the program answers a shell that completes the last of these words.
fn completed(lab: &Lab, words: &[&str]) -> Vec<String> {
    let answer = Command::new(PROGRAM)
        .args(["--", "zinc-sieve"])
        .args(words)
        .current_dir(lab.root())
        .envs([("ZINC_SIEVE_COMPLETE", "bash"), ("_CLAP_IFS", "\n")])
        .env("_CLAP_COMPLETE_INDEX", words.len().to_string())
        .output()
        .unwrap();
    String::from_utf8(answer.stdout).unwrap().lines().map(str::to_string).collect()
}

#[rstest]
#[case(&["fate", "--lose", ""], &["alder", "beech", "oak"])]
#[case(&["vacate", "o"], &["oak"])]
#[case(&["dissolve", ""], &["recordings"])]
#[case(&["ver"], &["verify"])]
#[case(&["sync", "--dry"], &["--dry-run"])]
fn a_shell_is_answered_with_what_there_is(#[case] words: &[&str], #[case] wanted: &[&str]) {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    let found = completed(&lab, words);
    assert!(wanted.iter().all(|word| found.iter().any(|found| found.trim() == *word)), "{found:?}");
    // A pool file with mistakes, or none, is no reason for a word on the terminal of whoever types.
    lab.write_pool_file("[pool");
    let found = completed(&lab, words);
    assert!(found.iter().all(|line| !line.contains("error")), "{found:?}");
}

#[test]
fn every_shell_has_its_script_and_every_command_its_page() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    for shell in ["bash", "zsh", "fish"] {
        let script = lab.run(&["completions", shell]).expect(&[0]).stdout;
        assert!(script.contains("ZINC_SIEVE_COMPLETE") && script.contains("zinc-sieve"), "{script}");
    }
    let wrong = lab.run(&["completions", "abacus"]).expect(&[2]);
    assert!(wrong.stderr.contains("there is one for bash"), "{}", wrong.stderr);
    assert!(lab.run(&["man"]).expect(&[0]).stdout.contains(".TH zinc-sieve"));
    let folder = lab.root().join("man");
    fs::create_dir(&folder).unwrap();
    lab.run(&["man", folder.to_str().unwrap()]).expect(&[0]);
    for command in ["fate", "sync", "rebuild", "elsewhere", "convert"] {
        let page = fs::read_to_string(folder.join(format!("zinc-sieve-{command}.1"))).unwrap();
        assert!(page.contains("SYNOPSIS"), "{page}");
    }
    let again = lab.run(&["man", folder.to_str().unwrap()]).expect(&[4]);
    assert!(again.stderr.contains("is there already"), "{}", again.stderr);
}
