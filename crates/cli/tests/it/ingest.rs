//! Guards against a cache that is bought too small: rates, bottlenecks and the day, through the program.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

#[test]
fn a_day_that_overflows_says_when_and_what_would_do() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let day = [
        "ingest",
        "--cache",
        "75GB",
        "--arrivals",
        "10:00-12:00 100GB",
        "--settle",
        "20:00",
        "--disk-rate",
        "100 MB/s",
    ];
    let run = lab.run(&day).expect(&[1]);
    assert!(run.stdout.contains("is full at 11:30"), "{}", run.stdout);
    assert!(run.stdout.contains("does not overflow: 100 GB"), "{}", run.stdout);
    let larger = [&day[..2], &["100GB"], &day[3..], &["--json"]].concat();
    let answer: Value = serde_json::from_str(&lab.run(&larger).expect(&[0]).stdout).unwrap();
    assert_eq!(answer["day"]["most_bytes"], 100_000_000_000u64);
    lab.run(&[&larger[..], &["--chart", "day.svg"]].concat()).expect(&[0]);
    assert!(fs::read_to_string(lab.root().join("day.svg")).unwrap().contains("smallest cache"));
}

#[test]
fn with_and_without_a_cache_stand_side_by_side() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let run = lab
        .run(&["ingest", "--link", "10 Gbit/s", "--amount", "100GB", "--cache", "60GB", "--json"])
        .expect(&[0]);
    let answer: Value = serde_json::from_str(&run.stdout).unwrap();
    let rate = |key: &str| answer[key]["bytes_per_second"].as_f64().unwrap();
    assert!(rate("with_cache") > rate("without_cache"));
    let stages = answer["with_cache"]["stages"].as_array().unwrap();
    assert_eq!(stages.last().unwrap()["bytes"], 40_000_000_000u64, "what does not fit goes on to the disks");
}

#[rstest]
#[case(&["--link", "fast"], "is not a rate")]
#[case(&["--amount", "lots"], "is not a size")]
#[case(&["--arrivals", "noon 3GB"], "is no arrival")]
#[case(&["--arrivals", "10:00-11:00 3GB", "--settle", "soon"], "no time to settle")]
#[case(&["--chart", "x.svg"], "--arrivals")]
#[case(&["--fast-area", "60 GB"], "--sustained")]
fn wrong_wishes_end_with_words(#[case] arguments: &[&str], #[case] words: &str) {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let run = lab.run(&[&["ingest"], arguments].concat()).expect(&[2]);
    assert!(run.stderr.contains(words), "{}", run.stderr);
}

/// Sizes and rates are told in the same units.
#[test]
fn binary_units_are_for_rates_too() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let asked = ["ingest", "--link", "1 Gbit/s", "--amount", "300GB", "--disk-rate", "200 MB/s"];
    let plain = lab.run(&asked).expect(&[0]).stdout;
    let binary = lab.run(&[&asked[..], &["--binary"]].concat()).expect(&[0]).stdout;
    assert!(plain.contains(" MB/s") && !plain.contains("MiB/s"), "{plain}");
    assert!(binary.contains(" MiB/s") && !binary.contains(" MB/s"), "{binary}");
}
