//! Guards against a kind of volume that does not do what its name says: spanned, tiered and mirrored volumes, driven as a
//! user would.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::Path;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn write(path: &Path, bytes: &[u8]) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, bytes).unwrap();
}

fn json(lab: &Lab, arguments: &[&str]) -> Value {
    lab.run(arguments).expect(&[0, 1]).json()
}

/// Everything of a folder of the volume, as `get` brings it.
fn got(lab: &Lab, path: &str) -> Vec<u8> {
    let out = lab.root().join("got");
    let _ = fs::remove_dir_all(&out);
    fs::create_dir(&out).unwrap();
    lab.run(&["get", path, "got"]).expect(&[0]);
    fs::read(out.join(Path::new(path).file_name().unwrap())).unwrap()
}

fn spanned() -> (Lab, Vec<u8>) {
    let disks = [("alder", 10), ("beech", 10), ("cedar", 10), ("oak", 20)];
    let volume = "kind = \"spanned\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]";
    let lab = Lab::of(PROGRAM, &disks, volume);
    let mut chance = Chance::new(3);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let (small, large) = (chance.bytes(3_000_000), chance.bytes(16_000_000));
    write(&lab.root().join("card/wren.flac"), &small);
    write(&lab.root().join("card/zz-night.flac"), &large);
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    (lab, large)
}

#[test]
fn a_file_larger_than_any_disk_goes_on_from_one_to_the_next() {
    let (lab, large) = spanned();
    assert!(lab.disk("alder").join("card/wren.flac").is_file(), "what fits stays an ordinary file");
    assert_eq!(got(&lab, "card/zz-night.flac"), large);
    let listing = lab.run(&["ls", "--tree", "--long"]).stdout;
    assert!(listing.contains("alder+beech"), "{listing}");
    // The pieces alone are enough: their contents one after another are the file.
    let mut pieces: Vec<_> = ["alder", "beech", "cedar"]
        .iter()
        .flat_map(|disk| fs::read_dir(lab.disk(disk).join(".zinc-sieve/pieces")).into_iter().flatten())
        .map(|entry| entry.unwrap().path())
        .collect();
    pieces.sort_by_key(|path| path.extension().unwrap().to_owned());
    let mut joined = Vec::new();
    for piece in pieces {
        let bytes = fs::read(piece).unwrap();
        let tail = bytes.len() - 12;
        let length = u32::from_le_bytes(bytes[tail..tail + 4].try_into().unwrap()) as usize;
        let text = String::from_utf8(bytes[tail - length..tail].to_vec()).unwrap();
        assert!(text.contains("path = \"card/zz-night.flac\""), "{text}");
        joined.extend_from_slice(&bytes[..tail - length]);
    }
    assert_eq!(joined, large);
}

#[test]
fn losing_a_disk_of_a_span_costs_only_what_has_a_piece_on_it() {
    let (lab, large) = spanned();
    let fate = json(&lab, &["fate", "--lose", "beech,oak", "--json"]);
    assert_eq!(fate["totals"]["untouched"]["files"], 1, "{fate}");
    assert_eq!(fate["totals"]["torn"]["files"], 1, "{fate}");
    let drill = json(&lab, &["drill", "--lose", "beech", "--json"]);
    assert_eq!(drill["surprises"], serde_json::json!([]));
    fs::remove_dir_all(lab.disk("beech")).unwrap();
    assert_eq!(got(&lab, "card/zz-night.flac"), large, "read from parity before any rebuild");
    fs::create_dir(lab.root().join("new")).unwrap();
    let report = json(&lab, &["rebuild", "beech", "--onto", "new", "--yes", "--json"]);
    assert_eq!(report["predicted"], report["obtained"]);
    assert_eq!(got(&lab, "card/zz-night.flac"), large);
}

