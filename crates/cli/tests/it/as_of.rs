//! Guards against an answer about a pool of very many files that hides how old it is, or that cannot be had fresh; and against
//! one that was kept although something it follows from is another.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::time::Duration;

use rstest::rstest;
use serde_json::{Value, json};
use sieve_testkit::{Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A guarded pool of a few files.
fn lab() -> Lab {
    let mut lab = Lab::new(PROGRAM, 3, 1, "50 MB");
    lab.ahead = Duration::from_secs(10);
    for disk in ["alder", "beech", "cedar"] {
        for number in 0..6 {
            let path = lab.disk(disk).join(format!("dawn/{disk}-{number}.flac"));
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, format!("{disk} {number}").repeat(3000)).unwrap();
        }
    }
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

/// As far as the catalogue tells, there are more files than anybody would look at for an answer.
fn seems_large(lab: &Lab) {
    let catalogue = rusqlite::Connection::open(lab.root().join(".zinc-sieve/catalogue.sqlite")).unwrap();
    catalogue.execute("UPDATE taken SET objects = objects + 1000000", []).unwrap();
}

fn status(lab: &Lab, more: &[&str]) -> Value {
    lab.run(&[&["status", "--json"], more].concat()).expect(&[0, 1, 5]).json()
}

#[rstest]
#[case::status(&["status"])]
#[case::fate(&["fate", "--lose", "alder"])]
#[case::fate_of_sets(&["fate", "--any", "1"])]
fn a_large_pool_is_told_as_of_the_last_scan_and_looked_at_when_asked(#[case] command: &[&str]) {
    let lab = lab();
    let all: &[i32] = &[0, 1, 2, 3, 5];
    let ask = |more: &[&str]| lab.run(&[command, more].concat()).expect(all);
    assert!(!told(&ask(&[])).contains("of the scan"), "a small pool is looked at");
    seems_large(&lab);
    fs::write(lab.disk("beech").join("dawn/behind-our-back.flac"), "new").unwrap();
    let before = ask(&[]);
    assert!(told(&before).to_lowercase().contains("as of the scan"), "{}", told(&before));
    let before = ask(&["--json"]).json();
    assert!(before["as_of"].is_string(), "{before}");
    let now = ask(&["--scan", "--json"]).json();
    assert_eq!(now["as_of"], Value::Null, "{now}");
    assert_ne!(strip(before), strip(now), "the new file is seen");
}

fn told(run: &Run) -> String {
    format!("{}{}", run.stdout, run.stderr)
}

/// An answer without what says when.
fn strip(mut answer: Value) -> Value {
    for key in ["as_of", "now", "disks", "synced_at"] {
        answer.as_object_mut().unwrap().remove(key);
    }
    answer
}

type Happens = fn(&Lab);

/// What was worked out for `status` is kept, and told again only while everything that it follows from is the same.
#[rstest]
#[case::nothing(|_: &Lab| {}, true)]
#[case::a_new_file(|lab: &Lab| fs::write(lab.disk("beech").join("new.flac"), "new").unwrap(), false)]
#[case::a_put(|lab: &Lab| {
    fs::write(lab.root().join("put.flac"), "put").unwrap();
    lab.run(&["put", "put.flac", "dawn", "--yes"]).expect(&[0]);
}, false)]
#[case::a_disk_that_goes(|lab: &Lab| fs::rename(lab.disk("beech"), lab.root().join("away")).unwrap(), false)]
#[case::another_pool_file(|lab: &Lab| {
    lab.write_pool_file(&lab.pool_text().replace("[[volume]]", "[[volume]]\nstop_when_gone = \"9 %\""));
}, true)]
#[case::a_kept_one_of_no_meaning(|lab: &Lab| fs::write(lab.root().join(".zinc-sieve/stock.json"), "{").unwrap(), true)]
#[case::none_kept(|lab: &Lab| fs::remove_file(lab.root().join(".zinc-sieve/stock.json")).unwrap(), true)]
fn what_was_worked_out_holds_as_long_as_its_grounds(#[case] happens: Happens, #[case] is_same: bool) {
    let lab = lab();
    let before = status(&lab, &[]);
    assert!(lab.root().join(".zinc-sieve/stock.json").exists());
    // What is kept is told: no other way leads to such a number.
    let place = lab.root().join(".zinc-sieve/stock.json");
    let mut kept: Value = serde_json::from_slice(&fs::read(&place).unwrap()).unwrap();
    kept["stock"]["held"]["files"] = json!(4711);
    fs::write(&place, kept.to_string()).unwrap();
    assert_eq!(status(&lab, &[])["held"]["files"], json!(4711));
    happens(&lab);
    let after = status(&lab, &[]);
    let is_kept = after["held"]["files"] == json!(4711);
    let still_kept = fs::read_to_string(&place).unwrap().contains("4711");
    assert_eq!(is_kept, still_kept, "what was worked out anew is kept instead");
    let mut expected = strip(before.clone());
    if is_kept {
        expected["held"]["files"] = json!(4711);
    }
    assert_eq!(strip(after) == expected, is_same);
}
