//! Guards against a pool file that speaks of another pool than the labels do, and against "all is well" where nothing is known.
//!
//! Holds I5.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// Two data disks with a file each and a parity disk, synced.
fn synced() -> Lab {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (number, disk) in ["alder", "beech"].into_iter().enumerate() {
        fs::create_dir(lab.disk(disk).join("dawn")).unwrap();
        let bytes = Chance::new(number as u64).bytes(300_000);
        fs::write(lab.disk(disk).join(format!("dawn/{disk}.flac")), bytes).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

fn edit(lab: &Lab, from: &str, to: &str) {
    assert!(lab.pool_text().contains(from), "{}", lab.pool_text());
    lab.write_pool_file(&lab.pool_text().replace(from, to));
}

fn label(lab: &Lab, disk: &str) -> String {
    fs::read_to_string(lab.disk(disk).join(".zinc-sieve/label.toml")).unwrap()
}

#[test]
fn a_volume_that_is_renamed_in_the_pool_file_is_the_same_volume() {
    let lab = synced();
    edit(&lab, "name = \"recordings\"", "name = \"songs\"");
    // Who reads follows it, and changes nothing.
    for _ in 0..2 {
        let run = lab.run(&["status"]).expect(&[0]);
        assert!(run.stdout.contains("calls volume recordings songs now"), "{}", run.stdout);
        let fate = lab.run(&["fate", "--lose", "alder", "--volume", "songs", "--json"]).expect(&[0]).json();
        assert_eq!(fate["totals"]["rebuilt"]["files"], 1);
        assert_eq!(fate["totals"]["untouched"]["files"], 1);
    }
    assert!(label(&lab, "alder").contains("volume = \"recordings\""));
    // Who writes makes it so, everywhere.
    fs::write(lab.disk("alder").join("dawn/new.flac"), b"new").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech", "oak"] {
        assert!(label(&lab, disk).contains("volume = \"songs\""), "{}", label(&lab, disk));
    }
    let run = lab.run(&["status"]).expect(&[0]);
    assert!(!run.stdout.contains("recordings"), "{}", run.stdout);
    lab.run(&["verify", "--yes"]).expect(&[0]);
    // And what is rebuilt is what was guarded under the old name.
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    fs::create_dir(&onto).unwrap();
    lab.run(&["rebuild", "alder", "--onto", &onto, "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.root().join("new/dawn/alder.flac")).unwrap(), Chance::new(0).bytes(300_000));
    // Another machine takes it from the disks alone.
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    fs::remove_file(lab.pool_file()).unwrap();
    lab.run(&["adopt", &onto, "beech", "oak", "--yes"]).expect(&[0]);
    lab.run(&["ls", "--volume", "songs"]).expect(&[0]);
}

#[test]
fn a_disk_or_a_pool_that_is_renamed_in_the_pool_file_is_the_same() {
    let lab = synced();
    edit(&lab, "\"beech\"", "\"rowan\"");
    edit(&lab, "name = \"fernhollow\"", "name = \"birdsongs\"");
    let run = lab.run(&["status"]).expect(&[0]);
    assert!(run.stdout.contains("calls disk beech rowan now"), "{}", run.stdout);
    assert!(run.stdout.contains("calls pool fernhollow birdsongs now"), "{}", run.stdout);
    fs::write(lab.disk("alder").join("dawn/new.flac"), b"new").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let text = label(&lab, "beech");
    assert!(text.contains("disk_name = \"rowan\"") && text.contains("pool_name = \"birdsongs\""), "{text}");
    let fate = lab.run(&["fate", "--lose", "rowan", "--json"]).expect(&[0]).json();
    assert_eq!(fate["totals"]["rebuilt"]["files"], 1);
    lab.run(&["drill", "--lose", "rowan"]).expect(&[0]);
}

#[rstest]
#[case::kind("kind = \"unstriped\"", "kind = \"spanned\"", &["was built unstriped", "kind = \"unstriped\""])]
#[case::parity_line("parity = [\"oak\"]", "", &["oak is a parity disk of volume recordings", "zinc-sieve vacate oak"])]
#[case::data_disk("data = [\"alder\", \"beech\"]", "data = [\"alder\"]", &["beech is a data disk", "zinc-sieve rebuild beech"])]
#[case::role("data = [\"alder\", \"beech\"]\nparity = [\"oak\"]", "data = [\"alder\", \"oak\"]\nparity = [\"beech\"]", &["has it as data of recordings"])]
#[case::another_volume(
    "name = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\"]",
    "name = \"one\"\ndata = [\"alder\"]\n[[volume]]\nname = \"two\"\ndata = [\"beech\"]",
    &["beech is a data disk of volume one, and the pool file has it as data of two"]
)]
fn what_contradicts_the_labels_stops_every_command_with_what_to_type(
    #[case] from: &str,
    #[case] to: &str,
    #[case] words: &[&str],
) {
    let lab = synced();
    let text = lab.pool_text();
    edit(&lab, from, to);
    for command in [
        &["status"][..],
        &["fate", "--lose", "alder"],
        &["verify"],
        &["ls"],
        &["sync", "--yes"],
        &["rm", "dawn/alder.flac", "--yes"],
    ] {
        let run = lab.run(command).expect(&[4]);
        for word in words {
            assert!(run.stderr.contains(word), "{command:?}: {word}: {}", run.stderr);
        }
        assert!(!run.stdout.contains("survives") && !run.stdout.contains("all is well"), "{}", run.stdout);
    }
    let check = lab.run(&["check"]).expect(&[1]);
    assert!(words.iter().all(|word| check.stdout.contains(word)), "{}", check.stdout);
    assert!(lab.disk("alder").join("dawn/alder.flac").exists());
    // As it was, all is as it was.
    lab.write_pool_file(&text);
    lab.run(&["status"]).expect(&[0]);
}

#[test]
fn nothing_is_said_to_survive_where_there_is_nothing() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for command in [&["status"][..], &["fate", "--lose", "alder"], &["sync", "--yes"], &["sync", "--yes"]] {
        let run = lab.run(command).expect(&[0]);
        for words in ["all is well", "very file survives", "is guarded now"] {
            assert!(!run.stdout.contains(words), "{command:?}: {}", run.stdout);
        }
    }
    let status = lab.run(&["status"]).expect(&[0]);
    assert!(status.stdout.contains("there are no files in it"), "{}", status.stdout);
}

