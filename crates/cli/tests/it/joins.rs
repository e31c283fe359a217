//! A spanned volume becomes another kind: what lies in pieces becomes whole on one disk first, and is guarded at every step.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use rstest::rstest;
use serde_json::json;
use sieve_testkit::{Chance, Lab};

use crate::pieces::{FILE, got, guard, is_as_predicted, over_two_disks, pieces_on};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const DATA: [&str; 3] = ["alder", "beech", "cedar"];

fn convert(to: &str) -> Vec<&str> {
    let mut arguments = vec!["convert", "recordings", "--to", to, "--yes"];
    if to == "tiered" {
        arguments.extend(["--fast", "alder"]);
    }
    arguments
}

fn kind(lab: &Lab) -> String {
    let text = lab.pool_text();
    let line = text.lines().find(|line| line.starts_with("kind")).unwrap();
    line.split('"').nth(1).unwrap().to_string()
}

/// Names in our folder of pieces, on all data disks.
fn in_pieces(lab: &Lab) -> usize {
    DATA.iter().map(|disk| pieces_on(lab, disk).len()).sum()
}

#[rstest]
fn what_lies_in_pieces_becomes_whole_and_is_guarded_at_every_step(
    #[values("unstriped", "tiered", "mirrored")] to: &str,
) {
    let (lab, large) = over_two_disks();
    // Room for a copy of it on two disks.
    lab.write_pool_file(&lab.pool_text().replace("\"10 MB\"", "\"20 MB\""));
    let image = || {
        fs::metadata(lab.disk("oak").join(".zinc-sieve/parity/segment-00000")).unwrap().modified().unwrap()
    };
    let touched = image();
    let run = lab.run(&convert(to)).expect(&[5]);
    assert!(run.stdout.contains("recordings is spanned still"), "{}", run.stdout);
    assert_eq!((kind(&lab).as_str(), in_pieces(&lab), image()), ("spanned", 3, touched));
    assert_eq!((got(&lab), guard(&lab)), (large.clone(), 1));
    is_as_predicted(&lab);
    let status = lab.run(&["status", "--json"]).json().to_string();
    assert!(status.contains("takes them back"), "{status}");
    // Nothing more can be done before the sync, and that is said.
    let early = lab.run(&convert(to)).expect(&[4]);
    assert!(early.stderr.contains("zinc-sieve sync, then run this again"), "{}", early.stderr);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    is_as_predicted(&lab);
    let touched = image();
    lab.run(&convert(to)).expect(&[0]);
    assert_eq!(image(), touched, "taking the place of the pieces writes no parity");
    assert_eq!((kind(&lab).as_str(), in_pieces(&lab)), (to, 0));
    assert_eq!((got(&lab), guard(&lab)), (large.clone(), 1));
    assert_eq!(fs::read(lab.disk("cedar").join(FILE)).unwrap(), large);
    is_as_predicted(&lab);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    assert!(guard(&lab) >= 1);
    assert_eq!(lab.run(&["status", "--json"]).json()["held"]["files"], 0);
    if to == "mirrored" {
        // A disk had no room for its copy while pieces were held there.
        lab.run(&["sync", "--yes"]).expect(&[0]);
    }
    let again = lab.run(&["sync", "--yes"]).stdout;
    let is_all = again.contains("Nothing changed") || again.contains("Brings the replicas");
    assert!(is_all && !again.contains("omputes"), "and that was all: {again}");
    // And back, in place.
    lab.run(&["convert", "recordings", "--to", "spanned", "--yes", "--never-below", "0"]).expect(&[0]);
    assert_eq!(got(&lab), large);
}

/// Attributes of a file in pieces are those of the whole one, and its folder looks as it did.
#[test]
fn a_file_that_becomes_whole_looks_as_it_did() {
    let (lab, _) = over_two_disks();
    let looks = |file: &fs::Metadata| (file.modified().unwrap(), file.permissions().mode());
    got(&lab);
    let before = looks(&fs::metadata(lab.root().join("got/zz-night.flac")).unwrap());
    let folder = looks(&fs::metadata(lab.disk("alder").join("card")).unwrap());
    lab.run(&convert("unstriped")).expect(&[5]);
    // Its permissions change after the copy was made, on every piece, as the mounted volume does it.
    for piece in ["alder", "beech"].iter().flat_map(|disk| pieces_on(&lab, disk)) {
        fs::set_permissions(piece, fs::Permissions::from_mode(0o640)).unwrap();
    }
    let before = (before.0, before.1 & !0o777 | 0o640);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&convert("unstriped")).expect(&[0]);
    assert_eq!(looks(&fs::metadata(lab.disk("cedar").join(FILE)).unwrap()), before);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(looks(&fs::metadata(lab.disk("cedar").join("card")).unwrap()), folder);
}

/// Without parity nothing is to wait for.
#[test]
fn without_parity_one_run_is_enough() {
    let disks = [("alder", 10), ("beech", 10), ("cedar", 30)];
    let lab = Lab::of(PROGRAM, &disks, "kind = \"spanned\"\ndata = [\"alder\", \"beech\", \"cedar\"]\n");
    let large = Chance::new(5).bytes(16_000_000);
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join(FILE), &large).unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    assert_eq!(in_pieces(&lab), 2);
    lab.run(&convert("unstriped")).expect(&[0]);
    assert_eq!((kind(&lab).as_str(), in_pieces(&lab), got(&lab)), ("unstriped", 0, large));
}

