//! Guards against a moment at which a killed program costs a file: SIGKILL at random times during put, rm, sync,
//! mend, rebuild and every change of disks of the built program. KILLS sets how many.
//!
//! Holds I1, I2.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn contents(folder: &Path, found: &mut Vec<Vec<u8>>) {
    let Ok(entries) = fs::read_dir(folder) else { return };
    for entry in entries.flatten() {
        let path = entry.path();
        if path.is_dir() && path.file_name().unwrap() != "parity" && path.file_name().unwrap() != "tmp" {
            contents(&path, found);
        } else if path.is_file() {
            found.push(fs::read(&path).unwrap());
        }
    }
}

struct Scene {
    lab: Lab,
    chance: Chance,
    guarded: BTreeMap<String, Vec<u8>>,
}

fn build(seed: u64) -> Scene {
    let lab = Lab::new(PROGRAM, 3, 2, "80 MB");
    let mut entries = String::new();
    for name in ["elm", "rowan"] {
        fs::create_dir(lab.disk(name)).unwrap();
        let path = lab.disk(name).display().to_string();
        entries += &format!(
            "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"80 MB\"\nsimulated = true\n\n"
        );
    }
    lab.write_pool_file(&lab.pool_text().replace("[[volume]]", &format!("{entries}[[volume]]")));
    let mut chance = Chance::new(seed);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for number in 0..24 {
        let disk = lab.disk(["alder", "beech", "cedar"][number % 3]);
        fs::create_dir_all(disk.join("dawn")).unwrap();
        let length = 20_000 + chance.below(600_000);
        fs::write(disk.join(format!("dawn/take-{number}.flac")), chance.bytes(length)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["rm", "dawn/take-1.flac", "--yes"]).expect(&[0]);
    for number in 0..12 {
        let name = format!("card/clip-{number}.mkv");
        fs::create_dir_all(lab.root().join("card")).unwrap();
        let length = 50_000 + chance.below(500_000);
        fs::write(lab.root().join(name), chance.bytes(length)).unwrap();
    }
    fs::write(lab.disk("alder").join("dawn/take-0.flac"), b"edited behind our back").unwrap();
    let mut scene = Scene { lab, chance, guarded: BTreeMap::new() };
    scene.guarded = scene.now_guarded();
    assert!(scene.guarded.len() > 15);
    scene
}

impl Scene {
    fn now_guarded(&self) -> BTreeMap<String, Vec<u8>> {
        let run = self.lab.run(&["fate", "--lose", "cedar", "--json"]).expect(&[0, 1]);
        let answer: Value = serde_json::from_str(&run.stdout).unwrap();
        let files = answer["files"].as_array().unwrap().iter().filter(|f| f["guard"].as_u64().unwrap() > 0);
        files
            .map(|f| {
                let (disk, path) = (f["disks"][0].as_str().unwrap(), f["path"].as_str().unwrap());
                (path.to_string(), fs::read(self.lab.disk(disk).join(path)).unwrap())
            })
            .collect()
    }

    /// Starts the program and kills it after a random time, up to how long it takes when left alone.
    fn killed(&mut self, arguments: &[&str], longest: Duration) -> bool {
        let mut command = self.lab.command(arguments);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let micros = self.chance.below(longest.as_micros() as usize) as u64;
        std::thread::sleep(Duration::from_micros(micros));
        child.kill().unwrap();
        child.wait().unwrap().code().is_none()
    }

    fn assert_nothing_lost(&self, when: &str) {
        let mut found = Vec::new();
        for folder in ["alder", "beech", "cedar", "new"] {
            contents(&self.lab.disk(folder), &mut found);
        }
        for (path, bytes) in &self.guarded {
            assert!(found.contains(bytes), "{when}: {path} is gone");
        }
    }
}

const ACTIONS: [&[&str]; 10] = [
    &["put", "card", "nest", "--yes"],
    &["rm", "dawn", "--recursive", "--yes"],
    &["sync", "--yes"],
    &["rebuild", "cedar", "--onto", "new", "--yes"],
    &["verify", "--mend", "--yes"],
    &["grow", "rowan", "--as", "parity", "--yes"],
    &["grow", "elm", "--as", "data", "--yes"],
    &["vacate", "oak", "--yes"],
    &["replace", "oak", "--onto", "new", "--yes"],
    &["replace", "oak", "--onto", "new", "--capacity", "8 MB", "--rest", "elm", "--yes"],
];

/// A file that is guarded and rots before it is mended.
const ROTS: &str = "dawn/take-2.flac";

fn ready(action: &[&str], seed: u64) -> Scene {
    let scene = build(seed);
    fs::create_dir(scene.lab.disk("new")).unwrap();
    match action[0] {
        "rebuild" => fs::rename(scene.lab.disk("cedar"), scene.lab.root().join("dead")).unwrap(),
        "verify" => scene.lab.rot(&scene.lab.disk("cedar").join(ROTS), 9_000),
        _ => {}
    }
    scene
}

/// What the next run of an interrupted action may say besides doing it.
const FINISHED: [&str; 7] = [
    "nothing to rebuild",
    "is finished now",
    "is a member already",
    "a member of this pool",
    "there is no disk `oak`",
    "run sync",
    "computes the rest",
];

/// Runs an interrupted action until it has nothing more to do.
fn finish(scene: &Scene, action: &[&str], when: &str) {
    for _ in 0..3 {
        let run = scene.lab.run(action);
        let is_known = [0, 1].contains(&run.code) || FINISHED.iter().any(|text| run.stderr.contains(text));
        assert!(is_known, "{when}: {}", run.stderr);
        if !run.stderr.contains("run this again") {
            return;
        }
    }
}

/// One kill; true when the program really was killed in the middle.
fn kill_once(action: &[&str], seed: u64, longest: Duration) -> bool {
    let mut scene = ready(action, seed);
    let when = format!("{action:?}, seed {seed}");
    let was_killed = scene.killed(action, longest);
    if !["put", "rm", "sync"].contains(&action[0]) {
        finish(&scene, action, &when);
    }
    scene.assert_nothing_lost(&when);
    match action[0] {
        // What of the new image is missing counts as damage until a sync has computed it.
        "grow" => {
            scene.lab.run(&["sync", "--yes"]).expect(&[0, 1]);
            scene.guarded = scene.now_guarded();
        }
        // With one parity less, rows in which something is stale guard nothing.
        "vacate" => scene.guarded = scene.now_guarded(),
        _ => {}
    }
    let mut run = scene.lab.run(&["verify"]);
    if run.stderr.contains("is finished now") {
        // The pool file was edited already, so that running the action again found nothing to do: this one finished the rest.
        run = scene.lab.run(&["verify"]);
    }
    assert_eq!(run.code, 0, "{when}: {}{}", run.stdout, run.stderr);
    // A disk dies right after: what was guarded before is there after the rebuild.
    let lost = match action[0] {
        "vacate" | "replace" => ["beech", "pine"][seed as usize % 2],
        _ => ["beech", "oak", "pine"][seed as usize % 3],
    };
    fs::rename(scene.lab.disk(lost), scene.lab.root().join("gone")).unwrap();
    fs::create_dir(scene.lab.disk("fresh")).unwrap();
    let run = scene.lab.run(&["rebuild", lost, "--onto", "fresh", "--yes", "--json"]).expect(&[0, 1]);
    let report: Value = serde_json::from_str(&run.stdout).unwrap();
    assert_eq!(report["predicted"], report["obtained"], "{when}");
    let mut found = Vec::new();
    for folder in ["alder", "beech", "cedar", "new", "fresh"] {
        contents(&scene.lab.disk(folder), &mut found);
    }
    for (path, bytes) in &scene.guarded {
        assert!(found.contains(bytes), "{when}: {path} did not survive the loss of {lost}");
    }
    scene.lab.run(&["sync", "--yes", "--accept", "alder,beech,cedar"]).expect(&[0]);
    scene.lab.run(&["verify"]).expect(&[0]);
    was_killed
}

#[test]
fn no_kill_costs_a_guarded_file() {
    let kills: u64 = std::env::var("KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(60);
    let each = kills / ACTIONS.len() as u64;
    let in_the_middle = std::sync::atomic::AtomicU64::new(0);
    let play = |first: usize| {
        for (number, action) in ACTIONS.iter().enumerate().skip(first).step_by(2) {
            let scene = ready(action, 1);
            let start = Instant::now();
            scene.lab.run(action).expect(&[0, 1]);
            let longest = start.elapsed();
            for seed in 0..each {
                let was_killed = kill_once(action, seed * 10 + number as u64, longest);
                in_the_middle.fetch_add(u64::from(was_killed), std::sync::atomic::Ordering::Relaxed);
            }
        }
    };
    std::thread::scope(|scope| {
        scope.spawn(|| play(0));
        scope.spawn(|| play(1));
    });
    let in_the_middle = in_the_middle.into_inner();
    assert!(in_the_middle > kills / 4, "only {in_the_middle} of {kills} kills came in time");
}
