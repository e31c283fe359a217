//! A pool that changes: names, a larger disk, a disk fewer, disks evened out; every file whole and guarded all the while.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A synced pool with files of all sizes, a hard link, a symlink, an empty folder and an attribute of its own.
fn filled(parity: usize) -> Lab {
    let lab = Lab::new(PROGRAM, 3, parity, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(5);
    for (disk, name, size) in [
        ("alder", "dawn/wren.flac", 1_100_000),
        ("alder", "dawn/robin.flac", 5_000),
        ("beech", "nest/box-1.mkv", 900_000),
        ("beech", "empty.txt", 0),
        ("cedar", "notes/may.txt", 100),
        ("cedar", "notes/june.txt", 3_000_000),
        ("cedar", "dawn/owl.flac", 40_000),
    ] {
        let path = lab.disk(disk).join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, chance.bytes(size)).unwrap();
    }
    fs::hard_link(lab.disk("cedar").join("notes/may.txt"), lab.disk("cedar").join("may again.txt")).unwrap();
    std::os::unix::fs::symlink("../dawn", lab.disk("cedar").join("link")).unwrap();
    fs::create_dir(lab.disk("cedar").join("an empty folder")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

/// Every file with its content, wherever it lies.
fn files(lab: &Lab, disks: &[&str]) -> BTreeMap<String, Vec<u8>> {
    fn walk(root: &Path, folder: &Path, found: &mut BTreeMap<String, Vec<u8>>) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(root).unwrap().display().to_string();
            if name == ".zinc-sieve" {
                continue;
            }
            if path.is_symlink() {
                found.insert(name, fs::read_link(&path).unwrap().display().to_string().into_bytes());
            } else if path.is_dir() {
                found.insert(format!("{name}/"), Vec::new());
                walk(root, &path, found);
            } else {
                found.insert(name, fs::read(&path).unwrap());
            }
        }
    }
    let mut found = BTreeMap::new();
    disks.iter().for_each(|disk| walk(&lab.disk(disk), &lab.disk(disk), &mut found));
    found
}

fn is_well(lab: &Lab) {
    let status = lab.run(&["status", "--json"]).expect(&[0]).json();
    assert_eq!((&status["guard"][0]["files"], &status["verdict"]), (&0.into(), &"well".into()), "{status}");
    lab.run(&["verify"]).expect(&[0]);
}

fn parity_bytes(lab: &Lab) -> Vec<Vec<u8>> {
    let folder = lab.disk("oak").join(".zinc-sieve/parity");
    let mut names: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    names.sort();
    names.iter().map(|path| fs::read(path).unwrap()).collect()
}

