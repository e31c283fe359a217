//! Guards against a drill that proves nothing: one that reads nothing, that overlooks damage, that writes, or whose
//! outcome is not what a real loss brings.
//!
//! Holds I4.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// Three data and two parity disks; files of many sizes, some changed after the sync.
fn pool() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 2, "60 MB");
    let mut chance = Chance::new(91);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (number, size) in
        [0, 1, 4096, 70_000, 1_048_576, 1_048_577, 2_300_000, 300_000, 5_000].into_iter().enumerate()
    {
        let disk = lab.disk(["alder", "beech", "cedar"][number % 3]);
        fs::write(disk.join(format!("take-{number}.flac")), chance.bytes(size)).unwrap();
    }
    let sparse = fs::File::create(lab.disk("cedar").join("sparse.img")).unwrap();
    sparse.set_len(9_000_000).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&sparse, b"middle", 5_000_000).unwrap();
    drop(sparse);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("take-3.flac"), b"another length").unwrap();
    fs::write(lab.disk("beech").join("late.flac"), b"late").unwrap();
    lab
}

/// Every byte of every file on the disks, ours included.
fn everything(folder: &Path, found: &mut BTreeMap<PathBuf, Vec<u8>>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            everything(&path, found);
        } else if !path.file_name().unwrap().to_str().unwrap().starts_with("lock") {
            found.insert(path.clone(), fs::read(&path).unwrap());
        }
    }
}

#[rstest]
#[case("alder", true)]
#[case("oak", true)]
#[case("beech,cedar", true)]
#[case("cedar,pine", true)]
#[case("alder,beech,cedar", true)]
#[case("alder,beech,oak", true)]
fn what_a_drill_obtains_is_what_was_predicted_and_what_a_loss_brings(
    #[case] lose: &str,
    #[case] proven: bool,
) {
    let lab = pool();
    let names: Vec<&str> = lose.split(',').collect();
    let mut before = BTreeMap::new();
    lab.data.iter().chain(&lab.parity).for_each(|d| everything(&lab.disk(d), &mut before));
    let drilled = lab.run(&["drill", "--lose", lose, "--json"]).expect(&[0, 1]).json();
    assert_eq!(
        (&drilled["surprises"], &drilled["proven"]),
        (&Value::Array(vec![]), &Value::Bool(proven)),
        "{drilled}"
    );
    assert_eq!(drilled["predicted"], drilled["obtained"]);
    for name in &names {
        assert_eq!(
            drilled["read_bytes"][name].as_u64().unwrap() > 0,
            lab.parity.iter().any(|p| p == name),
            "of {name} nothing is read but parity, to compare with"
        );
    }
    let mut after = BTreeMap::new();
    lab.data.iter().chain(&lab.parity).for_each(|d| everything(&lab.disk(d), &mut after));
    assert!(before == after, "a drill writes to no disk");
    // The loss itself.
    let mut rebuild = vec!["rebuild".to_string()];
    for name in &names {
        fs::remove_dir_all(lab.disk(name)).unwrap();
        fs::create_dir(lab.disk(name)).unwrap();
        rebuild.extend([(*name).to_string(), "--onto".into(), lab.disk(name).display().to_string()]);
    }
    rebuild.extend(["--yes".into(), "--json".into()]);
    let rebuilt = lab.run(&rebuild.iter().map(String::as_str).collect::<Vec<_>>()).expect(&[0, 1]).json();
    for fate in ["rebuilt", "older", "torn", "gone"] {
        assert_eq!(rebuilt["obtained"][fate], drilled["obtained"][fate], "{fate}");
    }
}

