//! Guards against pages that no longer tell what the program takes: docs/commands.md is what the help says
//! (COMMANDS_UPDATE=1 writes it anew), docs/pool-file.md has every key and is accepted, examples can be typed.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fmt::Write as _;
use std::fs;
use std::process::Command;

use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
/// Keys that are tables of their own.
const TABLES: [&str; 3] = ["folder", "job", "channel"];
const DOCS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs");

fn help(arguments: &[&str]) -> String {
    let output = Command::new(PROGRAM).args(arguments).arg("--help").env("COLUMNS", "100").output().unwrap();
    String::from_utf8(output.stdout).unwrap()
}

/// The groups of the first page: title, what it is about, commands.
fn groups() -> Vec<(String, String, Vec<String>)> {
    let page = help(&[]);
    let lines = page.lines().skip_while(|line| !line.starts_with("Commands,")).skip(1);
    let mut groups: Vec<(String, String, Vec<String>)> = Vec::new();
    for line in lines.take_while(|line| !line.is_empty()) {
        let names = |text: &str| {
            text.split([',', ' ']).filter(|w| !w.is_empty()).map(str::to_string).collect::<Vec<_>>()
        };
        match line.split_at_checked(20) {
            Some((title, about)) if !title.trim().is_empty() => {
                let is_short = about.contains("demo, man");
                let commands = if is_short { names(about) } else { Vec::new() };
                groups.push((
                    title.trim().into(),
                    if is_short { String::new() } else { about.into() },
                    commands,
                ));
            }
            Some((_, more)) => groups.last_mut().unwrap().2.extend(names(more)),
            None => panic!("no group: {line}"),
        }
    }
    groups
}

fn commands() -> Vec<String> {
    let all = groups().into_iter().flat_map(|(.., commands)| commands);
    all.filter(|name| name != "help").collect()
}

/// What the help of a command says, without the options that every command has.
fn section(name: &str) -> String {
    let text = help(&[name]);
    assert!(text.lines().all(|line| !line.starts_with("  zinc-sieve") || line.len() <= 80), "{name}: {text}");
    let (own, rest) = text.split_once("\nCommon options:\n").unwrap();
    let example = rest.split_once("\nExample:\n").map(|(_, example)| example.trim_end());
    let (about, usage) = own.split_once("\n\n").unwrap();
    let usage = usage.replace("  -h, --help                Print help\n", "");
    let usage: Vec<&str> =
        usage.lines().filter(|line| !line.trim_start().starts_with("-h, --help")).collect();
    let usage = usage.join("\n");
    let usage = usage.trim_end().trim_end_matches("Options:").trim_end();
    let mut text = format!("### {name}\n\n{}\n\n```text\n{usage}\n```\n", about.replace('\n', " "));
    if let Some(example) = example {
        write!(text, "\n```text\n{example}\n```\n").unwrap();
    }
    text
}

#[test]
fn the_page_of_commands_is_what_the_help_says() {
    let mut page = String::from(
        "# Commands\n\nMade from the help of the program; `zinc-sieve COMMAND --help` prints the same, `zinc-sieve man DIR` writes it as\nmanual pages.\n\n",
    );
    let first = help(&[]);
    let common = first.split_once("Common options:\n").unwrap().1;
    write!(page, "Options of every command:\n\n```text\n{}\n```\n", common.trim_end()).unwrap();
    for (title, about, commands) in groups() {
        let about = if about.is_empty() { String::new() } else { format!("{about}\n\n") };
        write!(page, "\n## {title}\n\n{about}").unwrap();
        let sections: Vec<String> =
            commands.iter().filter(|name| *name != "help").map(|name| section(name)).collect();
        page += &sections.join("\n");
    }
    let path = format!("{DOCS}/commands.md");
    if std::env::var_os("COMMANDS_UPDATE").is_some() {
        fs::write(&path, &page).unwrap();
    }
    let written = fs::read_to_string(&path).unwrap_or_default();
    assert!(written == page, "docs/commands.md is old: COMMANDS_UPDATE=1 cargo test --test it pages");
}