/// Who thinks better of it gets the room back, and the pieces were the file all the time.
#[test]
fn what_was_begun_is_taken_back() {
    let (lab, large) = over_two_disks();
    let refused = lab.run(&convert("spanned")).expect(&[2]);
    assert!(refused.stderr.contains("spanned already"), "{}", refused.stderr);
    lab.run(&convert("unstriped")).expect(&[5]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let plan = lab.run(&["convert", "recordings", "--to", "spanned", "--dry-run", "--json"]).json();
    assert_eq!(plan["pieces"]["taken_back"], json!({"files": 1, "bytes": 16_000_000}), "{plan}");
    lab.run(&convert("spanned")).expect(&[0]);
    assert_eq!((got(&lab), guard(&lab), in_pieces(&lab)), (large, 1, 2));
    is_as_predicted(&lab);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(fs::read_dir(lab.disk("cedar").join(".zinc-sieve/held")).unwrap().count(), 0);
    lab.run(&convert("spanned")).expect(&[2]);
}

/// A piece that somebody edited is not taken for what was copied: nothing of it is held, and that is told.
#[test]
fn a_piece_that_changed_after_its_copy_stays() {
    let (lab, _) = over_two_disks();
    lab.run(&convert("unstriped")).expect(&[5]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let piece = &pieces_on(&lab, "alder")[0];
    let mut bytes = fs::read(piece).unwrap();
    bytes[100] ^= 1;
    fs::write(piece, &bytes).unwrap();
    let left =
        lab.run(&["convert", "recordings", "--to", "unstriped", "--yes", "--json"]).expect(&[1]).json();
    assert!(left["left_alone"].to_string().contains("has changed"), "{left}");
    assert_eq!((fs::read(piece).unwrap(), kind(&lab).as_str()), (bytes, "spanned"));
    assert!(!lab.disk("cedar").join(FILE).exists());
}

/// One whose name is taken stays in pieces; one that is removed takes its copy with it.
#[test]
fn what_stands_in_the_way_and_what_goes_away() {
    let (lab, large) = over_two_disks();
    lab.run(&convert("unstriped")).expect(&[5]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let stranger = lab.disk("cedar").join(FILE);
    fs::create_dir_all(stranger.parent().unwrap()).unwrap();
    fs::write(&stranger, "somebody's").unwrap();
    let left =
        lab.run(&["convert", "recordings", "--to", "unstriped", "--yes", "--json"]).expect(&[1]).json();
    assert!(left["left_alone"].to_string().contains("has its name"), "{left}");
    assert_eq!((fs::read(&stranger).unwrap(), in_pieces(&lab)), (b"somebody's".to_vec(), 3));
    fs::remove_file(&stranger).unwrap();
    assert_eq!(got(&lab), large);
    lab.run(&["rm", FILE, "--yes"]).expect(&[0]);
    assert_eq!(in_pieces(&lab), 0);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&convert("unstriped")).expect(&[0]);
    assert_eq!(kind(&lab), "unstriped");
}

/// The disk with the whole copy dies between the runs: the pieces are the file, and the new disk gets what parity has of the copy.
#[test]
fn the_disk_with_the_copy_dies() {
    let (lab, large) = over_two_disks();
    lab.run(&convert("unstriped")).expect(&[5]);
    for synced in [false, true] {
        if synced {
            lab.run(&["sync", "--yes"]).expect(&[0]);
        }
        let onto = if synced { "fir" } else { "elm" };
        let cedar = if synced { lab.root().join("elm") } else { lab.disk("cedar") };
        fs::remove_dir_all(cedar).unwrap();
        fs::create_dir(lab.root().join(onto)).unwrap();
        assert_eq!(got(&lab), large);
        lab.run(&["rebuild", "cedar", "--onto", onto, "--yes"]).expect(&[0]);
        assert_eq!(got(&lab), large);
        lab.run(&["sync", "--yes"]).expect(&[0]);
    }
    let next = lab.run(&convert("unstriped")).expect(&[0, 5]);
    if next.code == 5 {
        lab.run(&["sync", "--yes"]).expect(&[0]);
        lab.run(&convert("unstriped")).expect(&[0]);
    }
    assert_eq!((got(&lab), guard(&lab), kind(&lab).as_str()), (large, 1, "unstriped"));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

/// Another machine, which has the disks alone, goes on.
#[test]
fn a_conversion_goes_on_elsewhere() {
    let (lab, large) = over_two_disks();
    lab.run(&convert("unstriped")).expect(&[5]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    fs::remove_file(lab.pool_file()).unwrap();
    lab.run(&["adopt", "alder", "beech", "cedar", "oak", "--yes"]).expect(&[0]);
    assert_eq!(got(&lab), large);
    lab.run(&convert("unstriped")).expect(&[0]);
    assert_eq!((got(&lab), guard(&lab)), (large, 1));
}

/// Where all of it fits on no disk, that is said before anything is done.
#[test]
fn what_fits_nowhere_whole_is_said() {
    let disks = [("alder", 10), ("beech", 10), ("oak", 40)];
    let volume = "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]";
    let lab = Lab::of(PROGRAM, &disks, volume);
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join(FILE), Chance::new(3).bytes(14_000_000)).unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let refused = lab.run(&convert("unstriped")).expect(&[4]);
    assert!(refused.stderr.contains("no disk has room for all of one"), "{}", refused.stderr);
    assert!(
        refused.stderr.contains(FILE) && refused.stderr.contains("zinc-sieve grow"),
        "{}",
        refused.stderr
    );
}
