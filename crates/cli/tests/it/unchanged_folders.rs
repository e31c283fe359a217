//! Guards against a folder that is passed over although something in it, or in the catalogue, is not as it was.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use rstest::rstest;
use serde_json::{Value, json};
use sieve_testkit::{Lab, paths};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A pool that is guarded, all of whose folders are remembered.
fn lab() -> Lab {
    let mut lab = Lab::new(PROGRAM, 2, 1, "50 MB");
    lab.ahead = Duration::from_secs(10);
    for (folder, count) in [("", 2), ("dawn", 3), ("dawn/hedge", 3), ("dawn-chorus", 2), ("scans", 1)] {
        fs::create_dir_all(lab.disk("alder").join(folder)).unwrap();
        for number in 0..count {
            let path = lab.disk("alder").join(folder).join(format!("take-{number}.flac"));
            fs::write(path, format!("{folder} {number}")).unwrap();
        }
    }
    symlink("take-1.flac", lab.disk("alder").join("dawn/newest.flac")).unwrap();
    fs::hard_link(lab.disk("alder").join("scans/take-0.flac"), lab.disk("alder").join("dawn/linked"))
        .unwrap();
    lab.run(&["create", "--yes"]).expect(&[0]);
    for _ in 0..3 {
        lab.run(&["sync", "--yes"]).expect(&[0]);
    }
    lab
}

fn scanned(lab: &Lab) -> Value {
    let plan = lab.run(&["sync", "--dry-run", "--json", "--accept", "alder"]).expect(&[0]).json();
    plan["scans"][0].clone()
}

fn files(root: &Path, folder: &str) -> Vec<PathBuf> {
    let listed = fs::read_dir(root.join(folder)).unwrap();
    listed.map(|entry| entry.unwrap().path()).filter(|path| path.is_file()).collect()
}

#[test]
fn what_is_as_it_was_is_counted_all_the_same() {
    let lab = lab();
    let scan = scanned(&lab);
    assert_eq!((&scan["files"], &scan["known"]), (&json!(12), &json!(12)), "{scan}");
    let changes = ["new", "changed", "renamed", "gone"].map(|what| scan[what].as_u64().unwrap());
    assert_eq!(changes, [0; 4], "{scan}");
}

type Change = fn(&Path);

#[rstest]
#[case::new_file(|root: &Path| fs::write(root.join("dawn/hedge/new.flac"), "new").unwrap(), "new", 1)]
#[case::new_in_root(|root: &Path| fs::write(root.join("new.flac"), "new").unwrap(), "new", 1)]
#[case::new_folder(|root: &Path| {
    fs::create_dir_all(root.join("dawn/evening")).unwrap();
    fs::write(root.join("dawn/evening/new.flac"), "new").unwrap();
}, "new", 1)]
#[case::edited(|root: &Path| fs::write(root.join("dawn/hedge/take-1.flac"), "another").unwrap(), "changed", 1)]
#[case::edited_with_its_time_put_back(|root: &Path| {
    let path = root.join("dawn/hedge/take-1.flac");
    let time = fs::metadata(&path).unwrap().modified().unwrap();
    fs::write(&path, "dawn/hedge X").unwrap();
    fs::File::options().write(true).open(&path).unwrap().set_modified(time).unwrap();
}, "renamed", 1)]
#[case::touched(|root: &Path| {
    let file = fs::File::options().write(true).open(root.join("dawn/take-0.flac")).unwrap();
    file.set_modified(SystemTime::UNIX_EPOCH).unwrap();
}, "changed", 1)]
#[case::mode(|root: &Path| {
    fs::set_permissions(root.join("scans/take-0.flac"), fs::Permissions::from_mode(0o600)).unwrap();
}, "renamed", 1)]
#[case::deleted(|root: &Path| fs::remove_file(root.join("dawn-chorus/take-0.flac")).unwrap(), "gone", 1)]
#[case::folder_deleted(|root: &Path| fs::remove_dir_all(root.join("dawn/hedge")).unwrap(), "gone", 3)]
#[case::whole_tree_deleted(|root: &Path| fs::remove_dir_all(root.join("dawn")).unwrap(), "gone", 7)]
#[case::renamed(|root: &Path| {
    fs::rename(root.join("dawn/hedge/take-1.flac"), root.join("dawn/hedge/take-9.flac")).unwrap();
}, "renamed", 1)]
#[case::moved(|root: &Path| fs::rename(root.join("dawn/take-1.flac"), root.join("scans/take-1.flac")).unwrap(), "renamed", 1)]
#[case::folder_renamed(|root: &Path| fs::rename(root.join("dawn/hedge"), root.join("dawn/meadow")).unwrap(), "renamed", 3)]
#[case::a_folder_for_a_file(|root: &Path| {
    fs::remove_file(root.join("dawn/take-0.flac")).unwrap();
    fs::create_dir(root.join("dawn/take-0.flac")).unwrap();
}, "gone", 1)]
#[case::a_file_for_a_folder(|root: &Path| {
    fs::remove_dir_all(root.join("dawn/hedge")).unwrap();
    fs::write(root.join("dawn/hedge"), "no folder").unwrap();
}, "gone", 3)]
fn a_change_behind_our_back_is_seen(#[case] change: Change, #[case] what: &str, #[case] count: u64) {
    let looked_at = lab();
    change(&looked_at.disk("alder"));
    a_look_at_one_folder_shows_what_is_there(&looked_at);
    let lab = lab();
    change(&lab.disk("alder"));
    let scan = scanned(&lab);
    assert_eq!(scan[what], json!(count), "{scan}");
    lab.run(&["sync", "--yes", "--accept", "alder"]).expect(&[0]);
    for _ in 0..2 {
        let scan = scanned(&lab);
        let changes = ["new", "changed", "renamed", "gone"].map(|what| scan[what].as_u64().unwrap());
        assert_eq!(changes, [0; 4], "taken in once: {scan}");
    }
    lab.run(&["verify"]).expect(&[0]);
}

