//! Guards against the accidents of a home: the wrong disk, the empty folder, the old copy, the flipped bit. Each
//! gives the right thing or a clear message, the documented exit code, and nothing lost.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use rstest::rstest;
use sieve_testkit::{Chance, Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const DISKS: [&str; 3] = ["alder", "beech", "cedar"];

/// Three data disks with four files of 300 kB each, one parity disk, synced.
fn synced() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "60 MB");
    let mut chance = Chance::new(11);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for disk in DISKS {
        fs::create_dir(lab.disk(disk).join("dawn")).unwrap();
        for number in 1..=4 {
            let path = lab.disk(disk).join(format!("dawn/{disk}-{number}.flac"));
            fs::write(path, chance.bytes(300_000)).unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn refused(lab: &Lab, arguments: &[&str], words: &[&str]) {
    let run = lab.run(arguments).expect(&[4]);
    for word in words {
        assert!(run.stderr.contains(word), "`{word}` is missing in: {}", run.stderr);
    }
    assert!(run.stderr.contains("next: "), "no advice in: {}", run.stderr);
}

fn copy(from: &Path, to: &Path) {
    let status = std::process::Command::new("cp").arg("-a").arg(from).arg(to).status().unwrap();
    assert!(status.success());
}

fn first_parity_byte(lab: &Lab) -> PathBuf {
    lab.disk("oak").join(".zinc-sieve/parity/segment-00000")
}

#[test]
fn a_member_that_is_not_mounted_never_looks_emptied() {
    let lab = synced();
    fs::rename(lab.disk("cedar"), lab.root().join("elsewhere")).unwrap();
    fs::create_dir(lab.disk("cedar")).unwrap();
    refused(&lab, &["sync", "--yes"], &["cedar is missing", "nothing is mounted there"]);
    refused(&lab, &["rm", "dawn/cedar-1.flac", "--yes"], &["cedar is missing"]);
    let fate = lab.run(&["fate", "--lose", "cedar", "--json"]).expect(&[0]).json();
    assert_eq!(fate["totals"]["rebuilt"]["files"], 4);
    assert_eq!(
        fs::read_dir(lab.disk("cedar")).unwrap().count(),
        0,
        "nothing was written to the empty folder"
    );
    fs::remove_dir(lab.disk("cedar")).unwrap();
    fs::rename(lab.root().join("elsewhere"), lab.disk("cedar")).unwrap();
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn an_emptied_member_stops_the_sync_until_it_is_accepted() {
    let lab = synced();
    fs::remove_dir_all(lab.disk("cedar").join("dawn")).unwrap();
    lab.run(&["status"]).expect(&[1]); // looking does not make it a fact
    refused(&lab, &["sync", "--yes"], &["every file", "cedar", "--accept cedar"]);
    lab.run(&["sync", "--yes", "--accept", "cedar"]).expect(&[0]);
}

#[test]
fn many_files_gone_or_empty_stop_the_sync() {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for number in 0..20 {
        fs::write(lab.disk("alder").join(format!("{number}")), [7; 100]).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for number in 0..9 {
        fs::remove_file(lab.disk("alder").join(format!("{number}"))).unwrap();
    }
    for number in 9..12 {
        fs::write(lab.disk("alder").join(format!("{number}")), []).unwrap();
    }
    refused(&lab, &["sync", "--yes"], &["12 of 20 files"]);
}

#[test]
fn the_wrong_disk_is_named() {
    let lab = synced();
    fs::rename(lab.disk("alder"), lab.root().join("other")).unwrap();
    fs::rename(lab.disk("beech"), lab.disk("alder")).unwrap();
    fs::rename(lab.root().join("other"), lab.disk("beech")).unwrap();
    refused(&lab, &["sync", "--yes"], &["wrong disk", "alder should be there, the label says beech"]);
    let other = synced();
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    copy(&other.disk("alder"), &lab.disk("alder"));
    refused(&lab, &["sync", "--yes"], &["another pool"]);
}

#[test]
fn two_claimants_of_one_place_stop_everything_that_writes() {
    let lab = synced();
    fs::remove_dir_all(lab.disk("beech")).unwrap();
    copy(&lab.disk("alder"), &lab.disk("beech"));
    refused(&lab, &["sync", "--yes"], &["both show the label of alder"]);
}

#[test]
fn a_file_that_its_owner_moved_to_another_disk_is_only_a_new_file_there() {
    let lab = synced();
    fs::rename(lab.disk("alder").join("dawn/alder-1.flac"), lab.disk("beech").join("dawn/alder-1.flac"))
        .unwrap();
    let fate = lab.run(&["fate", "--lose", "beech", "--json"]).expect(&[1]).json();
    assert!(fate["totals"]["gone"]["files"].as_u64().unwrap() > 0);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["fate", "--lose", "beech"]).expect(&[0]);
}

#[test]
fn a_disk_that_was_replaced_and_comes_back_is_known() {
    let lab = synced();
    fs::rename(lab.disk("cedar"), lab.root().join("old")).unwrap();
    fs::create_dir(lab.disk("cedar")).unwrap();
    lab.run(&["rebuild", "cedar", "--onto", "cedar", "--yes"]).expect(&[0]);
    fs::rename(lab.disk("cedar"), lab.root().join("new")).unwrap();
    fs::rename(lab.root().join("old"), lab.disk("cedar")).unwrap();
    refused(&lab, &["sync", "--yes"], &["was cedar until it was replaced"]);
}

#[test]
fn an_older_catalogue_is_noticed_and_the_newest_replica_taken() {
    let lab = synced();
    let home = lab.root().join(".zinc-sieve/catalogue.sqlite");
    let old = fs::read(&home).unwrap();
    fs::write(lab.disk("alder").join("late.txt"), b"late").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(&home, old).unwrap();
    for command in [&["status"][..], &["fate", "--lose", "cedar"], &["sync", "--yes"]] {
        refused(&lab, command, &["is an older copy", "checkpoint"]);
    }
    fs::remove_file(&home).unwrap();
    let run = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[0]);
    assert!(run.stderr.contains("this is the newest replica"), "{}", run.stderr);
    assert_eq!(run.json()["totals"]["rebuilt"]["files"], 5);
}

#[test]
fn histories_that_went_apart_are_told_apart() {
    let lab = synced();
    let (home, oak) = (lab.root().join(".zinc-sieve"), lab.disk("oak"));
    copy(&home, &lab.root().join("home-then"));
    for disk in DISKS.iter().chain(&["oak"]) {
        copy(&lab.disk(disk), &lab.root().join(format!("{disk}-then")));
    }
    fs::write(lab.disk("alder").join("here.txt"), b"here").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::rename(&oak, lab.root().join("oak-here")).unwrap();
    // Now the same pool as it was then goes on, elsewhere and otherwise.
    for disk in DISKS {
        fs::remove_dir_all(lab.disk(disk)).unwrap();
        fs::rename(lab.root().join(format!("{disk}-then")), lab.disk(disk)).unwrap();
    }
    fs::rename(lab.root().join("oak-then"), &oak).unwrap();
    fs::remove_dir_all(&home).unwrap();
    fs::rename(lab.root().join("home-then"), &home).unwrap();
    fs::write(lab.disk("alder").join("there.txt"), b"there").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(&oak).unwrap();
    fs::rename(lab.root().join("oak-here"), &oak).unwrap();
    refused(&lab, &["fate", "--lose", "alder"], &["went separate ways", "oak"]);
}

#[test]
fn an_older_copy_of_a_disk_is_noticed_and_promises_nothing_that_it_cannot_keep() {
    let lab = synced();
    copy(&lab.disk("cedar"), &lab.root().join("cedar-then"));
    let late = Chance::new(3).bytes(200_000);
    fs::write(lab.disk("cedar").join("dawn/cedar-1.flac"), &late).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("cedar")).unwrap();
    fs::rename(lab.root().join("cedar-then"), lab.disk("cedar")).unwrap();
    refused(&lab, &["sync", "--yes"], &["older state of itself", "--accept cedar"]);
    let promised = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[0, 1]).json();
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    fs::create_dir(lab.disk("new")).unwrap();
    let run = lab.run(&["rebuild", "alder", "--onto", "new", "--yes", "--json"]).expect(&[0, 1]);
    let back = fs::read_dir(lab.disk("new").join("dawn")).map_or(0, Iterator::count) as u64;
    assert!(back >= promised["totals"]["rebuilt"]["files"].as_u64().unwrap());
    assert_eq!(run.json()["predicted"], run.json()["obtained"]);
}

