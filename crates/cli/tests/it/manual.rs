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

/// Folders and files come from the catalogue: level by level, however much is below, and with the disks away.
#[test]
fn paths_are_completed_level_by_level_and_no_disk_is_asked() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    for (disk, path) in [
        ("alder", "dawn/may/wren.flac"),
        ("alder", "dawn/may/owl.flac"),
        ("beech", "dawn/june/robin.flac"),
        ("beech", "dawn.txt"),
        ("beech", "dawn-2/late.flac"),
        ("beech", "nest/box.mkv"),
    ] {
        let path = lab.disk(disk).join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, "x").unwrap();
    }
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::rename(lab.disk("alder"), lab.root().join("away")).unwrap();
    let of = |words: &[&str]| {
        completed(&lab, words).iter().map(|line| line.trim().to_string()).collect::<Vec<_>>()
    };
    assert_eq!(of(&["ls", "d"]), ["dawn-2/", "dawn.txt", "dawn/"]);
    assert_eq!(of(&["rm", "dawn/"]), ["dawn/june/", "dawn/may/"]);
    assert_eq!(of(&["get", "dawn/may/o"]), ["dawn/may/owl.flac"]);
    assert_eq!(of(&["verify", "--folder", "ne"]), ["nest/"]);
    assert!(of(&["ls", ".zinc"]).is_empty(), "what is ours is nobody's path");
    assert_eq!(of(&["schema", "fate-m"]), ["fate-map"]);
}
