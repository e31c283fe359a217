//! Guards against a cache that costs a file, or stands in the way: landings, overflow, settling, held copies.
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

fn lab(caches: &str) -> Lab {
    let disks = [("alder", 60), ("beech", 60), ("oak", 80), ("flint", 20), ("jasper", 20)];
    let volume = format!(
        "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n{caches}\n[[volume.folder]]\npath = \"scans\"\nlanding = \"disks\"\n[[volume.folder]]\npath = \"index\"\nlanding = \"stay\""
    );
    let lab = Lab::of(PROGRAM, &disks, &volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab
}

const ONE: &str = "cache = [\"flint\"]\nreserve = \"4 MB\"";
const MIRRORED: &str = "cache = [\"flint\", \"jasper\"]\ncache_copies = 2\nreserve = \"4 MB\"";

fn put(lab: &Lab, folder: &str, count: usize, size: usize) {
    let mut chance = Chance::new(count as u64);
    for number in 0..count {
        write(&lab.root().join(folder).join(format!("clip-{number:02}.mkv")), &chance.bytes(size));
    }
    lab.run(&["put", folder, "/", "--yes"]).expect(&[0]);
}

fn files(lab: &Lab, disk: &str, folder: &str) -> usize {
    let listed = fs::read_dir(lab.disk(disk).join(folder)).into_iter().flatten().flatten();
    listed.filter(|entry| entry.path().is_file()).count()
}

fn json(lab: &Lab, arguments: &[&str]) -> Value {
    lab.run(arguments).expect(&[0, 1, 5]).json()
}

#[test]
fn folders_land_where_their_owner_wants_them() {
    let lab = lab(ONE);
    put(&lab, "nest", 3, 100_000);
    put(&lab, "scans", 3, 100_000);
    put(&lab, "index", 3, 100_000);
    assert_eq!(files(&lab, "flint", "nest"), 3);
    assert_eq!(files(&lab, "flint", "scans"), 0);
    assert_eq!(files(&lab, "flint", "index"), 3);
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert_eq!(files(&lab, "flint", "nest"), 0);
    assert_eq!(files(&lab, "alder", "nest") + files(&lab, "beech", "nest"), 3);
    assert_eq!(files(&lab, "flint", "index"), 3, "it stays for good");
}

#[test]
fn a_full_cache_overflows_to_the_disks_by_itself() {
    let lab = lab(ONE);
    put(&lab, "nest", 8, 3_000_000);
    assert_eq!(files(&lab, "flint", "nest"), 5, "the reserve of 4 MB stays free");
    assert_eq!(files(&lab, "alder", "nest") + files(&lab, "beech", "nest"), 3);
    put(&lab, "large", 1, 25_000_000);
    assert_eq!(files(&lab, "flint", "large"), 0, "larger than what is free on the cache");
}

#[test]
fn what_is_copied_straight_into_the_cache_counts_and_settles_once_it_has_stopped_growing() {
    let lab = lab(ONE);
    write(&lab.disk("flint").join("nest/direct.mkv"), b"copied by its owner");
    let status = json(&lab, &["status", "--json"]);
    assert_eq!(status["caches"][0]["waits"]["files"], 1, "{status}");
    assert_eq!(status["caches"][0]["one_disk_takes"]["files"], 1, "{status}");
    assert_eq!(status["unguarded"]["on-cache"]["files"], 1, "{status}");
    let report = json(&lab, &["settle", "--yes", "--json"]);
    assert!(report.to_string().contains("may still grow"), "{report}");
    assert!(lab.disk("flint").join("nest/direct.mkv").exists());
    lab.write_pool_file(&lab.pool_text().replace("reserve", "settle_after = \"0.001 minutes\"\nreserve"));
    std::thread::sleep(std::time::Duration::from_millis(100));
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert!(!lab.disk("flint").join("nest/direct.mkv").exists());
    assert_eq!(files(&lab, "alder", "nest") + files(&lab, "beech", "nest"), 1);
}

#[test]
fn a_file_that_somebody_has_open_stays() {
    let lab = lab(ONE);
    put(&lab, "nest", 2, 100_000);
    let holder = std::process::Command::new("sleep")
        .arg("60")
        .stdin(fs::File::open(lab.disk("flint").join("nest/clip-01.mkv")).unwrap())
        .spawn();
    let mut holder = holder.unwrap();
    let report = json(&lab, &["settle", "--yes", "--json"]);
    holder.kill().unwrap();
    holder.wait().unwrap();
    assert!(report.to_string().contains("it is open"), "{report}");
    assert!(lab.disk("flint").join("nest/clip-01.mkv").exists());
    assert!(!lab.disk("flint").join("nest/clip-00.mkv").exists());
}

#[rstest]
#[case::one(ONE, 0)]
#[case::mirrored(MIRRORED, 1)]
fn between_settling_and_the_sync_a_held_copy_guards(#[case] caches: &str, #[case] on_cache: u64) {
    let lab = lab(caches);
    put(&lab, "nest", 4, 200_000);
    let guarded = |lab: &Lab| {
        let status = json(lab, &["status", "--json"]);
        4 - status["guard"][0]["files"].as_u64().unwrap()
    };
    assert_eq!(guarded(&lab), 4 * on_cache, "on the cache");
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert_eq!(guarded(&lab), 4, "settled, with a copy held on the cache");
    for disk in ["alder", "beech", "flint"] {
        let drill = json(&lab, &["drill", "--lose", disk, "--json"]);
        assert_eq!(drill["surprises"], serde_json::json!([]), "{drill}");
    }
    // The disk dies before any sync: its files come back from what is held.
    let on_alder = files(&lab, "alder", "nest");
    assert!(on_alder > 0);
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    let report = json(&lab, &["rebuild", "alder", "--onto", "new", "--yes", "--json"]);
    assert_eq!(report["predicted"], report["obtained"], "{report}");
    assert_eq!(files(&lab, "new", "nest"), on_alder);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(guarded(&lab), 4, "synced");
    let status = json(&lab, &["status", "--json"]);
    assert_eq!(status["held"]["files"], 0, "what was held on the cache is given up: {status}");
}

#[test]
fn a_dead_cache_costs_what_was_said_and_no_more() {
    let lab = lab(ONE);
    put(&lab, "nest", 3, 100_000);
    put(&lab, "scans", 2, 100_000);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let fate = json(&lab, &["fate", "--lose", "flint", "--json"]);
    assert_eq!(fate["totals"]["gone"]["files"], 3, "{fate}");
    assert_eq!(fate["totals"]["untouched"]["files"], 2, "{fate}");
    let after = json(&lab, &["fate", "--lose", "flint", "--after", "settle", "--json"]);
    assert_eq!(after["totals"]["gone"]["files"], 0, "{after}");
    fs::remove_dir_all(lab.disk("flint")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("new")).unwrap();
    let report = json(&lab, &["rebuild", "flint", "--onto", "new", "--yes", "--json"]);
    assert_eq!(report["predicted"], report["obtained"], "{report}");
    put(&lab, "more", 1, 1000);
    assert_eq!(files(&lab, "new", "more"), 1);
}

#[test]
fn until_gives_up_what_is_held_before_anything_moves() {
    let lab = lab(ONE);
    put(&lab, "nest", 3, 3_000_000);
    lab.run(&["settle", "--yes"]).expect(&[0]);
    put(&lab, "more", 2, 2_000_000);
    let plan = json(&lab, &["settle", "--until", "9 MB", "--dry-run", "--json"]);
    assert_eq!(plan["given_up"]["files"], 1, "{plan}");
    assert_eq!(plan["files"], serde_json::json!([]), "{plan}");
    let plan = json(&lab, &["settle", "--until", "17 MB", "--dry-run", "--json"]);
    assert_eq!(plan["given_up"]["files"], 3, "{plan}");
    assert_eq!(plan["files"].as_array().unwrap().len(), 1, "{plan}");
    lab.run(&["settle", "--until", "17 MB", "--yes"]).expect(&[0]);
    let status = json(&lab, &["status", "--json"]);
    assert!(status["caches"][0]["free_bytes"].as_u64().unwrap() >= 17_000_000, "{status}");
}

#[test]
fn only_the_folder_and_the_age_that_are_asked_for_settle() {
    let lab = lab(ONE);
    put(&lab, "nest", 2, 1000);
    put(&lab, "dawn", 2, 1000);
    lab.run(&["settle", "--folder", "dawn", "--yes"]).expect(&[0]);
    assert_eq!((files(&lab, "flint", "nest"), files(&lab, "flint", "dawn")), (2, 0));
    let plan = json(&lab, &["settle", "--older-than", "1 hour", "--dry-run", "--json"]);
    assert_eq!(plan["files"], serde_json::json!([]));
    let refused = lab.run(&["settle", "--older-than", "often", "--yes"]);
    assert_eq!(refused.code, 2);
}

#[test]
fn a_name_that_is_taken_on_the_disks_stays_on_the_cache() {
    let lab = lab(ONE);
    put(&lab, "nest", 2, 1000);
    let there = ["alder", "beech"].map(|disk| lab.disk(disk).join("nest/clip-00.mkv"));
    write(&there[0], b"another one");
    let report = json(&lab, &["settle", "--yes", "--json"]);
    assert!(report.to_string().contains("the same name is on alder"), "{report}");
    assert_eq!(fs::read(&there[0]).unwrap(), b"another one");
    assert!(lab.disk("flint").join("nest/clip-00.mkv").exists());
    assert!(!lab.disk("flint").join("nest/clip-01.mkv").exists());
}

#[test]
fn damage_on_the_cache_does_not_move_on() {
    let lab = lab(ONE);
    put(&lab, "nest", 2, 100_000);
    lab.rot(&lab.disk("flint").join("nest/clip-00.mkv"), 50_000);
    let report = json(&lab, &["settle", "--yes", "--json"]);
    assert!(report.to_string().contains("not what was checksummed"), "{report}");
    assert_eq!(files(&lab, "flint", "nest"), 1);
}

#[test]
fn copies_on_the_cache_that_differ_stay() {
    let lab = lab(MIRRORED);
    put(&lab, "nest", 2, 1000);
    write(&lab.disk("jasper").join("nest/clip-00.mkv"), b"edited on one of the two");
    let report = json(&lab, &["settle", "--yes", "--json"]);
    assert!(report["settle"]["left_alone"].as_array().unwrap().len() == 1, "{report}");
    assert_eq!((files(&lab, "flint", "nest"), files(&lab, "jasper", "nest")), (1, 1));
}

#[test]
fn a_mirrored_cache_is_made_whole_from_its_other_half() {
    let lab = lab(MIRRORED);
    put(&lab, "index", 3, 100_000);
    fs::remove_dir_all(lab.disk("flint")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    lab.run(&["rebuild", "flint", "--onto", "new", "--yes"]).expect(&[0]);
    assert_eq!(files(&lab, "new", "index"), 3);
    assert_eq!(json(&lab, &["status", "--json"])["guard"][0]["files"], 0);
}

#[test]
fn a_cache_joins_a_volume_and_its_files_wait() {
    let lab = lab(ONE);
    write(&lab.disk("jasper").join("dawn/wren.flac"), b"already there");
    lab.run(&["grow", "jasper", "--yes", "--as", "cache"]).expect(&[0]);
    assert!(lab.pool_text().contains("cache = [\"flint\", \"jasper\"]"), "{}", lab.pool_text());
    let status = json(&lab, &["status", "--json"]);
    assert_eq!(status["caches"][0]["waits"]["files"], 1, "{status}");
}

#[test]
fn a_pool_with_a_cache_is_adopted_elsewhere() {
    let lab = lab(ONE);
    put(&lab, "nest", 3, 100_000);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let away = lab.root().join("elsewhere");
    fs::create_dir(&away).unwrap();
    let mut arguments =
        vec!["--pool".to_string(), away.join("pool.toml").display().to_string(), "adopt".into()];
    for disk in ["alder", "beech", "oak", "flint"] {
        fs::rename(lab.disk(disk), away.join(disk)).unwrap();
        arguments.push(away.join(disk).display().to_string());
    }
    arguments.push("--yes".into());
    let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
    lab.run(&arguments).expect(&[0]);
    let pool = away.join("pool.toml").display().to_string();
    let status = lab.run(&["--pool", &pool, "status", "--json"]).expect(&[0, 1, 5]).json();
    assert_eq!(status["caches"][0]["waits"]["files"], 3, "{status}");
    lab.run(&["--pool", &pool, "settle", "--then-sync", "--yes"]).expect(&[0]);
}

#[test]
fn damage_on_a_mirrored_cache_is_found_and_mended_from_the_other_half() {
    let lab = lab(MIRRORED);
    put(&lab, "nest", 2, 100_000);
    let file = lab.disk("flint").join("nest/clip-00.mkv");
    let before = fs::read(&file).unwrap();
    lab.rot(&file, 50_000);
    let report = json(&lab, &["verify", "--json"]);
    assert_eq!(report["damaged"][0]["disk"], "flint", "{report}");
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
    assert_eq!(fs::read(&file).unwrap(), before);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn the_odds_of_a_year_count_the_cache() {
    let lab = lab(ONE);
    put(&lab, "nest", 3, 400_000);
    put(&lab, "scans", 2, 100_000);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let risk = json(&lab, &["risk", "--advise", "--json"]);
    let causes = &risk["volumes"][0]["odds"]["causes"];
    assert!(causes["cache"]["bytes_a_year"].as_f64().unwrap() > 0.0, "{risk}");
    let advice = risk["volumes"][0]["advice"].to_string() + &risk["advice"].to_string();
    assert!(advice.contains("settle"), "{advice}");
}

#[test]
fn landings_are_measured_and_ingest_takes_the_figures() {
    let lab = lab(ONE);
    let measured = lab.run(&["measure", "--amount", "2 MB", "--json"]).list();
    let landings: Vec<&str> =
        measured.as_array().unwrap().iter().map(|figures| figures["landing"].as_str().unwrap()).collect();
    assert_eq!(landings, ["disks", "cache"]);
    assert!(
        measured.as_array().unwrap().iter().all(|f| f["write_bytes_per_second"].as_f64().unwrap() > 0.0),
        "{measured}"
    );
    let ingest = lab.run(&["ingest", "--amount", "1 GB"]).expect(&[0]).stdout;
    assert!(ingest.contains("takes 16.0 MB beside its reserve"), "{ingest}");
    assert!(ingest.contains("onto the cache") && ingest.contains("onto the disks"), "{ingest}");
    for disk in ["alder", "flint"] {
        let left = fs::read_dir(lab.disk(disk).join(".zinc-sieve/tmp")).into_iter().flatten().count();
        assert_eq!(left, 0, "nothing of it stays on {disk}");
    }
    let refused = lab.run(&["measure", "--amount", "1 TB"]);
    assert_eq!(refused.code, 2, "{}", refused.stderr);
}

#[test]
fn what_is_removed_from_the_cache_comes_back_and_what_settled_is_not_offered() {
    let lab = lab(ONE);
    put(&lab, "nest", 2, 1000);
    lab.run(&["settle", "--folder", "nest", "--yes"]).expect(&[0]);
    put(&lab, "dawn", 2, 1000);
    let before = fs::read(lab.disk("flint").join("dawn/clip-01.mkv")).unwrap();
    lab.run(&["rm", "dawn/clip-01.mkv", "--yes"]).expect(&[0]);
    let list = lab.run(&["restore", "--list", "--json"]).list();
    let paths: Vec<&str> = list.as_array().unwrap().iter().map(|c| c["path"].as_str().unwrap()).collect();
    assert_eq!(paths, ["dawn/clip-01.mkv"], "{list}");
    lab.run(&["restore", "dawn/clip-01.mkv", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("flint").join("dawn/clip-01.mkv")).unwrap(), before);
}

#[test]
fn a_cache_leaves_when_nothing_is_on_it() {
    let lab = lab("cache = [\"flint\", \"jasper\"]");
    put(&lab, "nest", 4, 100_000);
    let refused = lab.run(&["vacate", "jasper", "--yes"]);
    assert_eq!(refused.code, 4, "{}", refused.stderr);
    assert!(refused.stderr.contains("holds"), "{}", refused.stderr);
    lab.run(&["settle", "--then-sync", "--yes"]).expect(&[0]);
    lab.run(&["vacate", "jasper", "--yes"]).expect(&[0]);
    assert!(!lab.disk("jasper").join(".zinc-sieve").exists());
    assert!(lab.pool_text().contains("cache = [\"flint\"]"), "{}", lab.pool_text());
    lab.run(&["status"]).expect(&[0]);
}

/// Two disks of a span that are smaller than a file which waits on its cache.
fn before_a_span(caches: &str) -> (Lab, Vec<u8>) {
    let disks = [("alder", 8), ("beech", 8), ("oak", 12), ("flint", 30), ("jasper", 30)];
    let volume = format!("kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n{caches}\n");
    let lab = Lab::of(PROGRAM, &disks, &volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let large = Chance::new(5).bytes(11_000_000);
    write(&lab.root().join("nest/night.mkv"), &large);
    lab.run(&["put", "nest", "/", "--yes"]).expect(&[0]);
    assert!(lab.disk("flint").join("nest/night.mkv").exists(), "it waits on the cache");
    (lab, large)
}

fn got(lab: &Lab, path: &str) -> Vec<u8> {
    let out = lab.root().join("out");
    fs::create_dir(&out).unwrap();
    lab.run(&["get", path, "out"]).expect(&[0]);
    let bytes = fs::read(out.join(path.rsplit('/').next().unwrap())).unwrap();
    fs::remove_dir_all(out).unwrap();
    bytes
}

#[rstest]
#[case::one(ONE, "gone", 0)]
#[case::mirrored(MIRRORED, "untouched", 1)]
fn what_is_larger_than_any_disk_behind_the_cache_settles_in_pieces(
    #[case] caches: &str,
    #[case] before: &str,
    #[case] guard: u64,
) {
    let (lab, large) = before_a_span(caches);
    let fate = |lab: &Lab, lose: &str| {
        let fate = json(lab, &["fate", "--lose", lose, "--json"]);
        let file = fate["files"][0].clone();
        assert_eq!(fate["files"].as_array().unwrap().len(), 1, "{fate}");
        (file["fate"].as_str().unwrap().to_string(), file["guard"].as_u64().unwrap())
    };
    let surprises = |lab: &Lab, lose| json(lab, &["drill", "--lose", lose, "--json"])["surprises"].clone();
    assert_eq!(fate(&lab, "flint"), (before.into(), guard));
    let after = json(&lab, &["fate", "--after", "settle", "--lose", "beech", "--json"]);
    let plan = json(&lab, &["settle", "--dry-run", "--json"]);
    assert_eq!(plan["files"][0]["to"], serde_json::json!(["alder", "beech"]), "{plan}");
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert_eq!(files(&lab, "alder", ".zinc-sieve/pieces") + files(&lab, "beech", ".zinc-sieve/pieces"), 2);
    assert!(!lab.disk("flint").join("nest/night.mkv").exists());
    assert_eq!(got(&lab, "nest/night.mkv"), large);
    // Until the sync the whole file is held on the cache: what a dead disk takes comes back from there.
    let held = json(&lab, &["fate", "--lose", "beech", "--json"]);
    assert_eq!(after["totals"], held["totals"], "as it was said before");
    assert_eq!(fate(&lab, "beech"), ("untouched".into(), guard + 1));
    assert_eq!(surprises(&lab, "beech"), serde_json::json!([]));
    fs::rename(lab.disk("beech"), lab.root().join("away")).unwrap();
    assert_eq!(got(&lab, "nest/night.mkv"), large, "read from the held copy");
    fs::create_dir(lab.root().join("new")).unwrap();
    let report = json(&lab, &["rebuild", "beech", "--onto", "new", "--yes", "--json"]);
    assert_eq!(report["predicted"], report["obtained"], "{report}");
    assert_eq!(got(&lab, "nest/night.mkv"), large);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(fate(&lab, "beech"), ("rebuilt".into(), 1));
    assert_eq!(fate(&lab, "flint"), ("untouched".into(), 1));
    assert_eq!(json(&lab, &["status", "--json"])["caches"][0]["held"]["files"], 0, "the sync gave it up");
    lab.run(&["verify"]).expect(&[0]);
    assert_eq!(got(&lab, "nest/night.mkv"), large);
}

#[test]
fn a_settle_in_pieces_that_is_killed_leaves_one_whole_file() {
    let (lab, large) = before_a_span(ONE);
    for delay in [5, 15, 25, 35, 50, 70, 90, 120] {
        let mut child =
            lab.command(&["settle", "--yes"]).stdout(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(delay));
        let _ = child.kill();
        child.wait().unwrap();
        assert_eq!(got(&lab, "nest/night.mkv"), large, "killed after {delay} ms");
        assert_eq!(json(&lab, &["fate", "--lose", "oak", "--json"])["files"].as_array().unwrap().len(), 1);
    }
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert_eq!(got(&lab, "nest/night.mkv"), large);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

/// How much longer a machine takes than a limit demands is its own affair.
#[test]
fn a_limit_holds_for_what_goes_in_pieces() {
    let (lab, _) = before_a_span(ONE);
    let begun = std::time::Instant::now();
    lab.run(&["settle", "--limit", "11MB/s", "--yes"]).expect(&[0]);
    assert!(begun.elapsed().as_secs_f64() >= 0.8, "{:?}", begun.elapsed());
}

/// What a command says at its end is held against what `status` counts.
#[rstest]
#[case::one_cache(ONE, 5, &["is on one disk alone", "on the disks is unguarded until"], 3)]
#[case::mirrored(MIRRORED, 5, &["is on 2 disks until it settles", "on the disks is unguarded until"], 0)]
fn put_and_sync_promise_no_more_than_is_so(
    #[case] caches: &str,
    #[case] count: usize,
    #[case] said: &[&str],
    #[case] alone: u64,
) {
    let lab = lab(caches);
    let mut chance = Chance::new(3);
    for number in 0..count {
        let folder = if number < 3 { "card/nest" } else { "card/scans" };
        write(&lab.root().join(folder).join(format!("clip-{number}.mkv")), &chance.bytes(70_000));
    }
    let put = lab.run(&["put", "card/nest", "card/scans", "/", "--yes"]).expect(&[0]);
    for words in said {
        assert!(put.stdout.contains(words), "{words}: {}", put.stdout);
    }
    let sync = lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(sync.stdout.contains("Everything there is, is guarded now."), alone == 0, "{}", sync.stdout);
    assert_eq!(sync.stdout.contains("3 files, 210 kB: on the cache alone"), alone > 0, "{}", sync.stdout);
    let (status, sync) = (json(&lab, &["status", "--json"]), json(&lab, &["sync", "--yes", "--json"]));
    assert_eq!(status["unguarded"], sync["unguarded"]);
    assert_eq!(sync["unguarded"]["on-cache"]["files"].as_u64().unwrap_or(0), alone, "{sync}");
    let settled = lab.run(&["settle", "--then-sync", "--yes"]).expect(&[0]);
    assert!(settled.stdout.contains("what has settled is guarded now"), "{}", settled.stdout);
    let sync = json(&lab, &["sync", "--yes", "--json"]);
    assert_eq!(sync["unguarded"], serde_json::json!({}), "{sync}");
}

#[test]
fn a_cache_before_disks_that_nothing_guards_promises_nothing() {
    let disks = [("alder", 60), ("flint", 20)];
    let lab = Lab::of(PROGRAM, &disks, "data = [\"alder\"]\ncache = [\"flint\"]\nreserve = \"4 MB\"");
    lab.run(&["create", "--yes"]).expect(&[0]);
    write(&lab.root().join("nest/clip.mkv"), b"a clip");
    let put = lab.run(&["put", "nest", "/", "--yes"]).expect(&[0]).stdout;
    assert!(put.contains("is on one disk alone.") && !put.contains("guards"), "{put}");
    let settled = lab.run(&["settle", "--then-sync", "--yes"]).expect(&[0]).stdout;
    assert!(settled.contains("Nothing guards it: recordings has no parity."), "{settled}");
    assert!(!settled.contains("a sync guards") && !settled.contains("is guarded"), "{settled}");
    write(&lab.root().join("large/clip.mkv"), &[7; 18_000_000]);
    let put = lab.run(&["put", "large", "/", "--yes"]).expect(&[0]).stdout;
    assert!(put.contains("They are guarded by nothing: recordings has no parity."), "{put}");
    let sync = lab.run(&["sync", "--yes"]).expect(&[0]).stdout;
    assert!(sync.contains("2 files") && sync.contains("no valid parity"), "{sync}");
}