#[test]
fn an_older_copy_of_the_parity_counts_only_where_it_is_still_valid() {
    let lab = synced();
    copy(&lab.disk("oak"), &lab.root().join("oak-then"));
    // Only the first cell changes: the rows of the others are as they were.
    fs::write(lab.disk("cedar").join("dawn/cedar-1.flac"), [5; 100]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("oak")).unwrap();
    fs::rename(lab.root().join("oak-then"), lab.disk("oak")).unwrap();
    let fate = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[1]).json();
    assert!(fate["totals"]["rebuilt"]["files"].as_u64().unwrap() < 4, "{}", fate["totals"]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["fate", "--lose", "alder"]).expect(&[0]);
}

#[rstest]
#[case::first_of_the_lane("dawn/alder-1.flac")]
#[case::across_two_cells("dawn/alder-4.flac")]
fn rot_in_a_file_is_reported_and_never_gets_a_fresh_checksum(#[case] name: &str) {
    let lab = synced();
    let path = lab.disk("alder").join(name);
    let original = fs::read(&path).unwrap();
    lab.rot(&path, 123_456);
    // What is left in the rows is alder's, so that they are computed from it alone, and every cell is an input.
    for disk in ["beech", "cedar"] {
        for file in fs::read_dir(lab.disk(disk).join("dawn")).unwrap() {
            let path = format!("dawn/{}", file.unwrap().file_name().to_str().unwrap());
            lab.run(&["rm", &path, "--yes"]).expect(&[0]);
        }
    }
    let run = lab.run(&["sync", "--yes", "--json"]).expect(&[1]);
    assert!(run.json()["damage"].as_array().unwrap().iter().any(|d| d.as_str().unwrap().contains(name)));
    lab.run(&["sync", "--yes"]).expect(&[1]);
    lab.run(&["verify"]).expect(&[1]);
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    fs::create_dir(lab.disk("new")).unwrap();
    lab.run(&["rebuild", "alder", "--onto", "new", "--yes"]).expect(&[0, 1]);
    assert_eq!(fs::read(lab.disk("new").join(name)).unwrap(), original, "parity kept what was checksummed");
}