#[test]
fn damage_on_a_survivor_or_in_parity_is_found_and_its_consequence_told() {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    let mut chance = Chance::new(92);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech"] {
        fs::write(lab.disk(disk).join(format!("{disk}.flac")), chance.bytes(1_500_000)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(
        lab.run(&["drill", "--lose", "alder", "--json"]).expect(&[0]).json()["proven"].as_bool().unwrap()
    );
    let victim = lab.disk("beech").join("beech.flac");
    lab.rot(&victim, 1_200_000);
    let told = lab.run(&["drill", "--lose", "alder", "--json"]).expect(&[1]).json();
    assert_eq!(told["proven"], false);
    assert_eq!(
        (&told["surprises"][0]["predicted"], &told["surprises"][0]["obtained"]),
        (&"rebuilt".into(), &"torn".into())
    );
    assert!(told["damage"][0].as_str().unwrap().contains("beech.flac"), "{told}");
    let fate = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[1]).json();
    assert_eq!(fate["totals"]["torn"]["files"], 1, "what was found counts from now on: {fate}");
    lab.rot(&victim, 1_200_000); // the same bit back
    lab.run(&["verify"]).expect(&[0]);
    let segment = lab.disk("oak").join(".zinc-sieve/parity/segment-00000");
    lab.rot(&segment, 300);
    let told = lab.run(&["drill", "--lose", "alder", "--json"]).expect(&[1]).json();
    assert_eq!(told["surprises"][0]["obtained"], "torn", "{told}");
    let told = lab.run(&["drill", "--lose", "oak", "--json"]).expect(&[1]).json();
    assert_eq!((&told["parity_cells_wrong"], &told["proven"]), (&1.into(), &false.into()));
}

#[test]
fn a_sample_is_said_to_be_no_proof_and_proofs_are_remembered() {
    let lab = pool();
    let run = lab.run(&["drill", "--lose", "cedar", "--share", "50 %"]).expect(&[0, 1]);
    assert!(run.stdout.contains("no proof") || run.stdout.contains("nothing is proven"), "{}", run.stdout);
    assert_eq!(lab.run(&["status", "--json"]).expect(&[5]).json()["proven"], Value::Array(vec![]));
    lab.run(&["drill", "--lose", "cedar"]).expect(&[0, 1]);
    let proven = lab.run(&["status", "--json"]).expect(&[5]).json()["proven"].clone();
    assert_eq!((&proven[0]["lost"], &proven[0]["files"]), (&serde_json::json!(["cedar"]), &4.into()));
    let journal = fs::read_to_string(lab.root().join(".zinc-sieve/journal.jsonl")).unwrap();
    assert!(journal.lines().any(|l| l.contains("\"did\":\"drill\"")));
    for wrong in
        [&["drill", "--lose", "elm"][..], &["drill"], &["drill", "--lose", "cedar", "--share", "all"]]
    {
        lab.run(wrong).expect(&[2]);
    }
}

#[test]
fn a_practice_pool_lets_the_whole_failure_be_rehearsed() {
    let lab = pool();
    let dir = lab.root().join("practice");
    let arguments = ["drill", "--practice", dir.to_str().unwrap(), "--lose", "beech", "--json"];
    let made = lab.run(&arguments).expect(&[0]).json();
    let disks = made["disks"].as_array().unwrap();
    let names: Vec<&str> = disks.iter().map(|d| d["disk"].as_str().unwrap()).collect();
    assert_eq!(names, lab.data.iter().chain(&lab.parity).collect::<Vec<_>>(), "the same disks");
    let commands: Vec<&str> =
        made["commands"].as_array().unwrap().iter().map(|c| c.as_str().unwrap()).collect();
    assert!(commands.contains(&"rm -r disks/beech"), "{commands:?}");
    for command in &commands[1..] {
        let mut words: Vec<&str> = command.split(' ').collect();
        let program = if words[0] == "zinc-sieve" { PROGRAM } else { words[0] };
        if ["rebuild", "sync"].contains(&words[1]) {
            words.push("--yes");
        }
        let run = std::process::Command::new(program).args(&words[1..]).current_dir(&dir).output().unwrap();
        let code = run.status.code().unwrap();
        assert!([0, 1, 5].contains(&code), "{command}: {}", String::from_utf8_lossy(&run.stderr));
    }
    let rest = lab.run(&arguments).expect(&[2]);
    assert!(rest.stdout.contains("is not empty") || rest.stderr.contains("is not empty"));
}

#[test]
fn a_drill_says_how_long_it_takes_and_when_it_was_last_proven() {
    let lab = pool();
    let first = lab.run(&["drill", "--lose", "alder"]).expect(&[0, 1]).stdout;
    assert!(first.contains("likely") && first.contains("never proven so far"), "{first}");
    let second = lab.run(&["drill", "--lose", "alder"]).expect(&[0, 1]).stdout;
    assert!(second.contains("alder: last proven just now"), "{second}");
}