#[test]
fn a_removed_file_in_pieces_is_held_and_comes_back() {
    let (lab, large) = spanned();
    lab.run(&["rm", "card/zz-night.flac", "--yes"]).expect(&[0]);
    assert!(!lab.run(&["ls", "--tree"]).stdout.contains("zz-night"));
    lab.run(&["restore", "card/zz-night.flac", "--yes"]).expect(&[0]);
    assert_eq!(got(&lab, "card/zz-night.flac"), large);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_span_is_extended_with_everything_on_it_and_taken_apart() {
    let (lab, large) = spanned();
    fs::create_dir(lab.disk("elm")).unwrap();
    let text = lab.pool_text().replace(
        "[[volume]]",
        &format!(
            "[[disk]]\nname = \"elm\"\npath = \"{}\"\ncapacity = \"20 MB\"\nsimulated = true\n[[volume]]",
            lab.disk("elm").display()
        ),
    );
    lab.write_pool_file(&text);
    lab.run(&["grow", "elm", "--as", "data", "--yes"]).expect(&[0]);
    assert_eq!(got(&lab, "card/zz-night.flac"), large);
    lab.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("elm").join("card/zz-night.flac")).unwrap(), large);
    for disk in ["alder", "beech", "cedar", "elm", "oak"] {
        assert!(!lab.disk(disk).join(".zinc-sieve").exists(), "{disk} is left without a trace");
    }
}

#[test]
fn a_file_in_pieces_that_fits_nowhere_keeps_the_volume_from_being_dissolved() {
    let (lab, large) = spanned();
    let refused = lab.run(&["dissolve", "recordings", "--yes"]);
    assert_eq!(refused.code, 4, "{}", refused.stderr);
    assert!(refused.stderr.contains("no disk has room for all of it"), "{}", refused.stderr);
    assert_eq!(got(&lab, "card/zz-night.flac"), large);
}

/// What a piece says is not believed when its fellows say otherwise.
#[rstest]
#[case("path = \"card/zz-night.flac\"", "path = \"card/other---.flac\"", "claims to belong")]
#[case("path = \"card/zz-night.flac\"", "path = \"../../zz-night.xxx\"", "leads astray")]
#[case("number = 1", "number = 0", "")]
fn a_piece_that_lies_is_told_and_left_alone(#[case] from: &str, #[case] to: &str, #[case] words: &str) {
    let (lab, _) = spanned();
    let folder = lab.disk("beech").join(".zinc-sieve/pieces");
    let piece = fs::read_dir(&folder).unwrap().next().unwrap().unwrap().path();
    let bytes = fs::read(&piece).unwrap();
    let at = bytes.windows(from.len()).rposition(|window| window == from.as_bytes()).unwrap();
    let mut lying = bytes.clone();
    lying[at..at + to.len()].copy_from_slice(to.as_bytes());
    let stranger = folder.join("00000000000000000000000000000000.1");
    fs::write(&stranger, &lying).unwrap();
    let status = lab.run(&["status", "--json"]).expect(&[0, 1, 5]).json();
    let notes = status["notes"].to_string();
    assert!(notes.contains("00000000000000000000000000000000.1"), "{notes}");
    assert!(notes.contains(words), "{notes}");
    assert_eq!(fs::read(&stranger).unwrap(), lying, "it is left alone");
    assert_eq!(fs::read(&piece).unwrap(), bytes);
    let dissolve = lab.run(&["dissolve", "recordings", "--yes"]);
    assert_eq!(dissolve.code, 4, "{}", dissolve.stderr);
    assert!(stranger.exists() && piece.exists(), "nothing of it is taken away");
}