#[test]
fn a_flip_that_only_the_change_time_shows_is_reported_and_waits_to_be_accepted() {
    let lab = synced();
    let path = lab.disk("alder").join("dawn/alder-3.flac");
    lab.flip(&path, 77);
    let run = lab.run(&["sync", "--yes", "--json"]).expect(&[1]);
    assert!(run.json()["suspect"][0].as_str().unwrap().contains("alder-3.flac"));
    lab.run(&["sync", "--yes"]).expect(&[1]);
    lab.flip(&path, 77); // mended by its owner
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.flip(&path, 77);
    lab.run(&["sync", "--yes"]).expect(&[1]);
    lab.run(&["sync", "--yes", "--accept", "alder"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_flip_in_what_is_held_is_reported() {
    let lab = synced();
    lab.run(&["rm", "dawn/alder-1.flac", "--yes"]).expect(&[0]);
    let held =
        fs::read_dir(lab.disk("alder").join(".zinc-sieve/held")).unwrap().next().unwrap().unwrap().path();
    lab.flip(&held, 1000);
    let run = lab.run(&["sync", "--yes", "--json"]).expect(&[1]);
    assert!(!run.json()["suspect"].as_array().unwrap().is_empty());
    let run = lab.run(&["verify", "--json"]).expect(&[1]);
    assert!(run.json()["damaged"][0]["path"].as_str().unwrap().contains("held"), "{}", run.stdout);
}

#[test]
fn a_flip_in_the_parity_is_reported_and_computed_anew() {
    let lab = synced();
    lab.flip(&first_parity_byte(&lab), 5000);
    let run = lab.run(&["sync", "--yes", "--json"]);
    // Nothing else changed: the plan finds it by the segment's times.
    assert_eq!(run.code, 1, "{}{}", run.stdout, run.stderr);
    assert!(run.json()["damage"][0].as_str().unwrap().contains("parity on oak"), "{}", run.stdout);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn rot_in_the_parity_is_found_by_verify_and_mended_by_sync() {
    let lab = synced();
    lab.rot(&first_parity_byte(&lab), 5000);
    let run = lab.run(&["verify", "--json"]).expect(&[1]);
    assert_eq!(run.json()["damaged_parity"]["oak"], serde_json::json!([0]));
    lab.run(&["fate", "--lose", "alder"]).expect(&[1]);
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["fate", "--lose", "alder"]).expect(&[0]);
}

#[test]
fn what_fits_on_no_disk_is_refused_by_name_before_anything_is_copied() {
    let lab = synced();
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/small"), b"small").unwrap();
    fs::write(lab.root().join("card/whole-night.mkv"), vec![1; 61_000_000]).unwrap();
    refused(&lab, &["put", "card", ".", "--yes"], &["card/whole-night.mkv", "fits on no disk"]);
    assert!(DISKS.iter().all(|d| !lab.disk(d).join("card").exists()));
}

#[test]
fn a_file_that_grows_while_it_is_read_is_left_for_the_next_sync() {
    let lab = synced();
    let path = lab.disk("beech").join("growing.log");
    fs::write(&path, vec![1; 20_000_000]).unwrap();
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut file = fs::OpenOptions::new().append(true).open(&path).unwrap();
            while !stop.load(Ordering::Relaxed) {
                std::io::Write::write_all(&mut file, b"one more line\n").unwrap();
                std::thread::sleep(std::time::Duration::from_micros(200));
            }
        });
        let run = lab.run(&["sync", "--yes", "--json"]).expect(&[1]);
        stop.store(true, Ordering::Relaxed);
        assert!(run.json()["left_for_next"][0].as_str().unwrap().contains("growing.log"), "{}", run.stdout);
    });
    lab.run(&["fate", "--lose", "alder"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_file_that_cannot_be_read_is_named_and_the_rest_is_synced() {
    use std::os::unix::process::CommandExt;
    let lab = synced();
    fs::write(lab.disk("alder").join("locked"), b"locked").unwrap();
    fs::set_permissions(lab.disk("alder").join("locked"), fs::Permissions::from_mode(0o000)).unwrap();
    fs::write(lab.disk("alder").join("open"), b"open").unwrap();
    let mut command = lab.command(&["sync", "--yes", "--json"]);
    if rustix::process::geteuid().is_root() {
        let status =
            std::process::Command::new("chown").args(["-R", "65534:65534"]).arg(lab.root()).status().unwrap();
        assert!(status.success());
        command.uid(65534).gid(65534);
    }
    let run = Run::of(&command.output().unwrap()).expect(&[3]);
    assert!(run.json()["unreadable"][0].as_str().unwrap().contains("locked"), "{}", run.stdout);
    let fate = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[1]).json();
    let of = |name: &str| {
        let files = fate["files"].as_array().unwrap();
        files.iter().find(|f| f["path"] == name).unwrap()["fate"].as_str().unwrap().to_string()
    };
    assert_eq!((of("open").as_str(), of("locked").as_str()), ("rebuilt", "gone"));
}

#[test]
fn a_sparse_file_of_five_gibibytes_takes_only_what_it_holds() {
    let lab = synced();
    let file = fs::File::create(lab.root().join("image.raw")).unwrap();
    file.set_len(5 << 30).unwrap();
    file.write_all_at(b"somewhere in the middle", 3 << 30).unwrap();
    drop(file);
    lab.run(&["put", "image.raw", "disks", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let disk = DISKS.iter().find(|d| lab.disk(d).join("disks/image.raw").exists()).unwrap();
    fs::remove_dir_all(lab.disk(disk)).unwrap();
    fs::create_dir(lab.disk("new")).unwrap();
    lab.run(&["rebuild", disk, "--onto", "new", "--yes"]).expect(&[0]);
    let back = fs::File::open(lab.disk("new").join("disks/image.raw")).unwrap();
    assert_eq!(back.metadata().unwrap().len(), 5 << 30);
    assert!(
        std::os::unix::fs::MetadataExt::blocks(&back.metadata().unwrap()) < 100,
        "its holes are holes again"
    );
    let mut bytes = [0; 23];
    back.read_exact_at(&mut bytes, 3 << 30).unwrap();
    assert_eq!(&bytes, b"somewhere in the middle");
}

#[test]
fn special_files_are_listed_and_left_alone() {
    let lab = synced();
    rustix::fs::mknodat(
        rustix::fs::CWD,
        lab.disk("alder").join("pipe"),
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::from(0o600),
        0,
    )
    .unwrap();
    std::os::unix::fs::symlink("/etc", lab.disk("alder").join("outside")).unwrap();
    let run = lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(run.stderr.contains("alder/pipe"), "{}", run.stderr);
    let fate = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[0]);
    assert!(!fate.stdout.contains("passwd"), "no symlink is followed");
}

#[test]
fn what_is_left_out_is_not_guarded_and_said_so() {
    let lab = synced();
    let text = lab
        .pool_text()
        .replace("kind = \"unstriped\"", "kind = \"unstriped\"\nleave_out = [\"*.tmp\", \"scratch/\"]");
    lab.write_pool_file(&text);
    fs::create_dir(lab.disk("alder").join("scratch")).unwrap();
    fs::write(lab.disk("alder").join("scratch/a"), b"a").unwrap();
    fs::write(lab.disk("alder").join("b.tmp"), b"b").unwrap();
    fs::write(lab.disk("alder").join("c"), b"c").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let fate = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[1]).json();
    let gone: Vec<&str> = fate["files"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|f| f["fate"] == "gone")
        .map(|f| f["path"].as_str().unwrap())
        .collect();
    assert_eq!(gone, ["b.tmp", "scratch/a"]);
}

#[test]
fn nothing_is_written_without_consent() {
    let lab = synced();
    fs::write(lab.disk("alder").join("late"), b"late").unwrap();
    for command in [&["sync"][..], &["rm", "late"], &["put", "pool.toml", "."]] {
        let run = lab.run(command).expect(&[2]);
        assert!(run.stderr.contains("--yes"), "{}", run.stderr);
    }
    lab.run(&["sync", "--dry-run"]).expect(&[0]);
    assert!(lab.disk("alder").join("late").exists());
    let status = lab.run(&["status", "--json"]).expect(&[5]).json();
    assert_eq!(status["guard"][0]["files"], 1);
}

#[test]
fn a_label_that_is_damaged_newer_or_hostile_is_refused_in_words() {
    let lab = synced();
    let label = lab.disk("oak").join(".zinc-sieve/label.toml");
    let good = fs::read_to_string(&label).unwrap();
    for (bad, words) in [
        (good.replace("format = 4", "format = 9"), "format 9"),
        (good.replace("slot = 0", "slot = 200"), "slot 200"),
        ("\u{0}\u{1}garbage".into(), "cannot be read"),
        (String::new(), "names no format"),
        (good.replace("slot = 0", "slot = 0\nsurprise = 1"), "surprise"),
        (good.replace("slot = 0", "slot = 3"), "slot 3"),
    ] {
        fs::write(&label, bad).unwrap();
        refused(&lab, &["sync", "--yes"], &[words]);
    }
    fs::write(&label, good).unwrap();
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_damaged_parity_table_or_catalogue_is_said_so() {
    let lab = synced();
    let table = lab.disk("oak").join(".zinc-sieve/parity/table");
    let good = fs::read(&table).unwrap();
    fs::write(&table, &good[..good.len() / 2]).unwrap();
    // A cut log ends where it was cut: what it does not say is not valid, and is computed anew.
    lab.run(&["fate", "--lose", "alder"]).expect(&[1]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    fs::write(&table, b"not a table").unwrap();
    let run = lab.run(&["sync", "--yes"]).expect(&[1]);
    assert!(run.stdout.contains("parity table"), "{}", run.stdout);
    lab.run(&["verify"]).expect(&[0]);
    fs::write(lab.root().join(".zinc-sieve/catalogue.sqlite"), vec![1; 5000]).unwrap();
    let run = lab.run(&["status"]).expect(&[3]);
    assert!(run.stderr.contains("newest replica"), "{}", run.stderr);
}

#[test]
fn two_long_writers_do_not_meet() {
    let lab = synced();
    let lock = fs::File::open(lab.disk("beech").join(".zinc-sieve/lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    fs::write(lab.disk("alder").join("late"), b"late").unwrap();
    refused(&lab, &["sync", "--yes"], &["in use"]);
    lab.run(&["put", "pool.toml", ".", "--yes"]).expect(&[0]);
}

#[test]
fn rebuild_refuses_what_could_cost_a_file() {
    let lab = synced();
    fs::create_dir(lab.disk("new")).unwrap();
    refused(&lab, &["rebuild", "cedar", "--onto", "new", "--yes"], &["present and well"]);
    fs::rename(lab.disk("cedar"), lab.root().join("dead")).unwrap();
    fs::write(lab.disk("new").join("holiday.jpg"), b"mine").unwrap();
    refused(&lab, &["rebuild", "cedar", "--onto", "new", "--yes"], &["not empty", "holiday.jpg"]);
    refused(&lab, &["rebuild", "cedar", "--onto", "beech", "--yes"], &["member"]);
    assert_eq!(fs::read(lab.disk("new").join("holiday.jpg")).unwrap(), b"mine");
}

#[test]
fn a_file_that_a_symlink_replaces_is_held_and_a_folder_is_in_the_way() {
    let lab = synced();
    let original = fs::read(lab.disk("alder").join("dawn/alder-1.flac")).unwrap();
    let source = lab.root().join("alder-1.flac");
    std::os::unix::fs::symlink("beech-1.flac", &source).unwrap();
    refused(&lab, &["put", "alder-1.flac", "dawn", "--yes"], &["dawn/alder-1.flac", "--replace"]);
    lab.run(&["put", "alder-1.flac", "dawn", "--replace", "--yes"]).expect(&[0]);
    let target = ["alder", "beech", "cedar"].map(|d| lab.disk(d).join("dawn/alder-1.flac"));
    assert!(target.iter().any(|t| fs::read_link(t).is_ok()));
    let held = fs::read_dir(lab.disk("alder").join(".zinc-sieve/held")).unwrap().next().unwrap().unwrap();
    assert_eq!(fs::read(held.path()).unwrap(), original, "what parity encodes is still there");
    // A symlink gives way to a file as well, and a folder to neither.
    fs::remove_file(&source).unwrap();
    fs::write(&source, b"a file again").unwrap();
    lab.run(&["put", "alder-1.flac", "dawn", "--replace", "--yes"]).expect(&[0]);
    fs::write(lab.root().join("dawn"), b"a file with the name of a folder").unwrap();
    refused(&lab, &["put", "dawn", ".", "--replace", "--yes"], &["is a folder"]);
    assert!(lab.disk("alder").join("dawn/alder-2.flac").exists());
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}
