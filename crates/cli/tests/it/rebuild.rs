//! Guards against a rebuild that does less than it could: what is wanted first, what comes back in pieces, smaller disks,
//! survivors with bad spots.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const LONG: usize = 6_000_000;

fn content(disk: &str, number: usize) -> Vec<u8> {
    let seed = disk.bytes().map(u64::from).sum::<u64>() * 10 + number as u64;
    Chance::new(seed).bytes(if number == 0 { LONG } else { 400_000 })
}

fn synced(data: usize, parity: usize) -> Lab {
    let lab = Lab::new(PROGRAM, data, parity, "80 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for disk in &lab.data {
        for folder in ["nest", "dawn"] {
            fs::create_dir(lab.disk(disk).join(folder)).unwrap();
        }
        for number in 0..4 {
            let folder = if number < 2 { "dawn" } else { "nest" };
            fs::write(lab.disk(disk).join(format!("{folder}/{disk}-{number}.flac")), content(disk, number))
                .unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn lose(lab: &Lab, disk: &str) -> String {
    fs::remove_dir_all(lab.disk(disk)).unwrap();
    let new = lab.root().join(format!("new-{disk}"));
    fs::create_dir(&new).unwrap();
    new.display().to_string()
}

#[test]
fn what_is_wanted_first_is_there_before_the_rest_and_everything_comes_back() {
    let lab = synced(3, 1);
    fs::hard_link(
        lab.disk("beech").join("nest/beech-2.flac"),
        lab.disk("beech").join("dawn/other-name.flac"),
    )
    .unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let new = lose(&lab, "beech");
    let run =
        lab.run(&["rebuild", "beech", "--onto", &new, "--first", "nest", "--yes", "--json"]).expect(&[0]);
    assert_eq!(run.json()["predicted"], run.json()["obtained"]);
    for number in 0..4 {
        let folder = if number < 2 { "dawn" } else { "nest" };
        let path = lab.root().join(format!("new-beech/{folder}/beech-{number}.flac"));
        assert_eq!(fs::read(path).unwrap(), content("beech", number));
    }
    assert_eq!(fs::read(lab.root().join("new-beech/dawn/other-name.flac")).unwrap(), content("beech", 2));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["status"]).expect(&[0]);
}

#[test]
fn a_torn_file_is_kept_beside_its_name_on_request_and_its_holes_are_named() {
    let lab = synced(3, 1);
    // A bad spot on a survivor, in rows of the long file that is lost.
    lab.rot(&lab.disk("cedar").join("dawn/cedar-0.flac"), 2_500_000);
    let new = lose(&lab, "alder");
    let plain =
        lab.run(&["rebuild", "alder", "--onto", &new, "--salvage", "--yes", "--json"]).expect(&[1]).json();
    let salvaged = &plain["salvaged"][0];
    assert_eq!(salvaged["path"], "dawn/alder-0.flac");
    let holes: Vec<(usize, usize)> = salvaged["holes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|hole| (hole["from"].as_u64().unwrap() as usize, hole["to"].as_u64().unwrap() as usize))
        .collect();
    assert!(!holes.is_empty() && holes.iter().all(|(from, to)| to - from <= 1 << 20), "{holes:?}");
    let kept = fs::read(lab.root().join("new-alder/dawn/alder-0 (salvaged).flac")).unwrap();
    let expected = content("alder", 0);
    assert_eq!(kept.len(), LONG);
    let is_hole = |at: usize| holes.iter().any(|(from, to)| (*from..*to).contains(&at));
    assert!((0..LONG).all(|at| is_hole(at) || kept[at] == expected[at]));
    assert!(!lab.root().join("new-alder/dawn/alder-0.flac").exists(), "no half file under its name");
    for number in 1..4 {
        let folder = if number < 2 { "dawn" } else { "nest" };
        let path = lab.root().join(format!("new-alder/{folder}/alder-{number}.flac"));
        assert_eq!(fs::read(path).unwrap(), content("alder", number), "other rows are as well as ever");
    }
}

#[test]
fn a_smaller_disk_will_do_if_all_fits_and_a_too_small_one_is_refused() {
    let lab = synced(2, 2);
    let new = lose(&lab, "alder");
    let (before, text) = ("capacity = \"80 MB\"", lab.pool_text());
    let at = text.find("name = \"alder\"").unwrap();
    let smaller = |size: &str| {
        let tail = text[at..].replacen(before, &format!("capacity = \"{size}\""), 1);
        lab.write_pool_file(&format!("{}{tail}", &text[..at]));
    };
    smaller("2 MB");
    let refused = lab.run(&["rebuild", "alder", "--onto", &new, "--yes"]);
    assert!(refused.code != 0 && refused.stderr.contains("too small"), "{}", refused.stderr);
    smaller("20 MB");
    lab.run(&["rebuild", "alder", "--onto", &new, "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn data_and_parity_disks_are_rebuilt_at_once_up_to_the_number_of_parities() {
    let lab = synced(4, 3);
    let (parity, mut arguments) = (lab.parity[1].clone(), vec!["rebuild".to_string()]);
    let lost = ["alder".to_string(), "cedar".to_string(), parity];
    arguments.extend(lost.iter().cloned());
    for disk in &lost {
        arguments.extend(["--onto".to_string(), lose(&lab, disk)]);
    }
    arguments.push("--yes".into());
    lab.run(&arguments.iter().map(String::as_str).collect::<Vec<_>>()).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["fate", "--lose", "beech,alder,cedar"]).expect(&[0]);
    lab.run(&["drill", "--lose", "beech,alder,cedar"]).expect(&[0]);
}
