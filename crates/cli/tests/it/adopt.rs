//! Guards against a pool that is carried elsewhere and is not the same there: nothing of it lost, nothing merged silently.
//!
//! Holds I8.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::Path;
use std::process::Command;

use sieve_testkit::{Chance, Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const DISKS: [&str; 4] = ["alder", "beech", "cedar", "oak"];

/// A synced pool, with a new file on alder that no sync has seen.
fn home() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "60 MB");
    let text = lab.pool_text().replace("[[volume]]", "# all recordings\n[[volume]]");
    lab.write_pool_file(&text.replace("kind =", "placement = \"in-order\"\nkind ="));
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(21);
    for disk in &lab.data {
        for number in 0..3 {
            let length = 100_000 + chance.below(1_500_000);
            fs::write(lab.disk(disk).join(format!("{disk}-{number}.flac")), chance.bytes(length)).unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("late.flac"), chance.bytes(70_000)).unwrap();
    lab
}

/// Somewhere else: the disks under other paths, without pool file and catalogue.
fn carried(lab: &Lab, place: &str, disks: &[&str]) -> std::path::PathBuf {
    let there = lab.root().join(place);
    fs::create_dir_all(there.join("desk")).unwrap();
    for disk in disks {
        fs::rename(lab.disk(disk), there.join(disk)).unwrap();
    }
    there
}

fn run_in(folder: &Path, arguments: &[&str]) -> Run {
    let mut command = Command::new(PROGRAM);
    command.env_clear().current_dir(folder).args(arguments).stdin(std::process::Stdio::null());
    Run::of(&command.output().unwrap())
}

fn adopt(there: &Path, disks: &[&str], more: &[&str]) -> Run {
    let places: Vec<String> = disks.iter().map(|disk| there.join(disk).display().to_string()).collect();
    let mut arguments = vec!["adopt"];
    arguments.extend(places.iter().map(String::as_str));
    arguments.extend(more);
    run_in(&there.join("desk"), &arguments)
}

#[test]
fn the_disks_alone_are_the_pool_and_it_works_there() {
    let lab = home();
    let there = carried(&lab, "elsewhere", &DISKS);
    let plan = adopt(&there, &DISKS, &["--dry-run"]).expect(&[0]);
    assert!(plan.stdout.contains("all 4 disks are here"), "{}", plan.stdout);
    assert_eq!(fs::read_dir(there.join("desk")).unwrap().count(), 0, "a plan writes nothing");
    let report = adopt(&there, &DISKS, &["--yes", "--json"]).expect(&[0]).json();
    let alder = report["scans"].as_array().unwrap().iter().find(|s| s["disk"] == "alder").unwrap().clone();
    assert_eq!(alder["new"], 1, "what happened since is found by the scan");
    let text = fs::read_to_string(there.join("desk/pool.toml")).unwrap();
    assert!(
        text.contains("# all recordings") && text.contains("in-order"),
        "the pool file came along: {text}"
    );
    run_in(&there.join("desk"), &["verify"]).expect(&[0]);
    run_in(&there.join("desk"), &["sync", "--yes"]).expect(&[0]);
    run_in(&there.join("desk"), &["status"]).expect(&[0]);
}

#[test]
fn a_pool_with_a_disk_missing_is_degraded_and_can_be_rebuilt() {
    let lab = home();
    let lost: Vec<Vec<u8>> =
        (0..3).map(|n| fs::read(lab.disk("beech").join(format!("beech-{n}.flac"))).unwrap()).collect();
    let there = carried(&lab, "elsewhere", &["alder", "cedar", "oak"]);
    let run = adopt(&there, &["alder", "cedar", "oak"], &["--yes"]).expect(&[1]);
    assert!(run.stdout.contains("3 of 4 present, beech is missing"), "{}", run.stdout);
    fs::create_dir(there.join("new")).unwrap();
    run_in(&there.join("desk"), &["rebuild", "beech", "--onto", "../new", "--yes"]).expect(&[0]);
    for (number, bytes) in lost.iter().enumerate() {
        assert_eq!(fs::read(there.join(format!("new/beech-{number}.flac"))).unwrap(), *bytes);
    }
    run_in(&there.join("desk"), &["sync", "--yes"]).expect(&[0]);
}

