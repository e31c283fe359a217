//! Guards against durations that are guessed where they were measured.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use serde_json::{Value, json};
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn likely(lab: &Lab, arguments: &[&str]) -> f64 {
    let run = lab.run(arguments).expect(&[0]);
    let plan: Value = serde_json::from_str(&run.stdout).unwrap_or_else(|e| panic!("{e}: {}", run.stdout));
    let (likely, cautious) =
        (plan["forecast"]["likely_seconds"].as_f64(), plan["forecast"]["cautious_seconds"].as_f64());
    assert!(cautious.unwrap() > likely.unwrap(), "{plan}");
    assert_eq!(plan["forecast"]["curve"].as_array().unwrap().len(), 21);
    likely.unwrap()
}

#[test]
fn a_sync_and_a_rebuild_are_forecast_by_what_a_burn_in_measured() {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("a.flac"), Chance::new(1).bytes(6_000_000)).unwrap();
    let sync = ["sync", "--dry-run", "--json"];
    let assumed = likely(&lab, &sync);
    assert!(assumed < 1.0, "{assumed}");
    // The disks of this pool lie on one filesystem: measured once, it holds for all.
    fs::create_dir(lab.disk("new")).unwrap();
    lab.run(&["burn-in", "new", "--amount", "70 MB", "--yes"]).expect(&[0]);
    let path = lab.root().join(".zinc-sieve/curves.json");
    let mut curves: Value = serde_json::from_str(&fs::read_to_string(&path).unwrap()).unwrap();
    assert!(curves["curves"][0]["points"][0][1].as_f64().unwrap() > 0.0);
    curves["curves"][0]["points"] = json!([[0.0, 1e6]]);
    fs::write(&path, curves.to_string()).unwrap();
    // 6 MB are checksummed and computed from in one pass, at 1 MB a second.
    let measured = likely(&lab, &sync);
    assert!((6.0..7.0).contains(&measured), "{measured}");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    let onto = lab.disk("onto").display().to_string();
    fs::create_dir(&onto).unwrap();
    let rebuild = likely(&lab, &["rebuild", "alder", "--onto", &onto, "--dry-run", "--json"]);
    assert!((6.0..8.0).contains(&rebuild), "{rebuild}");
}

#[test]
fn damaged_or_newer_curves_are_said_so() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (text, words) in [("{", "curves.json"), ("{\"format\": 9, \"curves\": []}", "newer format")] {
        fs::write(lab.root().join(".zinc-sieve/curves.json"), text).unwrap();
        let run = lab.run(&["sync", "--dry-run"]).expect(&[3]);
        assert!(run.stderr.contains(words) && run.stderr.contains("next: "), "{}", run.stderr);
    }
}

/// A file that moves is read here while it is written there, and then read back, before its first place is given up.
#[test]
fn a_copy_takes_until_it_is_read_back() {
    let disks = [("alder", 40), ("beech", 40)];
    let lab = Lab::of(PROGRAM, &disks, "kind = \"unstriped\"\ndata = [\"alder\", \"beech\"]");
    let mut text = lab.pool_text();
    for (disk, rate) in [("alder", 1), ("beech", 2)] {
        let speed = format!("name = \"{disk}\"\nspeed = [\"{rate} MB/s\", \"{rate} MB/s\"]");
        text = text.replace(&format!("name = \"{disk}\""), &speed);
    }
    lab.write_pool_file(&text);
    fs::write(lab.disk("alder").join("owl.flac"), Chance::new(5).bytes(6_000_000)).unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    let seconds = |arguments: &[&str]| {
        let plan = lab.run(&[arguments, &["--dry-run", "--json"]].concat()).expect(&[0]).json();
        let plan = plan
            .get("replaced")
            .filter(|replaced| replaced.is_array())
            .map_or(&plan, |replaced| &replaced[0]);
        plan["forecast"]["likely_seconds"].as_f64().unwrap_or_else(|| panic!("{plan}"))
    };
    // Read at 1 MB a second, written meanwhile; read back at 2.
    let moved = seconds(&["move", "owl.flac", "--to", "beech"]);
    assert!((moved - 9.0).abs() < 0.1, "{moved}");
    // A disk that nobody knows is taken to be as fast as the one that it follows.
    fs::create_dir(lab.root().join("new")).unwrap();
    let replaced = seconds(&["replace", "alder", "--onto", "new"]);
    assert!((replaced - 12.0).abs() < 0.1, "{replaced}");
    // What the source of a copy gives is not known: it is written, and read back.
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/wren.flac"), Chance::new(6).bytes(6_000_000)).unwrap();
    let put = seconds(&["put", "card/wren.flac", "."]);
    assert!((put - 6.0).abs() < 0.1 || (put - 12.0).abs() < 0.1, "{put}");
}

/// Of two volumes that are passed over one after the other, what remains while the first is at work is of both.
#[test]
fn what_remains_of_a_pass_over_two_volumes_is_of_both() {
    let disks = [("alder", 60), ("oak", 60), ("beech", 60), ("rowan", 60)];
    let volumes = "kind = \"unstriped\"\ndata = [\"alder\"]\nparity = [\"oak\"]\n\
        [[volume]]\nname = \"films\"\nkind = \"unstriped\"\ndata = [\"beech\"]\nparity = [\"rowan\"]";
    let lab = Lab::of(PROGRAM, &disks, volumes);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (disk, seed) in [("alder", 1), ("beech", 2)] {
        fs::write(lab.disk(disk).join("a.flac"), Chance::new(seed).bytes(12_000_000)).unwrap();
    }
    for command in [&["sync", "--yes"][..], &["verify"]] {
        let run = lab.run(&[command, &["--events", "--limit", "8 MB/s"]].concat()).expect(&[0]);
        // What is told to remain, stage by stage, of those that tell it.
        let mut told: Vec<Vec<f64>> = Vec::new();
        for event in run.stderr.lines().filter_map(|line| serde_json::from_str::<Value>(line).ok()) {
            match (event["event"].as_str(), event["remaining_seconds"].as_f64()) {
                (Some("stage"), _) => told.push(Vec::new()),
                (Some("progress"), Some(seconds)) => told.last_mut().unwrap().push(seconds),
                _ => {}
            }
        }
        told.retain(|stage| !stage.is_empty());
        let [first, second] = &told[..] else { panic!("{command:?}: {told:?}") };
        // At its end the first has nothing left of its own; the second moves 12 MB, or reads and writes as much.
        assert!((1.4..4.0).contains(first.last().unwrap()), "{command:?}: {told:?}");
        assert!(*second.last().unwrap() < 0.3, "{command:?}: {told:?}");
    }
}
