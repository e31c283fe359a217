//! Guards against a file that is lost, changed or guarded less when a volume becomes one of another kind, there and back again.
//!
//! Holds L1 and L8.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt;

use rstest::rstest;
use sieve_testkit::{Chance, Lab, paths};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const DATA: [&str; 3] = ["alder", "beech", "cedar"];

/// A synced volume with a parity disk, and files of all lengths, rights and names.
fn volume(kind: &str) -> Lab {
    let disks = ["alder", "beech", "cedar", "oak"].map(|name| (name, 40));
    let more = if kind == "tiered" { "fast = [\"alder\"]\n" } else { "" };
    let lab = Lab::of(
        PROGRAM,
        &disks,
        &format!("kind = \"{kind}\"   # as it was\ndata = {DATA:?}\nparity = [\"oak\"]\n{more}"),
    );
    lab.run(&["create", "--yes"]).expect(&[0]);
    let source = lab.root().join("source");
    for (number, size) in [0, 1, 4095, 4096, 70_000, 1_048_577, 300_000, 20_000, 5, 0].into_iter().enumerate()
    {
        let folder = source.join(["dawn", "dawn/chorus", "Nest, #2", "\u{1f426}"][number % 4]);
        fs::create_dir_all(&folder).unwrap();
        let file = folder.join(format!("take {number}\\.flac"));
        fs::write(&file, Chance::new(number as u64).bytes(size)).unwrap();
        fs::set_permissions(&file, PermissionsExt::from_mode(0o600 + 0o44 * (number as u32 % 2))).unwrap();
    }
    let folders: Vec<String> =
        fs::read_dir(&source).unwrap().map(|entry| entry.unwrap().path().display().to_string()).collect();
    let mut arguments = vec!["put"];
    arguments.extend(folders.iter().map(String::as_str));
    arguments.extend([".", "--yes"]);
    lab.run(&arguments).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

/// What lies where: for each path its contents with their rights, one for each disk.
fn tree(lab: &Lab) -> BTreeMap<Vec<u8>, Vec<(Vec<u8>, u32)>> {
    let mut tree: BTreeMap<Vec<u8>, Vec<(Vec<u8>, u32)>> = BTreeMap::new();
    for disk in DATA {
        let root = lab.disk(disk);
        for path in paths(&root) {
            let place = root.join(String::from_utf8(path.clone()).unwrap());
            if place.is_file() {
                let rights = place.metadata().unwrap().permissions().mode();
                tree.entry(path).or_default().push((fs::read(place).unwrap(), rights));
            }
        }
    }
    tree
}

fn lowest_guard(lab: &Lab) -> u64 {
    let status = lab.run(&["status", "--json"]).json();
    let levels = status["guard"].as_array().unwrap();
    let with_files = levels.iter().filter(|level| level["files"].as_u64().unwrap() > 0);
    with_files.map(|level| level["level"].as_u64().unwrap()).min().unwrap()
}

#[rstest]
fn there_and_back_every_file_is_what_it_was(
    #[values("unstriped", "spanned", "tiered", "mirrored")] from: &str,
    #[values("unstriped", "spanned", "tiered", "mirrored")] to: &str,
) {
    let lab = volume(from);
    if from == to {
        let run = lab.run(&["convert", "recordings", "--to", to, "--fast", "alder", "--yes"]).expect(&[2]);
        assert!(run.stderr.contains("already"), "{}", run.stderr);
        return;
    }
    let one_of_each = |tree: BTreeMap<Vec<u8>, Vec<(Vec<u8>, u32)>>| -> BTreeMap<_, _> {
        tree.into_iter()
            .map(|(path, mut copies)| {
                assert!(copies.windows(2).all(|two| two[0] == two[1]), "copies differ");
                (path, copies.remove(0))
            })
            .collect()
    };
    let before = one_of_each(tree(&lab));
    let image = || {
        fs::metadata(lab.disk("oak").join(".zinc-sieve/parity/segment-00000")).unwrap().modified().unwrap()
    };
    for (here, next) in [(from, to), (to, from)] {
        let touched = image();
        let mut arguments = vec!["convert", "recordings", "--to", next, "--yes"];
        if next == "tiered" {
            arguments.extend(["--fast", "alder"]);
        }
        lab.run(&arguments).expect(&[0]);
        assert_eq!(image(), touched, "{here} to {next} wrote parity");
        assert!(lowest_guard(&lab) >= 1, "{here} to {next}");
        assert_eq!(one_of_each(tree(&lab)), before, "{here} to {next}");
        assert!(lab.pool_text().contains(&format!("kind = \"{next}\"   # as it was")), "{}", lab.pool_text());
        lab.run(&["sync", "--yes"]).expect(&[0]);
        let now = tree(&lab);
        let wanted = if next == "mirrored" { 2 } else { 1 };
        assert!(now.values().all(|copies| copies.len() == wanted), "{here} to {next}");
        assert_eq!(one_of_each(now), before, "{here} to {next}");
        assert!(lowest_guard(&lab) >= 1, "{here} to {next}");
        lab.run(&["verify"]).expect(&[0]);
        let drill = lab.run(&["drill", "--lose", "beech", "--json"]).json();
        assert_eq!((&drill["surprises"], &drill["predicted"]), (&serde_json::json!([]), &drill["obtained"]));
    }
    // Another machine takes it from the disks alone, as what it is now.
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    fs::remove_file(lab.pool_file()).unwrap();
    lab.run(&["adopt", "alder", "beech", "cedar", "oak", "--yes"]).expect(&[0]);
    assert!(lab.pool_text().contains(&format!("kind = \"{from}\"")), "{}", lab.pool_text());
    lab.run(&["status"]).expect(&[0]);
}

#[test]
fn what_would_cost_guard_is_refused_unless_it_is_allowed() {
    let disks = ["alder", "beech"].map(|name| (name, 40));
    let lab = Lab::of(PROGRAM, &disks, "kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]\n");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.root().join("wren.flac"), Chance::new(1).bytes(50_000)).unwrap();
    lab.run(&["put", "wren.flac", ".", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let refused = lab.run(&["convert", "recordings", "--to", "unstriped", "--yes"]).expect(&[4]);
    assert!(
        refused.stderr.contains("--never-below 0") && refused.stderr.contains("--as parity"),
        "{}",
        refused.stderr
    );
    assert_eq!(["alder", "beech"].iter().filter(|disk| lab.disk(disk).join("wren.flac").exists()).count(), 2);
    // A copy that rotted is not the one that stays.
    for disk in ["alder", "beech"] {
        lab.rot(&lab.disk(disk).join("wren.flac"), 20_000);
    }
    let run = lab.run(&["convert", "recordings", "--to", "unstriped", "--yes", "--never-below", "0"]);
    assert_ne!(run.code, 0, "{}{}", run.stdout, run.stderr);
    assert!(lab.pool_text().contains("kind = \"mirrored\""), "{}", lab.pool_text());
    assert_eq!(["alder", "beech"].iter().filter(|disk| lab.disk(disk).join("wren.flac").exists()).count(), 2);
}

#[test]
fn two_files_of_one_name_and_a_lack_of_room_are_said_before() {
    let lab = volume("unstriped");
    for disk in ["alder", "beech"] {
        fs::write(lab.disk(disk).join("same.flac"), disk).unwrap();
    }
    let run = lab.run(&["convert", "recordings", "--to", "mirrored", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("same.flac is another file on each of alder, beech"), "{}", run.stderr);
    for disk in ["alder", "beech"] {
        fs::remove_file(lab.disk(disk).join("same.flac")).unwrap();
    }
    lab.write_pool_file(&lab.pool_text().replace("40 MB", "1400 kB"));
    let run = lab.run(&["convert", "recordings", "--to", "mirrored", "--copies", "3", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("no disk has room for the further copies"), "{}", run.stderr);
    assert!(lab.pool_text().contains("kind = \"unstriped\""));
}

/// All names of a file are copied together, and stay together: on disks of their own they would be files of their own.
#[test]
fn a_file_of_several_names_has_them_all_on_each_disk_that_has_it() {
    use std::os::unix::fs::MetadataExt as _;
    let lab = volume("mirrored");
    let pairs: Vec<[String; 3]> =
        (0..8).map(|n| [format!("z/last {n}"), format!("a/first {n}"), format!("m/{n}")]).collect();
    for folder in ["a", "m", "z"] {
        fs::create_dir(lab.disk("beech").join(folder)).unwrap();
    }
    for (number, [one, other, third]) in pairs.iter().enumerate() {
        let root = lab.disk("beech");
        fs::write(root.join(one), Chance::new(number as u64).bytes(9_000)).unwrap();
        fs::hard_link(root.join(one), root.join(other)).unwrap();
        if number % 2 == 0 {
            fs::hard_link(root.join(one), root.join(third)).unwrap();
        }
    }
    let on = |name: &String| -> Vec<(&'static str, u64)> {
        let there = |disk: &'static str| Some((disk, fs::metadata(lab.disk(disk).join(name)).ok()?.nlink()));
        DATA.into_iter().filter_map(there).collect()
    };
    lab.run(&["sync", "--yes"]).expect(&[0]);
    // One name more, of a file whose copies are there already.
    fs::hard_link(lab.disk("beech").join("z/last 1"), lab.disk("beech").join("m/1")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for (number, names) in pairs.iter().enumerate() {
        let count = if number % 2 == 0 || number == 1 { 3 } else { 2 };
        let places = on(&names[0]);
        assert_eq!(places.len(), 2, "{names:?}: {places:?}");
        assert!(places.iter().all(|(_, links)| *links == count as u64), "{names:?}: {places:?}");
        assert!(names[..count].iter().all(|name| on(name) == places), "{names:?}: {places:?}");
    }
    lab.run(&["convert", "recordings", "--to", "unstriped", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for (number, names) in pairs.iter().enumerate() {
        let count = if number % 2 == 0 || number == 1 { 3 } else { 2 };
        let places = on(&names[0]);
        assert_eq!((places.len(), places[0].1), (1, count as u64), "{names:?}: {places:?}");
        assert!(names[..count].iter().all(|name| on(name) == places), "{names:?}: {places:?}");
    }
    assert_eq!(lowest_guard(&lab), 1);
}
