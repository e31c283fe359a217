//! Guards against damage that a sync lets pass (I3): single flipped bits anywhere in data, in what is held, in parity.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::{Path, PathBuf};

use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn files_below(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files_below(&path, found);
        } else {
            found.push(path);
        }
    }
}

fn synced(chance: &mut Chance) -> Lab {
    let lab = Lab::new(PROGRAM, 3, 2, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech", "cedar"] {
        for number in 0..3 {
            let length = 1 + chance.below(1_800_000);
            fs::write(lab.disk(disk).join(format!("{disk}-{number}.flac")), chance.bytes(length)).unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn sync(lab: &Lab) -> (i32, Value) {
    let run = lab.run(&["sync", "--yes", "--json"]);
    (run.code, serde_json::from_str(&run.stdout).unwrap_or_else(|e| panic!("{e}: {}", run.stderr)))
}

fn told(report: &Value, name: &str) -> bool {
    ["suspect", "damage"]
        .iter()
        .flat_map(|key| report[key].as_array().unwrap())
        .any(|text| text.as_str().unwrap().contains(name))
}

#[test]
fn a_flip_anywhere_in_a_file_is_told_and_kept_out_of_parity() {
    let mut chance = Chance::new(77);
    let lab = synced(&mut chance);
    let mut files = Vec::new();
    ["alder", "beech", "cedar"].iter().for_each(|d| {
        let found = fs::read_dir(lab.disk(d)).unwrap().map(|e| e.unwrap().path());
        files.extend(found.filter(|p| p.is_file()));
    });
    for _ in 0..20 {
        let path = chance.pick(&files).clone();
        let name = path.file_name().unwrap().to_str().unwrap().to_string();
        let offset = chance.below(fs::metadata(&path).unwrap().len() as usize) as u64;
        lab.flip(&path, offset);
        // Every row that the file shares is dirty, so that the damaged cell would be an input.
        fs::write(lab.disk("beech").join("wide.bin"), chance.bytes(5_000_000)).unwrap();
        let (code, report) = sync(&lab);
        assert!(code == 1 && told(&report, &name), "{name} at {offset}: {report}");
        assert!(told(&sync(&lab).1, &name), "{name} at {offset} is told again");
        lab.flip(&path, offset);
        assert_eq!(sync(&lab).0, 0, "{name} at {offset}: mended by its owner");
    }
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_flip_anywhere_in_what_is_held_is_told() {
    let mut chance = Chance::new(78);
    for name in ["alder-0.flac", "beech-1.flac", "cedar-2.flac"] {
        let lab = synced(&mut chance);
        lab.run(&["rm", name, "--yes"]).expect(&[0]);
        let mut held = Vec::new();
        files_below(&lab.disk(&name[..5]).join(".zinc-sieve/held"), &mut held);
        let length = fs::metadata(&held[0]).unwrap().len() as usize;
        lab.flip(&held[0], chance.below(length) as u64);
        let (code, report) = sync(&lab);
        assert!(code == 1 && told(&report, "held"), "{name}: {report}");
        lab.run(&["verify"]).expect(&[1]);
    }
}

#[test]
fn a_flip_anywhere_in_a_live_cell_of_parity_is_told_and_mended() {
    let mut chance = Chance::new(79);
    let lab = synced(&mut chance);
    for _ in 0..12 {
        let disk = *chance.pick(&["oak", "pine"]);
        let segment = lab.disk(disk).join(".zinc-sieve/parity/segment-00000");
        let before = lab.run(&["verify", "--json"]).expect(&[0]);
        let cells = serde_json::from_str::<Value>(&before.stdout).unwrap()["parity_cells_checked"].as_u64();
        let offset = chance.below(fs::metadata(&segment).unwrap().len() as usize) as u64;
        lab.flip(&segment, offset);
        let (code, report) = sync(&lab);
        // Some slots hold no cell of the present state: a flip there is in nobody's way.
        let in_a_cell = code == 1;
        assert_eq!(told(&report, &format!("parity on {disk}")), in_a_cell, "at {offset}: {report}");
        assert!(in_a_cell || report["cells"] == 0, "at {offset}: {report}");
        assert!(cells.unwrap() > 0);
        lab.run(&["verify"]).expect(&[0]);
        assert_eq!(sync(&lab).0, 0, "mended by the sync that told it");
    }
}
