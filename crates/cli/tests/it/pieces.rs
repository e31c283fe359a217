//! Files in pieces within a volume that changes: piece by piece they go from disk to disk, and what a loss would do is predicted
//! and proven at each step.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::PathBuf;

use rstest::rstest;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
pub(crate) const FILE: &str = "card/zz-night.flac";

/// A file over two small disks, and a larger one that is empty.
pub(crate) fn over_two_disks() -> (Lab, Vec<u8>) {
    let disks = [("alder", 10), ("beech", 10), ("cedar", 30), ("oak", 40)];
    let volume = "kind = \"spanned\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]";
    let lab = Lab::of(PROGRAM, &disks, volume);
    let mut chance = Chance::new(3);
    let (small, large) = (chance.bytes(3_000_000), chance.bytes(16_000_000));
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/wren.flac"), small).unwrap();
    fs::write(lab.root().join(FILE), &large).unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!([1, 1, 0], ["alder", "beech", "cedar"].map(|disk| pieces_on(&lab, disk).len()));
    (lab, large)
}

pub(crate) fn pieces_on(lab: &Lab, disk: &str) -> Vec<PathBuf> {
    let found = fs::read_dir(lab.disk(disk).join(".zinc-sieve/pieces")).into_iter().flatten();
    found.map(|entry| entry.unwrap().path()).collect()
}

/// The large file, as `get` brings it.
pub(crate) fn got(lab: &Lab) -> Vec<u8> {
    let _ = fs::remove_dir_all(lab.root().join("got"));
    fs::create_dir(lab.root().join("got")).unwrap();
    lab.run(&["get", FILE, "got"]).expect(&[0]);
    fs::read(lab.root().join("got/zz-night.flac")).unwrap()
}

/// How many disks may die without losing any file.
pub(crate) fn guard(lab: &Lab) -> u64 {
    let guard = |name| {
        let files = lab.run(&["where", name, "--json"]).expect(&[0]).list();
        assert_eq!(files.as_array().unwrap().len(), 1, "{files}");
        files[0]["guard"].as_u64().unwrap()
    };
    guard("wren.flac").min(guard("zz-night.flac"))
}

/// What is predicted is what comes back, whichever one or two disks are lost.
pub(crate) fn is_as_predicted(lab: &Lab) {
    let disks = ["alder", "beech", "cedar", "oak"];
    let drill = |lost: &str| {
        // 1: some of it is lost, or there is nothing to prove.
        let proof = lab.run(&["drill", "--lose", lost, "--json"]).expect(&[0, 1]).json();
        assert_eq!(proof["surprises"], serde_json::json!([]), "{proof}");
    };
    for (position, first) in disks.iter().enumerate() {
        drill(first);
        disks[position + 1..].iter().for_each(|second| drill(&format!("{first},{second}")));
    }
}

#[rstest]
#[case::moved(&["move", FILE, "--to", "cedar", "--yes"], &[0, 0, 2])]
#[case::evened_out(&["even-out", "--by", "free", "--yes"], &[0, 0, 2])]
fn a_file_in_pieces_moves_within_its_volume(#[case] command: &[&str], #[case] after: &[usize]) {
    let (lab, large) = over_two_disks();
    lab.run(command).expect(&[0]);
    assert_eq!(["alder", "beech", "cedar"].map(|disk| pieces_on(&lab, disk).len()), after);
    assert_eq!(got(&lab), large);
    assert!(guard(&lab) >= 1, "what parity has of it is held where it was");
    is_as_predicted(&lab);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(guard(&lab), 1);
    lab.run(&["verify"]).expect(&[0]);
    is_as_predicted(&lab);
    assert!(lab.run(&["sync", "--yes"]).stdout.contains("Nothing changed"), "and that was all");
    assert_eq!(lab.run(&["status", "--json"]).json()["held"]["files"], 0);
    assert_eq!(got(&lab), large);
}

/// The disk that leaves takes nothing with it.
#[test]
fn a_disk_with_a_piece_leaves() {
    let (lab, large) = over_two_disks();
    lab.run(&["vacate", "alder", "--yes"]).expect(&[0]);
    assert_eq!(fs::read_dir(lab.disk("alder")).unwrap().count(), 0, "nothing is left on it");
    assert_eq!((got(&lab), guard(&lab)), (large, 1));
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "cedar"]).expect(&[0]);
}

/// While a piece is held where it was, its new disk dies: it comes back from what is held.
#[test]
fn a_piece_comes_back_from_where_it_is_held() {
    let (lab, large) = over_two_disks();
    lab.run(&["move", FILE, "--to", "cedar", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("cedar")).unwrap();
    fs::create_dir(lab.root().join("elm")).unwrap();
    lab.run(&["rebuild", "cedar", "--onto", "elm", "--yes"]).expect(&[0]);
    assert_eq!(got(&lab), large);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(guard(&lab), 1);
}

/// What lies among the pieces and is none stays, and keeps the disk.
#[test]
fn what_is_no_piece_keeps_its_disk() {
    let (lab, large) = over_two_disks();
    let stranger = lab.disk("alder").join(".zinc-sieve/pieces/notes.txt");
    fs::write(&stranger, "somebody's").unwrap();
    let left = lab.run(&["vacate", "alder", "--yes", "--json"]).expect(&[1]).json();
    assert!(left.to_string().contains("no piece of a file"), "{left}");
    assert_eq!(fs::read(&stranger).unwrap(), b"somebody's");
    assert_eq!(got(&lab), large);
}