/// The first page is one screen, and has every command once.
#[test]
fn the_first_page_fits_a_screen() {
    let output = Command::new(PROGRAM).arg("--help").env("COLUMNS", "80").output().unwrap();
    let page = String::from_utf8(output.stdout).unwrap();
    assert!(page.lines().count() <= 48, "{page}");
    assert!(page.lines().all(|line| line.chars().count() <= 84), "{page}");
    let mut known = commands();
    known.sort();
    let count = known.len();
    known.dedup();
    assert_eq!(count, known.len(), "a command is named twice");
}

/// Every option says what it is for, and every value has a form.
#[test]
fn every_option_says_what_it_takes() {
    for command in commands() {
        let text = help(&[&command]);
        let options = text.split("\nExample:").next().unwrap();
        for line in options.lines().filter(|line| line.trim_start().starts_with("--")) {
            let (option, about) = line.trim_start().split_once("  ").unwrap_or((line.trim(), ""));
            let has_about = !about.trim().is_empty() || text.contains(&format!("{option}\n          "));
            assert!(has_about, "{command}: {option} says nothing");
        }
        assert!(text.contains("Example:"), "{command} has no example");
    }
}

/// Every example is taken: with a pool file that does not exist nothing can be wrong with it but that.
#[test]
fn every_example_can_be_typed() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let mut typed = 0;
    for command in commands() {
        let text = help(&[&command]);
        let (_, example) = text.split_once("Example:\n").unwrap();
        let example = example.replace("\\\n      ", "");
        for line in example.lines().filter_map(|line| line.trim_start().strip_prefix("zinc-sieve ")) {
            let line = line.split(" | ").next().unwrap().split(" > ").next().unwrap();
            // Only whether it is understood: `--help` behind it takes nothing up.
            let line = line.split("   #").next().unwrap();
            let shell = format!("{PROGRAM} {line} --help");
            let output = Command::new("sh").args(["-c", &shell]).current_dir(lab.root()).output().unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            assert!(output.status.success(), "{command}: {line}: {said}");
            typed += 1;
        }
    }
    assert!(typed > 80, "{typed} examples");
}

/// The blocks of the page are one file that `check` accepts, and every key that the program knows is in it.
#[test]
fn the_page_of_the_pool_file_has_every_key() {
    let page = fs::read_to_string(format!("{DOCS}/pool-file.md")).unwrap();
    let blocks: Vec<&str> =
        page.split("```toml\n").skip(1).map(|block| block.split("```").next().unwrap()).collect();
    // Nothing is mounted there: without paths the disks are on paper.
    let text: Vec<&str> = blocks
        .iter()
        .flat_map(|block| block.lines())
        .filter(|line| !line.starts_with("path = \"/"))
        .collect();
    let text: Vec<&str> = text
        .into_iter()
        .filter(|line| !line.starts_with("shares_filesystem") && !line.starts_with("simulated"))
        .collect();
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    fs::write(lab.root().join("page.toml"), text.join("\n")).unwrap();
    lab.run(&["check", "--pool", "page.toml"]).expect(&[0]);
    for table in [
        "pool",
        "[case]",
        "[link]",
        "[disk]",
        "[volume]",
        "[volume.folder]",
        "[group]",
        "[elsewhere]",
        "risk",
        "agenda",
        "[agenda.job]",
        "notices",
    ] {
        // What is unknown is told with all that is known.
        let wrong = format!("[pool]\nname = \"x\"\n[[volume]]\nname = \"v\"\n[{table}]\nno_such_key = 1\n");
        let wrong = wrong.replace("[pool]\nname = \"x\"\n[[volume]]\nname = \"v\"\n[pool]", "[pool]");
        fs::write(lab.root().join("wrong.toml"), wrong).unwrap();
        let said = lab.run(&["check", "--pool", "wrong.toml"]).expect(&[2]).stderr;
        let known = said.split("known keys here are ").nth(1).unwrap_or_else(|| panic!("{table}: {said}"));
        for key in known.lines().next().unwrap().split(", ").filter(|key| !TABLES.contains(&key.trim())) {
            let key = key.trim();
            let is_there = page.lines().any(|line| line.trim_start().starts_with(&format!("{key} = ")));
            assert!(is_there, "docs/pool-file.md does not show `{key}` of [{table}]");
        }
    }
}