#[test]
fn a_data_disk_is_replaced_without_a_byte_of_parity_and_nothing_is_left_to_sync() {
    let lab = filled(1);
    let (before, parity) = (files(&lab, &["alder", "beech", "cedar"]), parity_bytes(&lab));
    fs::create_dir(lab.root().join("new")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    let report = lab.run(&["replace", "cedar", "--onto", &onto, "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(report["replaced"][0]["copied"]["files"], 3, "each content once: {report}");
    assert!(parity_bytes(&lab) == parity, "parity is as it was");
    assert_eq!(files(&lab, &["alder", "beech", "new"]), before);
    assert_eq!(files(&lab, &["cedar"]), files(&lab, &["new"]), "the old disk is left whole");
    assert!(lab.disk("cedar").join(".zinc-sieve/label.toml").exists());
    // And once more, this time without a trace on the disk that leaves.
    fs::create_dir(lab.root().join("newer")).unwrap();
    let newer = lab.root().join("newer").display().to_string();
    lab.run(&["replace", "cedar", "--onto", &newer, "--wipe-label", "--yes"]).expect(&[0]);
    assert!(!lab.root().join("new/.zinc-sieve").exists());
    assert_eq!(files(&lab, &["new"]), files(&lab, &["newer"]), "its files stay");
    let planned = lab.run(&["sync", "--dry-run", "--json"]).expect(&[0]).json();
    assert_eq!((&planned["cells"], &planned["files_to_checksum"]), (&0.into(), &0.into()), "{planned}");
    is_well(&lab);
    let fate = lab.run(&["fate", "--lose", "cedar", "--json"]).expect(&[0]).json();
    assert_eq!(fate["totals"]["rebuilt"]["files"], 5, "a symlink among them: {fate}");
    lab.run(&["drill", "--lose", "cedar"]).expect(&[0]);
}

/// The serial number of a disk that left would have somebody pull the wrong one.
#[test]
fn what_the_pool_file_said_of_the_old_disk_goes_into_the_journal() {
    let lab = filled(1);
    let said = "name = \"cedar\"\nserial = \"KS08-31V7C5\"\nprice = \"229 EUR\"\nbay = \"B1\"   # left\n";
    // A disk that was pulled is still in the file, with the bay that the new one goes into.
    let pulled = "\n[[disk]]\nname = \"elm\"\nbay = \"B2\"\n";
    lab.write_pool_file(&(lab.pool_text().replace("name = \"cedar\"\n", said) + pulled));
    fs::create_dir(lab.root().join("new")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    let wrong = ["replace", "cedar", "--onto", &onto, "--price", "much", "--yes"];
    let refused = lab.run(&wrong).expect(&[2]);
    assert!(refused.stderr.contains("is no price"), "{}", refused.stderr);
    lab.run(&["replace", "cedar", "--onto", &onto, "--bay", "B2", "--serial", "TW12-90R1X3", "--yes"])
        .expect(&[0]);
    let text = lab.pool_text();
    assert!(text.contains("serial = \"TW12-90R1X3\"") && text.contains("bay = \"B2\""), "{text}");
    assert!(!text.contains("KS08-31V7C5") && !text.contains("229 EUR"), "{text}");
    assert_eq!(text.matches("bay = ").count(), 1, "{text}");
    let journal = lab.run(&["journal", "--kind", "replace", "--json"]).expect(&[0]).stdout;
    assert!(journal.contains("KS08-31V7C5") && journal.contains("22900"), "{journal}");
    is_well(&lab);
}

#[test]
fn a_rebuilt_disk_does_not_go_by_the_serial_number_of_the_one_that_died() {
    let lab = filled(1);
    let said = "name = \"cedar\"\nserial = \"KS08-31V7C5\"\nbay = \"B1\"\n";
    lab.write_pool_file(&lab.pool_text().replace("name = \"cedar\"\n", said));
    fs::rename(lab.disk("cedar"), lab.root().join("dead")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    lab.run(&["rebuild", "cedar", "--onto", &onto, "--yes"]).expect(&[0]);
    let text = lab.pool_text();
    assert!(!text.contains("KS08-31V7C5") && text.contains("bay = \"B1\""), "{text}");
    let journal = lab.run(&["journal", "--kind", "rebuild", "--json"]).expect(&[0]).stdout;
    assert!(journal.contains("KS08-31V7C5"), "{journal}");
}

#[test]
fn several_disks_are_replaced_one_after_the_other() {
    let lab = filled(1);
    let before = files(&lab, &["alder", "beech", "cedar"]);
    let onto = ["new-oak", "new-alder", "new-cedar"].map(|name| {
        fs::create_dir(lab.root().join(name)).unwrap();
        lab.root().join(name).display().to_string()
    });
    let mut arguments = vec!["replace", "oak", "alder", "cedar", "--yes", "--json"];
    let uneven = lab.run(&[&arguments[..], &["--onto", &onto[0]]].concat()).expect(&[2]);
    assert!(uneven.stderr.contains("3 disks and 1 new ones"), "{}", uneven.stderr);
    arguments.extend(onto.iter().flat_map(|onto| ["--onto", onto.as_str()]));
    let reports = lab.run(&arguments).expect(&[0]).list();
    assert_eq!(reports.as_array().unwrap().len(), 3, "{reports}");
    assert_eq!(files(&lab, &["new-alder", "beech", "new-cedar"]), before);
    is_well(&lab);
    lab.run(&["drill", "--lose", "cedar"]).expect(&[0]);
}

#[test]
fn what_is_held_and_what_changed_goes_along() {
    let lab = filled(1);
    lab.run(&["rm", "notes/june.txt", "--yes"]).expect(&[0]);
    fs::write(lab.disk("cedar").join("dawn/owl.flac"), b"cut shorter").unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    lab.run(&["replace", "cedar", "--onto", &onto, "--yes"]).expect(&[0]);
    // What was removed before can be had back, from the new disk.
    lab.run(&["restore", "notes/june.txt", "--yes"]).expect(&[0]);
    assert_eq!(fs::metadata(lab.root().join("new/notes/june.txt")).unwrap().len(), 3_000_000);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    is_well(&lab);
}

#[test]
fn a_file_that_is_not_what_was_checksummed_keeps_the_old_disk_in_its_place() {
    use std::os::unix::fs::FileExt;
    let lab = filled(1);
    let path = lab.disk("cedar").join("notes/june.txt");
    let modified = fs::metadata(&path).unwrap().modified().unwrap();
    let file = fs::OpenOptions::new().write(true).open(&path).unwrap();
    file.write_all_at(b"rot", 5000).unwrap();
    file.set_modified(modified).unwrap();
    drop(file);
    // The scan doubts it, and it is copied as it is; known damage is what must not be.
    lab.run(&["verify"]).expect(&[1]);
    fs::create_dir(lab.root().join("new")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
    let run = lab.run(&["replace", "cedar", "--onto", &onto, "--yes", "--json"]);
    assert!([0, 1].contains(&run.code), "{}", run.stderr);
    let sync = lab.run(&["sync", "--yes"]);
    assert!([0, 1].contains(&sync.code), "{}", sync.stderr);
    lab.run(&["drill", "--lose", "alder"]).expect(&[0]);
}

#[rstest]
#[case::with_parity(1)]
#[case::without(0)]
fn a_data_disk_leaves_when_its_files_are_guarded_elsewhere(#[case] parity: usize) {
    let lab = filled(parity);
    let before = files(&lab, &["alder", "beech", "cedar"]);
    let plan = lab.run(&["vacate", "cedar", "--dry-run", "--json"]).expect(&[0]).json();
    assert_eq!(plan["shift"]["files"].as_array().unwrap().len(), 3, "{plan}");
    assert_eq!(files(&lab, &["alder", "beech", "cedar"]), before, "a dry run moves nothing");
    lab.run(&["vacate", "cedar", "--yes"]).expect(&[0]);
    assert_eq!(files(&lab, &["alder", "beech"]), before);
    assert_eq!(fs::read_dir(lab.disk("cedar")).unwrap().count(), 0, "nothing is left on it");
    assert!(lab.pool_text().contains("data = [\"alder\", \"beech\"]"), "{}", lab.pool_text());
    if parity > 0 {
        is_well(&lab);
        lab.run(&["drill", "--lose", "beech"]).expect(&[0]);
        lab.run(&["grow", "cedar", "--as", "data", "--yes"]).expect(&[0]);
        lab.run(&["sync", "--yes"]).expect(&[0]);
        is_well(&lab);
    }
}

#[test]
fn a_disk_that_is_away_lets_nobody_leave_and_nothing_move() {
    let lab = filled(1);
    fs::rename(lab.disk("beech"), lab.root().join("away")).unwrap();
    for arguments in [
        &["vacate", "cedar", "--yes"][..],
        &["even-out", "--yes"],
        &["move", "notes", "--to", "alder", "--yes"],
        &["rename", "disk", "beech", "ash", "--yes"],
    ] {
        let run = lab.run(arguments);
        assert!([2, 4].contains(&run.code), "{arguments:?}: {} {}", run.code, run.stderr);
        assert!(run.stderr.contains("beech"), "{}", run.stderr);
    }
}

#[test]
fn files_move_to_the_disk_that_is_named_and_guard_never_falls() {
    let lab = filled(1);
    let before = files(&lab, &["alder", "beech", "cedar"]);
    lab.run(&["move", "notes", "dawn/owl.flac", "--to", "beech", "--yes"]).expect(&[0]);
    assert_eq!(
        files(&lab, &["alder", "beech", "cedar"]).keys().filter(|name| name.ends_with(".txt")).count(),
        4
    );
    assert!(
        lab.disk("beech").join("notes/june.txt").exists()
            && !lab.disk("cedar").join("notes/june.txt").exists()
    );
    // What parity has of it stays readable until a sync has passed it.
    assert_eq!(lab.run(&["status", "--json"]).json()["guard"][0]["files"], 0);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    is_well(&lab);
    let after = files(&lab, &["alder", "beech", "cedar"]);
    assert_eq!(
        before.values().filter(|bytes| !bytes.is_empty()).count(),
        after.values().filter(|b| !b.is_empty()).count()
    );
    let wrong = lab.run(&["move", "nothing", "--to", "beech", "--yes"]).expect(&[2]).stderr;
    assert!(wrong.contains("is on no data disk"), "{wrong}");
}

#[test]
fn disks_are_evened_out_with_as_little_as_it_takes() {
    let lab = filled(1);
    for n in 0..30 {
        fs::write(lab.disk("alder").join(format!("{n}.wav")), vec![n; 500_000]).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let plan = lab.run(&["even-out", "--dry-run", "--json"]).expect(&[0]).json();
    let moved: u64 =
        plan["files"].as_array().unwrap().iter().map(|f| f["size_bytes"].as_u64().unwrap()).sum();
    let fills: Vec<f64> =
        plan["fills"].as_array().unwrap().iter().map(|f| f["after_bytes"].as_f64().unwrap()).collect();
    let spread = fills.iter().copied().fold(0.0, f64::max) - fills.iter().copied().fold(f64::MAX, f64::min);
    assert!(spread < 2_000_000.0, "{fills:?}");
    assert!(moved < 12_000_000, "no more than what is too much: {moved}");
    lab.run(&["even-out", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    is_well(&lab);
    assert!(lab.run(&["even-out"]).expect(&[0]).stdout.contains("Nothing of recordings has to move"));
    assert!(lab.run(&["even-out", "--until", "90 %"]).expect(&[0]).stdout.contains("Nothing"));
}

#[rstest]
#[case("disk", "cedar", "larch")]
#[case("volume", "recordings", "songs")]
#[case("pool", "fernhollow", "dell")]
fn a_new_name_is_followed_everywhere(#[case] what: &str, #[case] old: &str, #[case] new: &str) {
    let lab = filled(1);
    lab.write_pool_file(
        &lab.pool_text().replace(&format!("name = \"{old}\""), &format!("name = \"{old}\" # mine")),
    );
    lab.run(&["rename", what, old, new, "--yes"]).expect(&[0]);
    assert!(lab.pool_text().contains(&format!("name = \"{new}\" # mine")), "{}", lab.pool_text());
    assert!(!lab.pool_text().contains(&format!("\"{old}\"")), "{}", lab.pool_text());
    let label = fs::read_to_string(lab.disk("cedar").join(".zinc-sieve/label.toml")).unwrap();
    assert!(label.contains(&format!("\"{new}\"")) && !label.contains(&format!("\"{old}\"")), "{label}");
    let status = lab.run(&["status"]).expect(&[0]);
    assert!(!status.stderr.contains("calls"), "it is settled, not only followed: {}", status.stderr);
    is_well(&lab);
    lab.run(&["rename", what, old, "else", "--yes"]).expect(&[2]);
}

#[test]
fn the_first_pool_file_can_be_built_upon() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    lab.run(&["demo", "--dir", "world", "--set-up-only"]).expect(&[0]);
    let written =
        lab.run(&["--pool", "first.toml", "init", "--name", "dell", "--from", "world/machine", "--json"]);
    let written: Value = written.expect(&[0]).json();
    let roles: Vec<&str> =
        written["disks"].as_array().unwrap().iter().map(|d| d["role"].as_str().unwrap()).collect();
    assert!(roles.contains(&"parity") && roles.contains(&"data") && roles.contains(&"cache"), "{written}");
    assert_eq!(written["left_out"][0]["why"], "the running system is on it");
    let text = fs::read_to_string(lab.root().join("first.toml")).unwrap();
    assert!(text.contains("not mounted yet") && text.contains("[[volume]]"), "{text}");
    lab.run(&["--pool", "first.toml", "init", "--from", "world/machine"]).expect(&[4]);
}

#[test]
fn a_listing_is_read_where_it_is_asked_for_what_is_lost() {
    let lab = filled(1);
    for (file, arguments) in [("all.csv", &[][..]), ("all.jsonl", &[]), ("all.b3", &["--b3sum"])] {
        lab.run(&[&["listing", file], arguments].concat()).expect(&[0]);
        lab.run(&[&["listing", file], arguments].concat()).expect(&[4]);
        let fate = lab.run(&["fate", "--lose", "cedar,oak", "--backup", file, "--json"]).expect(&[1]).json();
        let there = &fate["backup"]["there"]["files"];
        assert_eq!(*there, 4, "{file}: {}", fate["backup"]);
    }
}