fn mirrored(volume: &str) -> Lab {
    let disks = [("alder", 50), ("beech", 50), ("cedar", 50), ("oak", 80)];
    let lab = Lab::of(PROGRAM, &disks, &format!("kind = \"mirrored\"\n{volume}"));
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(4);
    for number in 0..9 {
        write(&lab.root().join(format!("card/take-{number}.flac")), &chance.bytes(200_000 + number * 1000));
    }
    std::os::unix::fs::symlink("take-1.flac", lab.root().join("card/best")).unwrap();
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

const THREE: &str = "data = [\"alder\", \"beech\", \"cedar\"]";

fn copies(lab: &Lab, path: &str) -> Vec<(String, Vec<u8>)> {
    ["alder", "beech", "cedar", "new"]
        .iter()
        .filter_map(|disk| Some(((*disk).to_string(), fs::read(lab.disk(disk).join(path)).ok()?)))
        .collect()
}

#[test]
fn every_file_of_a_mirror_survives_any_one_disk_without_parity() {
    let lab = mirrored(THREE);
    for number in 0..9 {
        assert_eq!(copies(&lab, &format!("card/take-{number}.flac")).len(), 2);
    }
    let status = json(&lab, &["status", "--json"]);
    assert_eq!(status["guard"][0]["files"], 0, "{status}");
    let any = json(&lab, &["fate", "--any", "1", "--json"]);
    assert!(any.to_string().contains("\"files\":0"), "{any}");
    for disk in ["alder", "beech", "cedar"] {
        let drill = json(&lab, &["drill", "--lose", disk, "--json"]);
        assert_eq!(drill["surprises"], serde_json::json!([]), "{drill}");
    }
    let lost = json(&lab, &["fate", "--lose", "alder,beech", "--json"]);
    let here = (0..9).filter(|n| copies(&lab, &format!("card/take-{n}.flac")).iter().any(|c| c.0 == "cedar"));
    assert_eq!(
        lost["totals"]["untouched"]["files"],
        here.count() as u64 + symlinks_on(&lab, "cedar"),
        "{lost}"
    );
}

fn symlinks_on(lab: &Lab, disk: &str) -> u64 {
    u64::from(lab.disk(disk).join("card/best").is_symlink())
}

#[test]
fn a_lost_member_comes_back_from_the_other_copies() {
    let lab = mirrored(THREE);
    fs::remove_dir_all(lab.disk("beech")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    let before: Vec<_> = (0..9).map(|n| got(&lab, &format!("card/take-{n}.flac"))).collect();
    let report = json(&lab, &["rebuild", "beech", "--onto", "new", "--yes", "--json"]);
    assert_eq!(report["predicted"], report["obtained"], "{report}");
    for (number, bytes) in before.iter().enumerate() {
        let all = copies(&lab, &format!("card/take-{number}.flac"));
        assert_eq!(all.len(), 2);
        assert!(all.iter().all(|(_, copy)| copy == bytes));
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_member_that_was_away_is_brought_up_to_date_by_difference() {
    let lab = mirrored("data = [\"alder\", \"beech\"]");
    fs::rename(lab.disk("beech"), lab.root().join("away")).unwrap();
    write(&lab.root().join("more/owl.flac"), b"came while beech was away");
    let put = lab.run(&["put", "more", "/", "--yes"]).expect(&[0]);
    assert!(put.stdout.contains("They are on one disk alone"), "{}", put.stdout);
    write(&lab.disk("alder").join("card/take-3.flac"), b"edited while beech was away");
    lab.run(&["status"]).expect(&[1]);
    fs::rename(lab.root().join("away"), lab.disk("beech")).unwrap();
    let plan = lab.run(&["sync", "--dry-run"]).expect(&[0]).stdout;
    assert!(plan.contains("are missing") && plan.contains("are outdated"), "{plan}");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("beech").join("more/owl.flac")).unwrap(), b"came while beech was away");
    assert_eq!(fs::read(lab.disk("beech").join("card/take-3.flac")).unwrap(), b"edited while beech was away");
    assert_eq!(json(&lab, &["status", "--json"])["guard"][0]["files"], 0);
    write(&lab.root().join("last/wren.flac"), b"came when both were there");
    let put = lab.run(&["put", "last", "/", "--yes"]).expect(&[0]);
    assert!(put.stdout.contains("Each on the disks is on 2 of them."), "{}", put.stdout);
}

#[test]
fn copies_that_went_separate_ways_are_told_and_both_kept() {
    let lab = mirrored("data = [\"alder\", \"beech\"]");
    write(&lab.disk("alder").join("card/take-3.flac"), b"one edit");
    write(&lab.disk("beech").join("card/take-3.flac"), b"another edit");
    let sync = lab.run(&["sync", "--yes"]);
    assert_eq!(sync.code, 1, "{}", sync.stderr);
    assert!(sync.stdout.contains("went separate ways"), "{}", sync.stdout);
    assert_eq!(fs::read(lab.disk("alder").join("card/take-3.flac")).unwrap(), b"one edit");
    assert_eq!(fs::read(lab.disk("beech").join("card/take-3.flac")).unwrap(), b"another edit");
    let refused = lab.run(&["get", "card/take-3.flac", "."]);
    assert!(refused.stderr.contains("lies on two disks"), "{}", refused.stderr);
    lab.run(&["get", "card/take-3.flac", ".", "--disk", "beech"]).expect(&[0]);
    assert_eq!(json(&lab, &["status", "--json"])["conflicts"][0]["path"], "card/take-3.flac");
    // Later syncs do not decide either, until their owner has.
    assert_eq!(lab.run(&["sync", "--yes"]).code, 1);
    assert_eq!(fs::read(lab.disk("alder").join("card/take-3.flac")).unwrap(), b"one edit");
    fs::copy(lab.disk("beech").join("card/take-3.flac"), lab.disk("alder").join("card/take-3.flac")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(json(&lab, &["status", "--json"])["conflicts"], serde_json::json!([]));
}

#[test]
fn a_copy_that_was_deleted_by_its_owner_is_not_made_again_unasked() {
    let lab = mirrored("data = [\"alder\", \"beech\"]");
    fs::remove_file(lab.disk("alder").join("card/take-2.flac")).unwrap();
    for _ in 0..2 {
        let sync = lab.run(&["sync", "--yes"]);
        assert!(sync.stdout.contains("removed behind our back"), "{}", sync.stdout);
        assert!(!lab.disk("alder").join("card/take-2.flac").exists());
        assert!(lab.disk("beech").join("card/take-2.flac").exists());
    }
    lab.run(&["rm", "card/take-2.flac", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
}

#[test]
fn a_damaged_copy_is_passed_over_when_a_file_is_read() {
    let lab = mirrored("data = [\"alder\", \"beech\"]");
    let expected = fs::read(lab.root().join("card/take-5.flac")).unwrap();
    lab.rot(&lab.disk("alder").join("card/take-5.flac"), 777);
    assert_eq!(got(&lab, "card/take-5.flac"), expected);
    // And mended from the other one, without any parity.
    lab.run(&["verify"]).expect(&[1]);
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("alder").join("card/take-5.flac")).unwrap(), expected);
}

#[test]
fn a_mirror_may_carry_parity_as_well() {
    let lab = mirrored("data = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]");
    let status = json(&lab, &["status", "--json"]);
    let levels = status["guard"].as_array().unwrap();
    assert!(levels[0]["files"] == 0, "{status}");
    let check = lab.run(&["check"]);
    assert!(check.stdout.contains("parity is pointless"), "{}", check.stdout);
    for lose in ["alder,beech", "beech,cedar", "alder,oak"] {
        let drill = json(&lab, &["drill", "--lose", lose, "--json"]);
        assert_eq!(drill["surprises"], serde_json::json!([]), "{lose}: {drill}");
    }
}

fn tiered() -> Lab {
    let disks = [("flint", 10), ("beech", 60), ("oak", 60)];
    let volume = "kind = \"tiered\"\ndata = [\"flint\", \"beech\"]\nfast = [\"flint\"]\nparity = [\"oak\"]\nreserve = \"10 %\"\n[[volume.folder]]\npath = \"scans\"\npin = \"slow\"\n[[volume.folder]]\npath = \"index\"\npin = \"fast\"";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(5);
    for number in 0..5 {
        write(&lab.root().join(format!("dawn/take-{number}.flac")), &chance.bytes(2_000_000));
    }
    write(&lab.root().join("scans/fern.tif"), &chance.bytes(100_000));
    lab.run(&["put", "dawn", "scans", "/", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

#[test]
fn new_data_lands_on_the_fast_disk_while_its_reserve_is_free() {
    let lab = tiered();
    let on =
        |disk: &str| (0..5).filter(|n| lab.disk(disk).join(format!("dawn/take-{n}.flac")).exists()).count();
    assert_eq!((on("flint"), on("beech")), (4, 1));
    assert!(lab.disk("beech").join("scans/fern.tif").exists(), "pinned to the slow one");
}

#[test]
fn what_is_used_often_rises_and_settles_there() {
    let lab = tiered();
    let before = fs::read(lab.root().join("dawn/take-4.flac")).unwrap();
    for number in 0..6 {
        fs::create_dir(lab.root().join(format!("read-{number}"))).unwrap();
        lab.run(&["get", "dawn/take-4.flac", &format!("read-{number}")]).expect(&[0]);
    }
    let plan = json(&lab, &["settle", "--dry-run", "--json"]);
    let tiers = &plan["tiers"];
    let share = |key: &str| tiers[key].as_f64().unwrap();
    assert!(share("fast_reads_share_after_sync") > share("fast_reads_share_before"), "{plan}");
    for _ in 0..2 {
        lab.run(&["settle", "--then-sync", "--yes"]).expect(&[0]);
    }
    assert!(lab.disk("flint").join("dawn/take-4.flac").exists());
    assert_eq!(got(&lab, "dawn/take-4.flac"), before);
    let again = json(&lab, &["settle", "--dry-run", "--json"]);
    assert_eq!(again["files"], serde_json::json!([]), "it comes to rest");
    assert_eq!(json(&lab, &["status", "--json"])["guard"][0]["files"], 0);
    lab.run(&["verify"]).expect(&[0]);
}

/// What leaves the fast disks is held there until a sync and frees nothing: settling again and again without one must not
/// push more and more down, and what is told for later comes true.
#[test]
fn settling_again_without_a_sync_does_not_empty_the_fast_disks() {
    let lab = tiered();
    for (file, times) in [(0, 3), (1, 4), (2, 4), (4, 12)] {
        for number in 0..times {
            let to = format!("read-{file}-{number}");
            fs::create_dir(lab.root().join(&to)).unwrap();
            lab.run(&["get", &format!("dawn/take-{file}.flac"), &to]).expect(&[0]);
        }
    }
    let plan = || json(&lab, &["settle", "--dry-run", "--json"]);
    let share = |plan: &serde_json::Value, key: &str| plan["tiers"][key].as_f64().unwrap();
    let on_fast =
        || (0..5).filter(|n| lab.disk("flint").join(format!("dawn/take-{n}.flac")).exists()).count();
    let first = plan();
    assert!(
        share(&first, "fast_reads_share_after_sync") > share(&first, "fast_reads_share_before"),
        "{first}"
    );
    lab.run(&["settle", "--yes"]).expect(&[0]);
    let (second, left) = (plan(), on_fast());
    assert!(
        (share(&second, "fast_reads_share_before") - share(&first, "fast_reads_share_after")).abs() < 0.02,
        "{second}"
    );
    for _ in 0..4 {
        lab.run(&["settle", "--yes"]).expect(&[0]);
        assert_eq!(on_fast(), left, "nothing more leaves before a sync");
    }
    assert!(
        (share(&plan(), "fast_reads_share_before") - share(&second, "fast_reads_share_before")).abs() < 0.02
    );
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["settle", "--yes"]).expect(&[0]);
    let last = plan();
    assert!(
        (share(&last, "fast_reads_share_before") - share(&first, "fast_reads_share_after_sync")).abs() < 0.02,
        "{last}"
    );
    assert_eq!(
        share(&last, "fast_reads_share_before").to_bits(),
        share(&last, "fast_reads_share_after_sync").to_bits()
    );
}

#[test]
fn a_pin_moves_what_lies_elsewhere() {
    let lab = tiered();
    write(&lab.disk("beech").join("index/all.txt"), b"put there directly");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["settle", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("flint").join("index/all.txt")).unwrap(), b"put there directly");
    assert!(!lab.disk("beech").join("index/all.txt").exists());
}

#[test]
fn a_tier_that_is_away_makes_the_volume_degraded_and_comes_back() {
    let lab = tiered();
    fs::rename(lab.disk("flint"), lab.root().join("away")).unwrap();
    let fate = json(&lab, &["fate", "--lose", "oak", "--json"]);
    assert_eq!(fate["totals"]["untouched"]["files"], 2, "{fate}");
    assert_eq!(got(&lab, "dawn/take-0.flac"), fs::read(lab.root().join("dawn/take-0.flac")).unwrap());
    fs::rename(lab.root().join("away"), lab.disk("flint")).unwrap();
    lab.run(&["status"]).expect(&[0]);
    lab.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
    assert!(lab.disk("flint").join("dawn/take-0.flac").exists());
}
