//! What takes how much where, where a file is, what is there twice.

#![allow(clippy::unwrap_used, reason = "a test may fail")]

use super::{FRIDAY, bring, lab, run_at};
use serde_json::json;

fn filled() -> sieve_testkit::Lab {
    let lab = lab("");
    bring(&lab, "alder", "0007.wav", &[7; 50_000]);
    bring(&lab, "beech", "copy of 0007.wav", &[7; 50_000]);
    bring(&lab, "beech", "sheet.tiff", &[9; 20_000]);
    bring(&lab, "cedar", "notes.txt", b"a wren at dawn");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[0]);
    lab
}

#[test]
fn usage_is_broken_down_by_type_and_disk() {
    let lab = filled();
    let rows = run_at(&lab, FRIDAY, &["usage", "--json"]).expect(&[0]).json()["rows"].clone();
    assert_eq!(
        (&rows[0]["key"], &rows[0]["total"]),
        (&json!("wav"), &json!({ "files": 2, "bytes": 100_000 }))
    );
    assert_eq!(rows[0]["by_disk"]["beech"], json!({ "files": 1, "bytes": 50_000 }));
    for by in ["folder", "disk", "owner", "age"] {
        run_at(&lab, FRIDAY, &["usage", "--by", by]).expect(&[0]);
    }
}

#[test]
fn a_file_is_found_with_its_disk_and_guard() {
    let lab = filled();
    bring(&lab, "cedar", "new.wav", &[1; 3000]);
    let found = run_at(&lab, FRIDAY, &["where", "*.wav", "--json"]).expect(&[0]).json()["files"].clone();
    let places: Vec<(&str, &str, u64)> = found
        .as_array()
        .unwrap()
        .iter()
        .map(|f| (f["path"].as_str().unwrap(), f["disks"][0].as_str().unwrap(), f["guard"].as_u64().unwrap()))
        .collect();
    assert_eq!(places, [("0007.wav", "alder", 1), ("copy of 0007.wav", "beech", 1), ("new.wav", "cedar", 0)]);
    run_at(&lab, FRIDAY, &["where", "*.flac"]).expect(&[1]);
    run_at(&lab, FRIDAY, &["where", "[a"]).expect(&[2]);
}

#[test]
fn files_of_the_same_content_are_found_and_nothing_is_removed() {
    let lab = filled();
    let found = run_at(&lab, FRIDAY, &["duplicates", "--json"]).expect(&[0]).json();
    assert_eq!(found["would_free_bytes"], 50_000);
    assert_eq!(found["contents"][0]["files"].as_array().unwrap().len(), 2);
    assert_eq!(found["contents"].as_array().unwrap().len(), 1);
    assert!(lab.disk("beech").join("copy of 0007.wav").exists());
}