#[test]
fn on_the_way_back_the_older_catalogue_gives_way_and_is_kept() {
    let lab = home();
    let there = carried(&lab, "elsewhere", &DISKS);
    adopt(&there, &DISKS, &["--yes"]).expect(&[0]);
    run_in(&there.join("desk"), &["sync", "--yes"]).expect(&[0]);
    for disk in DISKS {
        fs::rename(there.join(disk), lab.disk(disk)).unwrap();
    }
    let refused = lab.run(&["status"]).expect(&[4]);
    assert!(refused.stderr.contains("older copy"), "{}", refused.stderr);
    let before = lab.pool_text();
    let run = lab.run(&["adopt", "alder", "beech", "cedar", "oak", "--yes"]).expect(&[0]);
    assert!(run.stdout.contains("older one here is kept"), "{}", run.stdout);
    assert_eq!(lab.pool_text(), before, "the paths are what they were");
    lab.run(&["verify"]).expect(&[0]);
    let names: Vec<String> = fs::read_dir(lab.root().join(".zinc-sieve"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    assert!(names.iter().any(|name| name.starts_with("catalogue-until-")), "{names:?}");
    // Where it knows everything, the catalogue at home stays.
    let run = lab.run(&["adopt", "alder", "beech", "cedar", "oak", "--yes"]).expect(&[0]);
    assert!(run.stdout.contains("knows all that the disks know"), "{}", run.stdout);
}

fn copy_tree(from: &Path, to: &Path) {
    let status = Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap();
    assert!(status.success());
}

#[test]
fn two_halves_that_went_separate_ways_are_explained_and_not_merged() {
    let lab = home();
    let (here, there) = (lab.root().join("here"), lab.root().join("there"));
    for place in [&here, &there] {
        fs::create_dir_all(place.join("desk")).unwrap();
        DISKS.iter().for_each(|disk| copy_tree(&lab.disk(disk), &place.join(disk)));
        adopt(place, &DISKS, &["--yes"]).expect(&[0]);
        fs::write(place.join("cedar/own.txt"), place.display().to_string()).unwrap();
        // Copies have other change times: that they are what they were is read again.
        run_in(&place.join("desk"), &["sync", "--yes", "--accept", "alder,beech,cedar"]).expect(&[0]);
    }
    let desk = lab.root().join("desk");
    fs::create_dir(&desk).unwrap();
    let mixed = ["../here/alder", "../here/oak", "../there/beech", "../there/cedar"];
    let mut arguments = vec!["adopt", "--yes"];
    arguments.extend(mixed);
    let run = run_in(&desk, &arguments).expect(&[4]);
    assert!(run.stderr.contains("changed in two places"), "{}", run.stderr);
    assert!(run.stderr.contains("alder, oak") && run.stderr.contains("beech, cedar"), "{}", run.stderr);
    assert_eq!(fs::read_dir(&desk).unwrap().count(), 0, "nothing is done");
}

#[test]
fn what_is_no_member_or_claims_to_be_another_is_refused_with_words() {
    let lab = home();
    let there = carried(&lab, "elsewhere", &DISKS);
    let refused = |disks: &[&str], code: i32, words: &str| {
        let run = adopt(&there, disks, &["--yes"]).expect(&[code]);
        assert!(run.stderr.contains(words), "{words}: {}", run.stderr);
        assert_eq!(fs::read_dir(there.join("desk")).unwrap().count(), 0, "{words}: nothing is done");
    };
    fs::create_dir(there.join("plain")).unwrap();
    fs::write(there.join("plain/owl.flac"), b"an ordinary file").unwrap();
    refused(&["plain"], 2, "zinc-sieve grow");
    // All mounts of a machine can be named: what is no member is passed over, and said.
    let named = DISKS.iter().chain(&["plain"]).copied().collect::<Vec<_>>();
    let dry = adopt(&there, &named, &["--dry-run"]).expect(&[0]);
    assert!(dry.stdout.contains("plain is no member of a pool, and is passed over"), "{}", dry.stdout);
    copy_tree(&there.join("alder"), &there.join("alder-copy"));
    refused(&["alder", "alder-copy", "oak"], 4, "one is a copy");
    let label = there.join("beech/.zinc-sieve/label.toml");
    let good = fs::read_to_string(&label).unwrap();
    fs::write(&label, good.replace("slot = 1", "slot = 2")).unwrap();
    refused(&DISKS, 3, "claims data slot 2");
    // A volume goes by its id, whatever it is called.
    let id = good.lines().find(|line| line.starts_with("volume_id")).unwrap();
    fs::write(&label, good.replace(id, "volume_id = \"6f1d4a52-0b8e-4c55-9d2b-3f6f0e1c7a10\"")).unwrap();
    refused(&DISKS, 3, "claims");
    fs::write(&label, &good).unwrap();
    for disk in DISKS {
        let folder = fs::read_dir(there.join(disk).join(".zinc-sieve")).unwrap();
        let replica =
            folder.map(|e| e.unwrap().path()).find(|p| p.extension().is_some_and(|e| e == "sqlite"));
        let database = rusqlite::Connection::open(replica.unwrap()).unwrap();
        database.pragma_update(None, "user_version", 99).unwrap();
    }
    refused(&DISKS, 3, "newer");
}

/// Killed at any moment, it is run again and the pool is there; the disks are as they were.
#[test]
fn a_kill_in_the_middle_costs_nothing_but_running_it_again() {
    let mut chance = Chance::new(23);
    for round in 0..24 {
        let lab = home();
        let there = carried(&lab, "elsewhere", &DISKS);
        let mut command = Command::new(PROGRAM);
        command.env_clear().current_dir(there.join("desk")).args(["adopt", "--yes"]);
        command.args(DISKS.map(|disk| there.join(disk)));
        command.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::null());
        let mut child = command.stderr(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_micros(chance.below(60_000) as u64));
        child.kill().unwrap();
        child.wait().unwrap();
        adopt(&there, &DISKS, &["--yes"]).expect(&[0]);
        run_in(&there.join("desk"), &["verify"]).expect(&[0]);
        let text = fs::read_to_string(there.join("desk/pool.toml")).unwrap();
        assert!(text.contains("# all recordings"), "round {round}: {text}");
    }
}

/// Where the catalogue at home knows more than the disks do, it says who belongs to the pool.
#[test]
fn the_catalogue_that_knows_most_says_who_belongs_to_the_pool() {
    let lab = home();
    let replicas = |disk: &str| -> Vec<std::path::PathBuf> {
        let entries = fs::read_dir(lab.disk(disk).join(".zinc-sieve")).unwrap().map(|e| e.unwrap().path());
        entries.filter(|path| path.extension().is_some_and(|e| e == "sqlite")).collect()
    };
    let older: Vec<(std::path::PathBuf, Vec<u8>)> = DISKS
        .iter()
        .flat_map(|disk| replicas(disk))
        .map(|path| (path.clone(), fs::read(path).unwrap()))
        .collect();
    fs::create_dir(lab.disk("rowan")).unwrap();
    let at = lab.disk("rowan").display().to_string();
    let more = format!("\n[[disk]]\nname = \"rowan\"\npath = \"{at}\"\nshares_filesystem = true\n");
    lab.write_pool_file(&(lab.pool_text() + &more));
    lab.run(&["grow", "rowan", "--as", "parity", "--yes"]).expect(&[0]);
    // As if the power had failed before the replicas followed.
    DISKS
        .iter()
        .chain(&["rowan"])
        .flat_map(|disk| replicas(disk))
        .for_each(|path| fs::remove_file(path).unwrap());
    older.iter().for_each(|(path, bytes)| fs::write(path, bytes).unwrap());
    let mut arguments = vec!["adopt", "--dry-run", "--json", "rowan"];
    arguments.extend(DISKS);
    let plan = lab.run(&arguments).expect(&[0]).json();
    assert_eq!(plan["catalogue"]["source"], "home");
    assert_eq!(plan["members"].as_array().unwrap().len(), 5, "{plan}");
}