/// A look at one folder is a scan of that folder alone.
fn a_look_at_one_folder_shows_what_is_there(lab: &Lab) {
    for folder in ["dawn", "dawn/hedge", "dawn-chorus", "scans", "dawn/meadow"] {
        let below: BTreeSet<String> = paths(&lab.disk("alder"))
            .into_iter()
            .map(|path| String::from_utf8(path).unwrap())
            .filter(|path| {
                path == folder || path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
            })
            .filter(|path| lab.disk("alder").join(path).symlink_metadata().unwrap().is_file())
            .collect();
        let told = lab.run(&["ls", folder, "--tree", "--json"]);
        let told: BTreeSet<String> = match told.code {
            0 => {
                let entries = told.json();
                let files =
                    entries["entries"].as_array().unwrap().iter().filter(|entry| entry["kind"] == "file");
                files.map(|entry| entry["path"].as_str().unwrap().to_string()).collect()
            }
            _ => BTreeSet::new(),
        };
        assert_eq!(told, below, "{folder}");
    }
}

#[test]
fn what_we_put_and_its_owner_takes_away_again_is_gone() {
    let lab = lab();
    fs::create_dir(lab.root().join("hedge")).unwrap();
    fs::write(lab.root().join("hedge/by-us.flac"), "by us").unwrap();
    lab.run(&["put", "hedge", "dawn", "--yes"]).expect(&[0]);
    let on =
        ["alder", "beech"].into_iter().find(|disk| lab.disk(disk).join("dawn/hedge/by-us.flac").exists());
    fs::remove_file(lab.disk(on.unwrap()).join("dawn/hedge/by-us.flac")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(!listed(&lab).contains("by-us"));
}

fn listed(lab: &Lab) -> String {
    lab.run(&["sync", "--dry-run", "--json"]).expect(&[0]);
    lab.run(&["ls", "--tree"]).expect(&[0]).stdout
}

#[test]
fn what_we_remove_and_restore_is_known_as_it_is() {
    let lab = lab();
    lab.run(&["rm", "dawn/hedge/take-1.flac", "--yes"]).expect(&[0]);
    assert_eq!(scanned(&lab)["gone"], json!(0));
    lab.run(&["restore", "dawn/hedge/take-1.flac", "--yes"]).expect(&[0]);
    let scan = scanned(&lab);
    assert_eq!((&scan["files"], &scan["gone"]), (&json!(12), &json!(0)), "{scan}");
    assert_eq!(files(&lab.disk("alder"), "dawn/hedge").len(), 3);
}

#[test]
fn another_wish_for_what_is_left_out_is_followed() {
    let lab = lab();
    lab.write_pool_file(&lab.pool_text().replace("[[volume]]", "[[volume]]\nleave_out = [\"hedge/\"]"));
    let plan = lab.run(&["sync", "--dry-run", "--json"]).expect(&[0]).json();
    assert_eq!(plan["changes"]["alder"]["leaving_files"], json!(3), "{plan}");
}
