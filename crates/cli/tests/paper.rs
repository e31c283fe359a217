//! Guards against a pool on paper that promises what the real one would not keep, and against listings of any shape.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use sieve_testkit::{Chance, Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A pool of three data and one parity disk of 40 MB, none of them there.
fn on_paper() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    let text = lab.pool_text();
    let kept = text.lines().filter(|l| !l.starts_with("path") && !l.starts_with("simulated"));
    lab.write_pool_file(&kept.map(|l| format!("{l}\n")).collect::<String>());
    lab
}

#[test]
fn paper_and_the_real_pool_tell_the_same() {
    let (paper, real) = (on_paper(), Lab::new(PROGRAM, 3, 1, "40 MB"));
    let mut chance = Chance::new(31);
    let mut listing = String::from("path,size_bytes,modified\n");
    fs::create_dir_all(real.root().join("card/dawn")).unwrap();
    for number in 0..30 {
        let (name, size) = (format!("card/dawn/take-{number:02}.flac"), chance.below(1_500_000));
        fs::write(real.root().join(&name), chance.bytes(size)).unwrap();
        listing += &format!("{name},{size},2031-05-04\n");
    }
    fs::write(paper.root().join("listing.csv"), &listing).unwrap();
    real.run(&["create", "--yes"]).expect(&[0]);
    real.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    real.run(&["sync", "--yes"]).expect(&[0]);
    let told = |run: &Run| {
        let mut files: Vec<(String, u64, String)> = run.json()["files"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| {
                let text = |key: &str| f[key].as_str().unwrap().to_string();
                (text("path"), f["guard"].as_u64().unwrap(), f["disks"][0].as_str().unwrap().to_string())
            })
            .collect();
        files.sort();
        files
    };
    let on_paper = paper.run(&["fate", "--lose", "alder", "--files", "listing.csv", "--json"]).expect(&[0]);
    assert_eq!(
        told(&on_paper),
        told(&real.run(&["fate", "--lose", "alder", "--json"]).expect(&[0])),
        "placed alike"
    );
    for lost in ["alder", "beech,oak", "alder,cedar", "alder,beech,cedar"] {
        let promised =
            paper.run(&["fate", "--lose", lost, "--files", "listing.csv", "--json"]).expect(&[0, 1]).json();
        let kept = real.run(&["fate", "--lose", lost, "--json"]).expect(&[0, 1]).json();
        // Torn and gone depend on which rows each file got; what survives does not.
        for fate in ["untouched", "rebuilt"] {
            assert_eq!(promised["totals"][fate], kept["totals"][fate], "{lost}: {fate}");
        }
    }
}

#[test]
fn json_lines_are_read_like_csv() {
    let lab = on_paper();
    let lines = "{\"path\": \"a/ü\", \"size_bytes\": 5000000}\n\n{\"path\": \"b\", \"size_bytes\": 1, \"modified\": 3}\n";
    fs::write(lab.root().join("listing.jsonl"), lines).unwrap();
    let status = lab.run(&["status", "--files", "listing.jsonl", "--json"]).expect(&[0]).json();
    assert_eq!(status["guard"][1]["files"], 2);
    let on_paper = status["disks"].as_array().unwrap().iter().all(|d| d["state"] == "on-paper");
    assert!(on_paper, "{status}");
    lab.run(&["status"]).expect(&[0]); // without a listing it is empty
}

#[rstest]
#[case("listing.csv", "path,size_bytes\na,many\n", "line 2: `many` is no number of bytes")]
#[case("listing.csv", "a\n", "line 1: there is no size")]
#[case("listing.csv", "../a,5\n", "line 1: `../a` is no path")]
#[case("listing.csv", "a,5\nb,50000000\n", "line 2: `b` (50.0 MB) fits on no disk")]
#[case("listing.jsonl", "{\"path\": \"a\"}\n", "line 1: there is no size")]
#[case("listing.jsonl", "{\"path\": ", "line 1")]
fn a_wrong_line_is_named(#[case] name: &str, #[case] text: &str, #[case] words: &str) {
    let lab = on_paper();
    fs::write(lab.root().join(name), text).unwrap();
    let run = lab.run(&["fate", "--lose", "alder", "--files", name]).expect(&[2]);
    assert!(run.stderr.contains(words), "{words}: {}", run.stderr);
}

#[test]
fn a_listing_is_for_pools_on_paper_only() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    fs::write(lab.root().join("listing.csv"), "a,5\n").unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    let run = lab.run(&["status", "--files", "listing.csv"]).expect(&[2]);
    assert!(run.stderr.contains("this pool exists"), "{}", run.stderr);
    let run = on_paper().run(&["fate", "--lose", "elm"]).expect(&[2]);
    assert!(run.stderr.contains("alder, beech, cedar, oak"), "{}", run.stderr);
}

#[test]
fn the_worked_example_is_what_the_demo_writes() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&["demo", "--dir", "next", "--paper"]).expect(&[0]);
    let example = concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/on-paper/pool.toml");
    assert_eq!(
        fs::read_to_string(lab.root().join("next/pool.toml")).unwrap(),
        fs::read_to_string(example).unwrap()
    );
    let mut command = lab.command(&["status", "--files", "listing.csv", "--json"]);
    let status = Run::of(&command.current_dir(lab.root().join("next")).output().unwrap()).expect(&[0]).json();
    assert_eq!(
        (&status["guard"][2]["files"], status["guard"].as_array().unwrap().len()),
        (&serde_json::json!(40_000), 3)
    );
}