#[test]
fn a_glance_tells_what_is_well_what_waits_and_what_needs_somebody() {
    let lab = synced();
    let verdict = |lab: &Lab, code: i32| {
        lab.run(&["status"]).expect(&[code]);
        lab.run(&["status", "--json"]).expect(&[code]).json()["verdict"].clone()
    };
    assert_eq!(verdict(&lab, 0), "well");
    fs::write(lab.disk("alder").join("dawn/new.flac"), b"new").unwrap();
    assert_eq!(verdict(&lab, 5), "waits");
    let status = lab.run(&["status"]).expect(&[5]);
    assert!(status.stdout.contains("something waits: 1 file, 3 B for a sync"), "{}", status.stdout);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    // A change of rights over a tree is something to read, not a loss.
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(lab.disk("alder").join("dawn/alder.flac"), PermissionsExt::from_mode(0o600)).unwrap();
    assert_eq!(verdict(&lab, 5), "waits");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("beech")).unwrap();
    fs::create_dir(lab.disk("beech")).unwrap();
    assert_eq!(verdict(&lab, 1), "act-now");
    let status = lab.run(&["status"]).expect(&[1]);
    for words in [
        "act now: nothing is lost so far",
        "One more loss would cost 2 files, 600 kB at worst (alder).",
        "beech is missing",
        "nothing is mounted there",
        "if it comes back: mount it at",
        "if it is dead: zinc-sieve fate --lose beech, then zinc-sieve rebuild beech",
    ] {
        assert!(status.stdout.contains(words), "{words}: {}", status.stdout);
    }
}

#[test]
fn a_volume_that_is_unguarded_on_purpose_can_be_well() {
    let lab = Lab::of(
        PROGRAM,
        &[("alder", 40), ("beech", 40)],
        "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]",
    );
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/wren.flac"), Chance::new(1).bytes(500_000)).unwrap();
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let status = lab.run(&["status"]).expect(&[0]);
    assert!(
        status.stdout.contains("all is well") && status.stdout.contains("on purpose"),
        "{}",
        status.stdout
    );
}

#[test]
fn a_folder_where_nothing_is_mounted_becomes_no_member_unless_it_is_meant() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    edit(&lab, "simulated = true\n", "");
    let run = lab.run(&["create", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("nothing is mounted at"), "{}", run.stderr);
    assert!(run.stderr.contains("shares_filesystem = true"), "{}", run.stderr);
    assert!(!lab.disk("alder").join(".zinc-sieve").exists());
    let check = lab.run(&["check"]).expect(&[1]);
    assert!(check.stdout.contains("nothing is mounted at"), "{}", check.stdout);
    edit(&lab, "capacity = ", "shares_filesystem = true\ncapacity = ");
    lab.run(&["create", "--yes"]).expect(&[0]);
}

#[test]
fn the_place_of_a_disk_is_no_folder_of_the_volume() {
    let lab = synced();
    fs::write(lab.root().join("owl.flac"), b"owl").unwrap();
    let place = lab.disk("alder").join("dawn").display().to_string();
    let run = lab.run(&["put", "owl.flac", &place, "--yes"]).expect(&[2]);
    assert!(
        run.stderr.contains("is the place of disk alder") && run.stderr.contains("such as dawn"),
        "{}",
        run.stderr
    );
    lab.run(&["put", "owl.flac", "/dawn", "--yes"]).expect(&[0]);
}

/// A catalogue of before a volume had its id takes the one that the labels have: with a new one the disks would be strangers.
#[test]
fn a_volume_keeps_the_id_that_its_labels_have() {
    let lab = synced();
    let id = |disk: &str| {
        label(&lab, disk).lines().find(|line| line.starts_with("volume_id")).unwrap().to_string()
    };
    let before = id("alder");
    let catalogue = rusqlite::Connection::open(lab.root().join(".zinc-sieve/catalogue.sqlite")).unwrap();
    assert_eq!(catalogue.execute("DELETE FROM meta WHERE key LIKE 'volume-%'", []).unwrap(), 2);
    drop(catalogue);
    fs::rename(lab.disk("beech"), lab.root().join("away")).unwrap();
    fs::write(lab.root().join("owl.flac"), b"owl").unwrap();
    lab.run(&["put", "owl.flac", "/", "--yes"]).expect(&[0]);
    fs::rename(lab.root().join("away"), lab.disk("beech")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(["alder", "beech", "oak"].iter().all(|disk| id(disk) == before));
}
