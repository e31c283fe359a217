//! Guards against a file that is lost, changed or guarded less while it goes from one volume to another.
//!
//! Holds L1, L2 and L8.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use rstest::rstest;
use sieve_testkit::{Chance, Lab, paths};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const FIRST: [&str; 3] = ["alder", "beech", "cedar"];
const SECOND: [&str; 3] = ["elm", "fir", "hazel"];

/// The text of a volume of three data disks and a parity disk; "cached" is an unstriped one with a cache.
fn text(kind: &str, data: [&str; 3], parity: &str, cache: &str) -> String {
    let named = if kind == "cached" { "unstriped" } else { kind };
    let more = match kind {
        "tiered" => format!("fast = [\"{}\"]\n", data[0]),
        "cached" => format!("cache = [\"{cache}\"]\n"),
        _ => String::new(),
    };
    format!("kind = \"{named}\"\ndata = {data:?}\nparity = [\"{parity}\"]\n{more}")
}

/// Two volumes; the first holds files of all lengths, names and rights, synced.
fn two_volumes(from: &str, to: &str) -> Lab {
    let names = FIRST.iter().chain(&SECOND).chain(&["oak", "pine", "wren", "robin"]);
    let is_parity = |name: &str| ["oak", "pine"].contains(&name);
    let disks: Vec<_> = names.map(|name| (*name, if is_parity(name) { 10 } else { 6 })).collect();
    let second = text(to, SECOND, "pine", "robin");
    let first = text(from, FIRST, "oak", "wren");
    let lab = Lab::of(PROGRAM, &disks, &format!("{first}\n[[volume]]\nname = \"archive\"\n{second}"));
    lab.run(&["create", "--yes"]).expect(&[0]);
    let source = lab.root().join("source/dawn");
    for (number, size) in [0, 1, 4096, 70_001, 900_000, 20_000, 5].into_iter().enumerate() {
        let folder = source.join(["wren", "Nest, #2", "\u{1f426}"][number % 3]);
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join(format!("take {number}\\.flac")), Chance::new(number as u64).bytes(size))
            .unwrap();
    }
    if from == "spanned" || to == "spanned" {
        // Larger than a disk of 6 MB has free: it lies in pieces where that is allowed.
        let large = Chance::new(99).bytes(if from == to { 9_000_000 } else { 4_000_000 });
        fs::write(source.join("long.mkv"), large).unwrap();
    }
    fs::create_dir(source.join("an empty folder")).unwrap();
    fs::hard_link(source.join("wren/take 0\\.flac"), source.join("again.flac")).unwrap();
    std::os::unix::fs::symlink("../dawn", source.join("link")).unwrap();
    let source = source.display().to_string();
    lab.run(&["put", &source, ".", "--volume", "recordings", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

/// What a volume holds, as it gives it out.
fn given(lab: &Lab, volume: &str) -> BTreeMap<Vec<u8>, Vec<u8>> {
    let out = lab.root().join("out");
    let _ = fs::remove_dir_all(&out);
    fs::create_dir(&out).unwrap();
    let run = lab.run(&["get", "dawn", &out.display().to_string(), "--volume", volume]);
    assert!([0, 2].contains(&run.code), "{}", run.stderr);
    let content = |path: &Path| match fs::read_link(path) {
        Ok(target) => target.display().to_string().into_bytes(),
        Err(_) => fs::read(path).unwrap_or_default(),
    };
    let name = |path: Vec<u8>| String::from_utf8(path).unwrap();
    paths(&out).into_iter().map(|path| (path.clone(), content(&out.join(name(path))))).collect()
}

/// How many disks may die before each file that has bytes is lost, in whichever volume it is guarded best.
fn guards(lab: &Lab) -> BTreeMap<String, u64> {
    let mut best = BTreeMap::new();
    let answer = lab.run(&["fate", "--lose", "oak", "--json"]).expect(&[0, 1]).json();
    for file in answer["files"].as_array().unwrap().iter().filter(|file| file["size_bytes"] != 0) {
        let (path, guard) = (file["path"].as_str().unwrap().to_string(), file["guard"].as_u64().unwrap());
        let known = best.entry(path).or_insert(guard);
        *known = guard.max(*known);
    }
    best
}

#[rstest]
fn every_file_arrives_as_it_was(
    #[values("unstriped", "spanned", "tiered", "mirrored", "cached")] from: &str,
    #[values("unstriped", "spanned", "tiered", "mirrored", "cached")] to: &str,
) {
    let lab = two_volumes(from, to);
    let (before, guarded) = (given(&lab, "recordings"), guards(&lab));
    assert!(before.len() > 10, "{before:?}");
    lab.run(&["move", "dawn", "--volume", "archive", "--yes"]).expect(&[0]);
    assert_eq!(given(&lab, "archive"), before);
    assert!(given(&lab, "recordings").is_empty());
    let then = guards(&lab);
    for (path, guard) in &guarded {
        let least = if from == "mirrored" && to != "mirrored" { 1 } else { *guard };
        assert!(then[path] >= least, "{path}: {then:?}, before {guarded:?}");
    }
    // What left is held until the next sync, and a sync after that finds nothing to do.
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(lab.run(&["sync", "--yes"]).expect(&[0]).stdout.contains("Nothing"), "{from} to {to}");
    lab.run(&["verify"]).expect(&[0]);
    let status = lab.run(&["status", "--json"]).expect(&[0]).json();
    assert_eq!(status["verdict"], "well", "{status}");
    assert_eq!(given(&lab, "archive"), before);
}

#[rstest]
#[case("unstriped", "mirrored", 1)]
#[case("spanned", "spanned", 2)]
#[case("cached", "tiered", 3)]
fn a_kill_at_any_moment_leaves_every_file_whole_and_guarded(
    #[case] from: &str,
    #[case] to: &str,
    #[case] seed: u64,
) {
    let lab = two_volumes(from, to);
    let (before, guarded) = (given(&lab, "recordings"), guards(&lab));
    let mut chance = Chance::new(seed);
    for _ in 0..4 {
        let mut command = lab.command(&["move", "dawn", "--volume", "archive", "--yes"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        std::thread::sleep(Duration::from_micros(chance.below(600_000) as u64));
        child.kill().unwrap();
        child.wait().unwrap();
        lab.run(&["status"]);
        let mut there = given(&lab, "recordings");
        for (path, content) in given(&lab, "archive") {
            assert!(there.insert(path, content.clone()).is_none_or(|other| other == content));
        }
        assert_eq!(there, before);
        let now = guards(&lab);
        assert!(guarded.iter().all(|(path, guard)| now[path] >= *guard), "{now:?}, before {guarded:?}");
    }
    let left = lab.run(&["move", "dawn", "--volume", "archive", "--yes"]);
    assert!(left.code == 0 || left.stderr.contains("in archive already"), "{}{}", left.stdout, left.stderr);
    assert_eq!(given(&lab, "archive"), before);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn what_rotted_or_came_meanwhile_stays_and_is_told() {
    let lab = two_volumes("unstriped", "unstriped");
    let place = FIRST.map(|disk| lab.disk(disk).join("dawn/wren/take 3\\.flac"));
    let place = place.iter().find(|path| path.exists()).unwrap();
    lab.rot(place, 5_000);
    let run = lab.run(&["move", "dawn", "--volume", "archive", "--yes"]).expect(&[3]);
    assert!(run.stderr.contains("damaged") && run.stderr.contains("verify --mend"), "{}", run.stderr);
    let found = SECOND.map(|disk| lab.disk(disk).join("dawn/wren/take 3\\.flac"));
    assert!(found.iter().all(|path| !path.exists()));
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0]);
    lab.run(&["move", "dawn", "--volume", "archive", "--yes"]).expect(&[0]);

    // A name that has another content there is in the way before anything is copied.
    fs::create_dir_all(lab.disk("alder").join("dawn/wren")).unwrap();
    fs::write(lab.disk("alder").join("dawn/wren/take 3\\.flac"), b"another take").unwrap();
    let run =
        lab.run(&["move", "dawn/wren", "--from", "recordings", "--volume", "archive", "--yes"]).expect(&[4]);
    assert!(
        run.stderr.contains("these names are taken") && !run.stderr.contains("--replace"),
        "{}",
        run.stderr
    );
}

#[test]
fn the_volumes_are_found_by_what_they_hold() {
    let lab = two_volumes("unstriped", "unstriped");
    let says = |arguments: &[&str], text: &str| {
        let run = lab.run(arguments).expect(&[2]);
        assert!(run.stderr.contains(text), "{}", run.stderr);
    };
    says(&["move", "nothing", "--volume", "archive", "--yes"], "there is no nothing");
    says(&["move", "dawn", "--volume", "recordings", "--yes"], "is in recordings already");
    says(&["move", "dawn", "--yes"], "--to");
    says(&["move", ".zinc-sieve", "--volume", "archive", "--yes"], "");
    says(&["move", "dawn", "--volume", "archive", "--to", "alder", "--yes"], "there is no data disk `alder`");
    let plan = lab.run(&["move", "dawn/wren", "--to", "fir", "--dry-run", "--json"]).expect(&[0]).json();
    assert_eq!((&plan["from"], &plan["to"]), (&"recordings".into(), &"archive".into()), "{plan}");
    assert!(plan["files"].as_array().unwrap().iter().all(|file| file["disks"][0] == "fir"), "{plan}");
    fs::create_dir_all(lab.disk("fir").join("dawn/wren")).unwrap();
    says(&["move", "dawn/wren", "--volume", "archive", "--from", "archive", "--yes"], "already");
    // Within a volume as before.
    lab.run(&["move", "dawn/wren", "--from", "recordings", "--to", "alder", "--dry-run"]).expect(&[0]);
}

#[test]
fn one_more_volume_comes_to_a_pool_that_is_there() {
    let lab = Lab::new(PROGRAM, 2, 1, "20 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("wren.flac"), Chance::new(3).bytes(90_000)).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let again = lab.run(&["create", "--yes"]).expect(&[4]);
    assert!(again.stderr.contains("with every volume that the pool file has"), "{}", again.stderr);

    let mut more = String::new();
    for name in ["fir", "pine"] {
        fs::create_dir(lab.disk(name)).unwrap();
        let path = lab.disk(name).display().to_string();
        more += &format!(
            "\n[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"20 MB\"\nsimulated = true\n"
        );
    }
    more += "\n[[volume]]\nname = \"archive\"\ndata = [\"fir\"]\nparity = [\"pine\"]\n";
    lab.write_pool_file(&(lab.pool_text() + &more));
    fs::write(lab.disk("fir").join("old.flac"), Chance::new(4).bytes(80_000)).unwrap();
    assert!(lab.run(&["status"]).stdout.contains("zinc-sieve create"));

    // A disk that belongs to somebody is none for it, and nothing was made then.
    let label = lab.disk("alder").join(".zinc-sieve/label.toml");
    fs::create_dir(lab.disk("pine").join(".zinc-sieve")).unwrap();
    fs::copy(&label, lab.disk("pine").join(".zinc-sieve/label.toml")).unwrap();
    let refused = lab.run(&["create", "--yes"]);
    assert!(refused.code != 0 && refused.stderr.contains("pine"), "{}", refused.stderr);
    assert!(!lab.disk("fir").join(".zinc-sieve/label.toml").exists());
    fs::remove_dir_all(lab.disk("pine").join(".zinc-sieve")).unwrap();

    // A parity disk that is smaller than a data disk would leave its end unguarded.
    let text = lab.pool_text();
    let cut = text.rfind("capacity = \"20 MB\"").unwrap();
    lab.write_pool_file(&format!("{}capacity = \"10 MB\"{}", &text[..cut], &text[cut + 18..]));
    let refused = lab.run(&["create", "--yes"]);
    assert!(refused.code != 0 && refused.stderr.contains("pine"), "{}", refused.stderr);
    assert!(!lab.disk("fir").join(".zinc-sieve").exists());
    lab.write_pool_file(&text);

    let made = lab.run(&["create", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!((&made["adds"][0], &made["disks"][0]["kept_files"]), (&"archive".into(), &1.into()), "{made}");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let fates = lab.run(&["fate", "--lose", "fir,alder", "--json"]).expect(&[0]).json();
    assert!(fates["files"].as_array().unwrap().iter().all(|file| file["fate"] == "rebuilt"), "{fates}");
    for disk in ["fir", "alder"] {
        lab.run(&["drill", "--lose", disk]).expect(&[0]);
    }
    lab.run(&["verify"]).expect(&[0]);

    // The home is lost: both volumes come back from the disks alone.
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    let status = lab.run(&["status", "--json"]).expect(&[0]).json();
    assert_eq!(status["volumes"].as_array().unwrap().len(), 2, "{status}");
}

/// What an interrupted put left is whole and the same under its name: on every disk that is to have it, or in pieces.
#[rstest]
#[case("mirrored")]
#[case("spanned")]
#[case("unstriped")]
fn the_same_put_again_passes_over_what_is_there(#[case] kind: &str) {
    let lab = two_volumes(kind, if kind == "spanned" { "spanned" } else { "unstriped" });
    let source = lab.root().join("source/dawn");
    let again = ["put", source.to_str().unwrap(), ".", "--volume", "recordings", "--yes", "--json"];
    let report = lab.run(&again).expect(&[0]).json();
    let names = if kind == "spanned" { 10 } else { 9 };
    assert_eq!(
        (&report["there_already"], &report["by_disk"]["alder"]["files"]),
        (&names.into(), &0.into()),
        "{report}"
    );

    // Another content of the same size and time is not the same: nothing is copied, and it is told.
    let path = source.join("wren/take 3\\.flac");
    let time = fs::metadata(&path).unwrap().modified().unwrap();
    fs::write(&path, vec![7; 70_001]).unwrap();
    fs::File::options().write(true).open(&path).unwrap().set_modified(time).unwrap();
    let run = lab.run(&again).expect(&[4]);
    assert!(run.stderr.contains("these names are taken") && run.stderr.contains("take 3"), "{}", run.stderr);
}
