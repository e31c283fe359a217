//! Guards against losing what was removed or overwritten by mistake while it could still be had back, and against
//! bringing back something else.
//!
//! Holds I7.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::PermissionsExt;

use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn content(number: u64) -> Vec<u8> {
    Chance::new(number).bytes(700_000 + number as usize * 311_111)
}

/// Two data disks, one parity, twelve recordings on each, synced.
fn synced() -> Lab {
    let lab = Lab::new(PROGRAM, 2, 1, "90 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech"] {
        fs::create_dir(lab.disk(disk).join(disk)).unwrap();
        for number in 0..12 {
            let path = lab.disk(disk).join(format!("{disk}/dawn-{number}.flac"));
            fs::write(&path, content(number)).unwrap();
            fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn listed(lab: &Lab) -> Vec<(String, String, String)> {
    let list = lab.run(&["restore", "--list", "--json"]).expect(&[0]).list();
    let text = |entry: &Value, key: &str| entry[key].as_str().unwrap().to_string();
    list.as_array()
        .unwrap()
        .iter()
        .map(|e| (text(e, "path"), text(e, "what"), text(e, "comes_back")))
        .collect()
}

#[test]
fn what_was_removed_through_us_comes_back() {
    let lab = synced();
    lab.run(&["rm", "alder/dawn-3.flac", "--yes"]).expect(&[0]);
    assert_eq!(listed(&lab), [("alder/dawn-3.flac".into(), "removed".into(), "whole".into())]);
    lab.run(&["restore", "alder/dawn-3.flac"]).expect(&[2]);
    lab.run(&["restore", "alder/dawn-3.flac", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("alder").join("alder/dawn-3.flac")).unwrap(), content(3));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(listed(&lab).is_empty(), "a sync has passed it");
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["restore", "alder/dawn-3.flac", "--yes"]).expect(&[2]);
}

#[test]
fn what_was_deleted_or_overwritten_behind_our_back_comes_back_from_parity() {
    let lab = synced();
    let beech = lab.disk("beech").join("beech");
    let time = fs::metadata(beech.join("dawn-0.flac")).unwrap().modified().unwrap();
    fs::remove_file(beech.join("dawn-0.flac")).unwrap();
    fs::write(beech.join("dawn-1.flac"), b"recorded over by mistake").unwrap();
    assert_eq!(
        listed(&lab),
        [
            ("beech/dawn-0.flac".into(), "deleted".into(), "whole".into()),
            ("beech/dawn-1.flac".into(), "overwritten".into(), "whole".into())
        ]
    );
    lab.run(&["restore", "beech", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(beech.join("dawn-0.flac")).unwrap(), content(0));
    let back = fs::metadata(beech.join("dawn-0.flac")).unwrap();
    assert_eq!((back.modified().unwrap(), back.permissions().mode() & 0o777), (time, 0o640));
    assert_eq!(fs::read(beech.join("dawn-1.flac")).unwrap(), b"recorded over by mistake", "it stays");
    assert_eq!(fs::read(beech.join("dawn-1 (restored).flac")).unwrap(), content(1));
    fs::remove_file(beech.join("dawn-1 (restored).flac")).unwrap();
    fs::write(beech.join("dawn-1 (restored).flac"), b"taken").unwrap();
    lab.run(&["restore", "beech/dawn-1.flac", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(beech.join("dawn-1 (restored 2).flac")).unwrap(), content(1));
    let plan = lab.run(&["sync", "--dry-run", "--json"]).expect(&[0]).json();
    assert_eq!(plan["changes"]["beech"]["leaving_files"], 0, "parity has what was brought back: {plan}");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_suspicious_scan_stops_the_sync_and_everything_comes_back() {
    let lab = synced();
    fs::remove_dir_all(lab.disk("alder").join("alder")).unwrap();
    let refused = lab.run(&["sync", "--yes"]).expect(&[4]);
    assert!(refused.stderr.contains("zinc-sieve restore --list"), "{}", refused.stderr);
    assert_eq!(listed(&lab).len(), 12);
    let outside = lab.root().join("outside");
    lab.run(&["restore", "alder", "--into", outside.to_str().unwrap(), "--yes"]).expect(&[2]);
    fs::create_dir(&outside).unwrap();
    lab.run(&["restore", "alder/dawn-5.flac", "--into", outside.to_str().unwrap(), "--yes"]).expect(&[0]);
    assert_eq!(fs::read(outside.join("alder/dawn-5.flac")).unwrap(), content(5));
    lab.run(&["restore", "alder", "--yes"]).expect(&[0]);
    for number in 0..12 {
        let path = lab.disk("alder").join(format!("alder/dawn-{number}.flac"));
        assert_eq!(fs::read(path).unwrap(), content(number));
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["fate", "--lose", "alder"]).expect(&[0]);
}

#[test]
fn what_parity_cannot_bring_back_is_said_before_and_not_made_up() {
    let lab = synced();
    for disk in ["alder", "beech"] {
        fs::remove_file(lab.disk(disk).join(format!("{disk}/dawn-2.flac"))).unwrap();
    }
    let list = listed(&lab);
    assert_eq!(list.len(), 2);
    assert!(list.iter().all(|(.., comes_back)| comes_back != "whole"), "{list:?}");
    lab.run(&["restore", "alder/dawn-2.flac", "--yes"]).expect(&[2]);
    assert!(!lab.disk("alder").join("alder/dawn-2.flac").exists());
    // What shares no rows with it is as well as ever.
    fs::remove_file(lab.disk("alder").join("alder/dawn-11.flac")).unwrap();
    lab.run(&["restore", "alder/dawn-11.flac", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("alder").join("alder/dawn-11.flac")).unwrap(), content(11));
}

#[test]
fn a_file_of_a_disk_that_is_gone_is_read_at_once() {
    let lab = synced();
    fs::write(lab.disk("alder").join("alder/unsynced.flac"), b"new").unwrap();
    lab.run(&["status"]).expect(&[5]);
    fs::rename(lab.disk("alder"), lab.root().join("in-the-drawer")).unwrap();
    let out = lab.root().join("out");
    fs::create_dir(&out).unwrap();
    let report = lab.run(&["get", "alder/dawn-7.flac", out.to_str().unwrap(), "--json"]).expect(&[0]).json();
    assert_eq!((&report["files"], &report["reconstructed"]), (&1.into(), &1.into()));
    assert_eq!(fs::read(out.join("dawn-7.flac")).unwrap(), content(7));
    let refused = lab.run(&["get", "alder/unsynced.flac", out.to_str().unwrap()]);
    assert!(refused.code != 0 && refused.stderr.contains("parity does not have"), "{}", refused.stderr);
    assert_eq!(fs::read_dir(&out).unwrap().count(), 1, "nothing half done is left");
}

/// Three data disks, one parity, 400 small recordings of one folder across them, synced.
fn many_small() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "90 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for number in 0..400 {
        let folder = lab.disk(["alder", "beech", "cedar"][number % 3]).join("nest");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join(format!("{number:03}.flac")), small(number)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn small(number: usize) -> Vec<u8> {
    Chance::new(number as u64).bytes(9_000 + number * 37)
}

#[test]
fn many_files_of_a_disk_that_is_gone_are_each_read_or_told() {
    let lab = many_small();
    fs::rename(lab.disk("alder"), lab.root().join("in-the-drawer")).unwrap();
    let out = lab.root().join("out");
    fs::create_dir(&out).unwrap();
    let report = lab.run(&["get", "nest", "out", "--json"]).expect(&[0]).json();
    assert_eq!((&report["files"], &report["reconstructed"]), (&400.into(), &134.into()));
    for number in 0..400 {
        assert_eq!(fs::read(out.join(format!("nest/{number:03}.flac"))).unwrap(), small(number), "{number}");
    }
    assert_eq!(fs::read_dir(out.join("nest")).unwrap().count(), 400, "nothing half done is left");
    // What is in the way is told before anything is computed.
    let refused = lab.run(&["get", "nest", "out"]).expect(&[4]);
    assert!(refused.stderr.contains("exists already"), "{}", refused.stderr);
    assert_eq!(fs::read_dir(out.join("nest")).unwrap().count(), 400, "nothing half done is left");
    // A survivor lost a file behind our back: what shares its rows does not come back, and the get ends there.
    fs::remove_file(lab.disk("beech").join("nest/301.flac")).unwrap();
    let again = lab.root().join("again");
    fs::create_dir(&again).unwrap();
    let refused = lab.run(&["get", "nest", "again"]).expect(&[2]);
    assert!(refused.stderr.contains("does not bring it back whole"), "{}", refused.stderr);
    for entry in fs::read_dir(again.join("nest")).unwrap() {
        let entry = entry.unwrap();
        let name = entry.file_name().into_string().unwrap();
        let number: usize =
            name.split('.').next().unwrap().parse().unwrap_or_else(|_| panic!("{name} is left"));
        assert_eq!(fs::read(entry.path()).unwrap(), small(number), "{name}");
    }
}

#[test]
fn a_folder_of_many_files_comes_back_to_its_place_and_elsewhere() {
    let lab = many_small();
    lab.run(&["rm", "nest/004.flac", "--yes"]).expect(&[0]);
    fs::write(lab.disk("beech").join("nest/004.flac"), b"another one").unwrap();
    fs::remove_dir_all(lab.disk("beech").join("nest")).unwrap();
    let report = lab.run(&["restore", "nest", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(report["restored"].as_array().unwrap().len(), 133, "{report}");
    for number in (1..400).step_by(3) {
        let path = lab.disk("beech").join(format!("nest/{number:03}.flac"));
        assert_eq!(fs::read(path).unwrap(), small(number), "{number}");
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("cedar").join("nest")).unwrap();
    let outside = lab.root().join("outside");
    fs::create_dir(&outside).unwrap();
    let into = outside.to_str().unwrap();
    let report = lab.run(&["restore", "nest", "--into", into, "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(report["restored"].as_array().unwrap().len(), 133, "{report}");
    assert_eq!(fs::read_dir(outside.join("nest")).unwrap().count(), 133, "nothing half done is left");
}
