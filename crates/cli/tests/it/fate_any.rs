//! Guards against a ranking of losses that is not what each loss by itself is said to cost.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn pool() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "60 MB");
    let mut chance = Chance::new(41);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (disk, size) in [("alder", 900_000), ("beech", 400_000), ("cedar", 70_000)] {
        fs::write(lab.disk(disk).join(format!("{disk}.dat")), chance.bytes(size)).unwrap();
        std::os::unix::fs::symlink("nowhere", lab.disk(disk).join(format!("{disk}-link"))).unwrap();
    }
    fs::hard_link(lab.disk("beech").join("beech.dat"), lab.disk("beech").join("twin.dat")).unwrap();
    fs::write(lab.disk("cedar").join("old.dat"), chance.bytes(5_000)).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.disk("cedar").join("late.dat"), b"late").unwrap();
    lab.run(&["rm", "old.dat", "--yes"]).expect(&[0]);
    lab
}

#[rstest]
fn each_set_costs_what_its_own_fate_tells(#[values(1, 2, 3, 4)] any: usize) {
    let lab = pool();
    let told = lab.run(&["fate", "--any", &any.to_string(), "--json"]).expect(&[1]).json();
    let sets = told["sets"].as_array().unwrap();
    assert_eq!(sets.len(), [0, 4, 6, 4, 1][any]);
    let mut last = u64::MAX;
    for set in sets {
        let lose: Vec<&str> = set["lose"].as_array().unwrap().iter().map(|n| n.as_str().unwrap()).collect();
        let alone = lab.run(&["fate", "--lose", &lose.join(","), "--json"]).expect(&[0, 1]).json();
        let sum = |key: &str| -> u64 {
            ["older", "torn", "gone"].iter().map(|f| alone["totals"][f][key].as_u64().unwrap()).sum()
        };
        assert_eq!(
            (set["files"].as_u64(), set["bytes"].as_u64()),
            (Some(sum("files")), Some(sum("bytes"))),
            "{lose:?}"
        );
        assert!(set["bytes"].as_u64().unwrap() <= last, "the costliest first");
        last = set["bytes"].as_u64().unwrap();
    }
}

#[test]
fn the_worst_pair_is_named_in_words() {
    let shown = pool().run(&["fate", "--any", "2", "--top", "2"]).expect(&[1]).stdout;
    assert!(shown.contains("worst    alder and beech"), "{shown}");
    assert!(shown.contains("and 4 more"), "{shown}");
}

#[rstest]
#[case("0", "from 1 on")]
#[case("9", "there are 4 disks")]
fn impossible_numbers_are_refused(#[case] any: &str, #[case] words: &str) {
    assert!(pool().run(&["fate", "--any", any]).expect(&[2]).stderr.contains(words));
}

#[test]
fn after_a_sync_no_single_loss_costs_anything() {
    let lab = pool();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["fate", "--any", "1"]).expect(&[0]);
    lab.run(&["fate", "--any", "2"]).expect(&[1]);
}
