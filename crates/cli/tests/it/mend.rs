//! Guards against mending that makes things worse: only damage is replaced, by what was checksummed, and what was there
//! is kept.
//!
//! Holds I3.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::PathBuf;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const DISKS: [&str; 3] = ["alder", "beech", "cedar"];

struct Nest {
    lab: Lab,
    contents: BTreeMap<PathBuf, Vec<u8>>,
}

/// Three data disks and so many parities, a few files of all lengths on each.
fn nest(parities: usize) -> Nest {
    let lab = Lab::new(PROGRAM, 3, parities, "60 MB");
    let mut chance = Chance::new(29);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut contents = BTreeMap::new();
    for disk in DISKS {
        fs::create_dir(lab.disk(disk).join("nest")).unwrap();
        for (number, length) in [1, 5000, 1_048_576, 2_500_000].into_iter().enumerate() {
            let path = lab.disk(disk).join(format!("nest/{disk}-{number}.mkv"));
            let bytes = chance.bytes(length);
            fs::write(&path, &bytes).unwrap();
            contents.insert(path, bytes);
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    Nest { lab, contents }
}

impl Nest {
    fn file(&self, disk: &str, number: usize) -> PathBuf {
        self.lab.disk(disk).join(format!("nest/{disk}-{number}.mkv"))
    }

    fn parity(&self, disk: &str) -> PathBuf {
        self.lab.disk(disk).join(".zinc-sieve/parity/segment-00000")
    }

    fn mend(&self, code: i32) -> Value {
        self.lab.run(&["verify", "--mend", "--yes", "--json"]).expect(&[code]).json()
    }

    fn all_is_well(&self) {
        for (path, bytes) in &self.contents {
            assert_eq!(fs::read(path).unwrap(), *bytes, "{}", path.display());
        }
        self.lab.run(&["verify"]).expect(&[0]);
        self.lab.run(&["sync", "--yes"]).expect(&[0]);
        self.lab.run(&["status"]).expect(&[0]);
    }
}

#[rstest]
#[case::in_the_first_cell(3, 17)]
#[case::in_the_last_cell(3, 2_400_000)]
#[case::of_a_file_of_one_byte(0, 0)]
fn a_damaged_file_becomes_what_was_checksummed(#[case] number: usize, #[case] offset: u64) {
    let nest = nest(1);
    let path = nest.file("beech", number);
    let before = fs::metadata(&path).unwrap();
    nest.lab.rot(&path, offset);
    let damaged = fs::read(&path).unwrap();
    let report = nest.mend(0);
    let cell = &report["mended"][0];
    assert_eq!(cell["disk"], "beech");
    assert_eq!(cell["in_place"], false);
    let (from, to) =
        (cell["bytes"]["from"].as_u64().unwrap() as usize, cell["bytes"]["to"].as_u64().unwrap() as usize);
    let kept = fs::read(cell["kept"].as_str().unwrap()).unwrap();
    assert_eq!(kept, damaged[from..to], "the bytes that were replaced are kept");
    let after = fs::metadata(&path).unwrap();
    assert_eq!((after.mtime_nsec(), after.mode()), (before.mtime_nsec(), before.mode()));
    nest.all_is_well();
}

#[test]
fn without_consent_nothing_is_mended_and_the_damage_is_remembered() {
    let nest = nest(1);
    let path = nest.file("alder", 1);
    nest.lab.rot(&path, 100);
    let damaged = fs::read(&path).unwrap();
    nest.lab.run(&["verify", "--mend"]).expect(&[2]);
    nest.lab.run(&["verify", "--mend", "--dry-run"]).expect(&[1]);
    assert_eq!(fs::read(&path).unwrap(), damaged);
    let fate = nest.lab.run(&["fate", "--lose", "cedar", "--json"]).expect(&[0, 1]).json();
    assert!(fate["totals"]["rebuilt"]["files"].as_u64().unwrap() < 4, "{}", fate["totals"]);
    nest.mend(0);
    nest.all_is_well();
}

#[test]
fn a_file_with_several_names_is_mended_where_it_lies() {
    let nest = nest(1);
    let path = nest.file("cedar", 3);
    let other = nest.lab.disk("cedar").join("other-name.mkv");
    fs::hard_link(&path, &other).unwrap();
    nest.lab.run(&["sync", "--yes"]).expect(&[0]);
    let inode = fs::metadata(&path).unwrap().ino();
    nest.lab.rot(&path, 1_200_000);
    let report = nest.mend(0);
    assert_eq!(report["mended"][0]["in_place"], true);
    assert_eq!(fs::metadata(&other).unwrap().ino(), inode);
    assert_eq!(fs::read(&other).unwrap(), nest.contents[&path]);
    let kept = fs::read_dir(nest.lab.disk("cedar").join(".zinc-sieve/replaced")).unwrap().count();
    assert_eq!(kept, 1, "the journal of the new bytes is gone, the old ones stay");
    nest.all_is_well();
}

#[test]
fn damage_in_the_same_rows_is_mended_as_far_as_the_parities_reach() {
    let two = nest(2);
    two.lab.rot(&two.file("alder", 3), 30_000);
    two.lab.rot(&two.file("beech", 3), 30_000);
    two.mend(0);
    two.all_is_well();
    let one = nest(1);
    one.lab.rot(&one.file("alder", 3), 30_000);
    one.lab.rot(&one.file("beech", 3), 30_000);
    one.lab.rot(&one.file("cedar", 3), 2_400_000);
    let report = one.mend(1);
    assert_eq!(report["mended"].as_array().unwrap().len(), 1, "{report}");
    assert_eq!(report["left"].as_array().unwrap().len(), 2);
    assert_eq!(fs::read(one.file("cedar", 3)).unwrap(), one.contents[&one.file("cedar", 3)]);
    let again = one.lab.run(&["verify", "--json"]).expect(&[1]).json();
    assert_eq!(again["damaged"].as_array().unwrap().len(), 2, "what cannot be mended stays known");
    // A sync does not launder it.
    one.lab.run(&["sync", "--yes"]).expect(&[1]);
}

#[test]
fn a_file_that_its_owner_changed_meanwhile_is_not_touched() {
    let nest = nest(1);
    let path = nest.file("beech", 2);
    nest.lab.rot(&path, 9);
    nest.lab.run(&["verify"]).expect(&[1]);
    fs::write(&path, b"a new take").unwrap();
    nest.lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
    assert_eq!(fs::read(&path).unwrap(), b"a new take");
}

#[test]
fn damaged_parity_is_computed_anew() {
    let nest = nest(2);
    let (oak, spruce) = (nest.lab.parity[0].clone(), nest.lab.parity[1].clone());
    nest.lab.flip(&nest.parity(&oak), 5);
    nest.lab.flip(&nest.parity(&spruce), 2_000_000);
    let report = nest.mend(0);
    assert_eq!((&report["parity_mended"][&oak], &report["parity_mended"][&spruce]), (&1.into(), &1.into()));
    nest.all_is_well();
    for disk in ["alder", "beech"] {
        fs::remove_dir_all(nest.lab.disk(disk)).unwrap();
        fs::create_dir(nest.lab.root().join(format!("new-{disk}"))).unwrap();
    }
    let onto =
        ["alder", "beech"].map(|disk| nest.lab.root().join(format!("new-{disk}")).display().to_string());
    nest.lab
        .run(&["rebuild", "alder", "beech", "--onto", &onto[0], "--onto", &onto[1], "--yes"])
        .expect(&[0]);
}

#[test]
fn a_nightly_share_comes_round_to_everything() {
    let nest = nest(1);
    nest.lab.rot(&nest.file("cedar", 3), 2_000_000);
    let cells = nest.lab.run(&["verify", "--share", "1 %", "--json"]).expect(&[0, 1]).json();
    assert_eq!(cells["cells_checked"], 1);
    let nights = cells["cells"].as_u64().unwrap();
    let found = (1..nights).any(|_| nest.lab.run(&["verify", "--share", "1 %"]).expect(&[0, 1]).code == 1);
    assert!(found || cells["damaged"] != Value::Array(Vec::new()), "every row was looked at once");
}

#[test]
fn disks_and_folders_that_are_not_named_are_not_read() {
    let nest = nest(1);
    nest.lab.rot(&nest.file("cedar", 1), 7);
    let report = nest.lab.run(&["verify", "--disks", "alder", "--json"]).expect(&[0]).json();
    assert_eq!((&report["read_bytes"]["beech"], &report["read_bytes"]["cedar"]), (&0.into(), &0.into()));
    assert_eq!(report["files_checked"], 4);
    let report = nest.lab.run(&["verify", "--folder", "nest/cedar-1.mkv", "--json"]).expect(&[1]).json();
    assert_eq!(
        (&report["damaged"][0]["path"], &report["files_checked"]),
        (&"nest/cedar-1.mkv".into(), &0.into())
    );
    nest.lab.run(&["verify", "--disks", "cedar"]).expect(&[1]);
    nest.lab.run(&["verify", "--disks", "oak"]).expect(&[0]);
    nest.lab.run(&["verify", "--disks", "rowan-tree"]).expect(&[2]);
}
