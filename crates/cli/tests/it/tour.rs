//! Guards against documentation that no longer tells what the program does: every session in docs/cli is typed anew,
//! and what comes back is compared line by line. TOUR_UPDATE=1 writes the sessions anew instead.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use rstest::rstest;
use sieve_testkit::{Lab, scratch};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
/// The last day of May 2031, in nanoseconds.
const NOW: u64 = 1_937_995_200_000_000_000;
/// From one line of a session to the next: ages and hours stay what the page says.
const A_LINE: u64 = 50_000_000;
/// What the pages show for the folder of the test: of the same length, so that columns stay columns.
const HOME: &str = "/home/ash/birdsongs";

/// One command of a session, and what it printed.
struct Step {
    typed: String,
    printed: String,
}

/// Types one line into a shell, at its time; `cd` is kept for the lines after it.
fn type_line(at: u64, line: &str, folder: &mut PathBuf, root: &Path) -> String {
    if let Some(to) = line.strip_prefix("cd ") {
        folder.push(to);
        return String::new();
    }
    let path = format!("{}:/usr/bin:/bin", Path::new(PROGRAM).parent().unwrap().display());
    let mut command = Command::new("sh");
    command.args(["-c", &format!("{line} 2>&1")]).current_dir(&*folder).stdin(Stdio::null());
    command.env_clear().env("PATH", path).env("COLUMNS", "100").env("TZ", "UTC");
    // The disks of the demo have an age, and the odds depend on it.
    command.env("ZINC_SIEVE_NOW", format!("{at}+"));
    let output = command.output().unwrap();
    let mut text = String::from_utf8(output.stdout).unwrap().replace(&root.display().to_string(), HOME);
    match output.status.code() {
        Some(0) => {}
        code => text += &format!("(exit code {})\n", code.unwrap_or(-1)),
    }
    text.lines().map(|line| format!("{}\n", line.trim_end())).collect()
}

/// Where the folder of the test is longer or shorter, so are gaps between columns.
fn without_gaps(text: &str) -> String {
    text.lines().map(|line| format!("{}\n", line.split_whitespace().collect::<Vec<_>>().join(" "))).collect()
}

/// New output, but lines that a page has with `[..]`, and that still hold, stay as they are.
fn kept_where_open(said: &str, printed: &str) -> String {
    let mut said = said.lines().chain(std::iter::repeat(""));
    let lines = printed.lines().map(|new| {
        let old = said.next().unwrap_or_default();
        let (head, tail) = old.split_once("[..]").unwrap_or((new, ""));
        let holds = without_gaps(new).starts_with(without_gaps(head).trim_end());
        if holds && !tail.contains("[..]") && head != new { format!("{old}\n") } else { format!("{new}\n") }
    });
    lines.collect()
}

/// Splits a page into the text between sessions and the sessions' steps, in order.
fn read(page: &str) -> Vec<Result<Step, String>> {
    let mut parts = Vec::new();
    let mut inside = false;
    for line in page.lines() {
        match (inside, line) {
            (_, "```console" | "```") => {
                inside = line == "```console";
                parts.push(Err(format!("{line}\n")));
            }
            (true, line) => match line.strip_prefix("$ ") {
                Some(typed) => parts.push(Ok(Step { typed: typed.into(), printed: String::new() })),
                None => {
                    let Some(Ok(step)) = parts.last_mut() else { panic!("output without a command: {line}") };
                    step.printed += &format!("{line}\n");
                }
            },
            (false, line) => parts.push(Err(format!("{line}\n"))),
        }
    }
    parts
}

#[rstest]
fn every_session_prints_what_its_page_says(#[files("../../docs/cli/*.md")] page: PathBuf) {
    let folder = scratch();
    let root = folder.path().canonicalize().unwrap();
    let mut here = root.clone();
    let mut written = String::new();
    let mut steps = 0;
    for part in read(&fs::read_to_string(&page).unwrap()) {
        match part {
            Err(text) => written += &text,
            Ok(step) => {
                steps += 1;
                let printed = type_line(NOW + steps * A_LINE, &step.typed, &mut here, &root);
                written += &format!("$ {}\n{}", step.typed, kept_where_open(&step.printed, &printed));
                if std::env::var_os("TOUR_UPDATE").is_none() {
                    let page = |text| format!("$ {}\n{}", step.typed, without_gaps(text));
                    snapbox::assert_data_eq!(page(&printed), page(&step.printed));
                }
            }
        }
    }
    assert!(steps > 0, "{} has no session", page.display());
    if std::env::var_os("TOUR_UPDATE").is_some() {
        fs::write(&page, written).unwrap();
    }
}

/// What the README promises first: it sets everything up, goes through the whole work, and keeps every promise.
#[test]
fn the_demo_goes_through_to_its_end() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let run = lab.run(&["demo"]).expect(&[0]);
    assert!(run.stdout.contains("Every promise was kept."), "{}", run.stdout);
    let lines = run.stdout.lines().count();
    assert!(lines < 160, "{lines} lines are more than one reads at once");
    let run = lab.run(&["demo", "--all", "--dir", "world"]).expect(&[0]);
    for told in [
        "Every promise was kept.",
        "A cache before",
        "A mirror",
        "One drive",
        "A week at",
        "A pool that changes",
    ] {
        assert!(run.stdout.contains(told), "{told}: {}", run.stdout);
    }
}
