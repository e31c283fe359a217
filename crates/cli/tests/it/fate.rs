//! Guards against an answer about losses that another view of it, or the deed itself, contradicts.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// Three data disks with files, one of them changed and one new since the sync.
fn pool() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "60 MB");
    let mut chance = Chance::new(7);
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (disk, size) in [("alder", 900_000), ("beech", 400_000), ("cedar", 700_000)] {
        for folder in ["chorus", "notes"] {
            fs::create_dir_all(lab.disk(disk).join(folder)).unwrap();
            fs::write(lab.disk(disk).join(folder).join(format!("{disk}.flac")), chance.bytes(size)).unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.disk("beech").join("chorus/beech.flac"), chance.bytes(410_000)).unwrap();
    fs::write(lab.disk("cedar").join("notes/late.txt"), b"late").unwrap();
    lab
}

fn fate(lab: &Lab, arguments: &[&str]) -> Value {
    lab.run(&[&["fate", "--json"], arguments].concat()).expect(&[0, 1]).json()
}

#[rstest]
#[case("alder")]
#[case("beech")]
#[case("cedar")]
#[case("oak")]
fn after_a_sync_is_what_a_sync_brings(#[case] disk: &str) {
    let lab = pool();
    let now = fate(&lab, &["--lose", disk]);
    let foretold = fate(&lab, &["--lose", disk, "--after", "sync"]);
    assert_eq!(foretold["totals_now"], now["totals"], "both answers stand side by side");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(foretold["totals"], fate(&lab, &["--lose", disk])["totals"]);
}

#[test]
fn after_a_removal_is_what_a_removal_leaves() {
    let lab = pool();
    let foretold = fate(&lab, &["--lose", "alder", "--after", "rm chorus"]);
    let pairs = fate(&lab, &["--any", "2", "--after", "rm chorus"]);
    lab.run(&["rm", "--recursive", "chorus", "--yes"]).expect(&[0]);
    assert_eq!(foretold["totals"], fate(&lab, &["--lose", "alder"])["totals"]);
    assert_eq!(pairs["sets"], fate(&lab, &["--any", "2"])["sets"]);
}

#[test]
fn after_a_replacement_is_what_a_rebuild_brings() {
    let lab = pool();
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    let foretold = fate(&lab, &["--lose", "cedar", "--after", "replace alder with 80 MB"]);
    let new = lab.disk("new");
    fs::create_dir(&new).unwrap();
    lab.run(&["rebuild", "alder", "--onto", new.to_str().unwrap(), "--yes"]).expect(&[0, 1]);
    let real = fate(&lab, &["--lose", "cedar"]);
    assert_eq!(foretold["totals"], real["totals"]);
    assert!(!foretold["notes"].as_array().unwrap().is_empty(), "what is lost for good is said: {foretold}");
}

#[rstest]
#[case(&["--after", "replace cedar with 1 MB"], "do not hold")]
#[case(&["--after", "replace birch with 1 TB"], "birch")]
#[case(&["--after", "prune"], "sync, settle")]
#[case(&["--after", "rm ../x"], "no path in a volume")]
#[case(&["--group", "card-z"], "the groups are card-a")]
fn what_cannot_be_done_first_is_refused(#[case] arguments: &[&str], #[case] words: &str) {
    let lab = pool();
    lab.write_pool_file(&(lab.pool_text() + "[[group]]\nname = \"card-a\"\ndisks = [\"alder\", \"oak\"]\n"));
    let run = lab.run(&[&["fate", "--lose", "cedar"], arguments].concat()).expect(&[2]);
    assert!(run.stderr.contains(words), "{}", run.stderr);
}

#[test]
fn a_group_is_lost_as_a_whole() {
    let lab = pool();
    lab.write_pool_file(&(lab.pool_text() + "[[group]]\nname = \"card-a\"\ndisks = [\"alder\", \"oak\"]\n"));
    let named = fate(&lab, &["--lose", "alder,oak"]);
    let group = fate(&lab, &["--group", "card-a"]);
    assert_eq!((&named["totals"], &named["lose"]), (&group["totals"], &group["lose"]));
}

#[test]
fn the_reason_names_the_file_that_is_in_the_way() {
    let lab = pool();
    let told = fate(&lab, &["--lose", "alder"]);
    let files = told["files"].as_array().unwrap();
    let hurt = files.iter().find(|f| f["fate"] == "torn" || f["fate"] == "gone").unwrap();
    let rows = &hurt["reason"]["rows"];
    assert_eq!(rows["lost"], serde_json::json!(["alder"]));
    assert_eq!(rows["stale"][0]["disk"], "beech");
    assert_eq!(rows["stale"][0]["path"], "chorus/beech.flac");
    assert_eq!(rows["parities"], serde_json::json!(["oak"]));
    let words = lab.run(&["fate", "--lose", "alder"]).expect(&[1]).stdout;
    assert!(
        words.contains(
            "bringing it back also takes beech, where chorus/beech.flac changed after the last sync"
        ),
        "{words}"
    );
    let rows = lab.run(&["fate", "--lose", "alder", "--verbose"]).expect(&[1]).stdout;
    assert!(rows.contains("also need beech") && rows.contains("row"), "{rows}");
    let new = fate(&lab, &["--lose", "cedar"]);
    let late = new["files"].as_array().unwrap().iter().find(|f| f["path"] == "notes/late.txt").unwrap();
    assert_eq!(late["reason"]["own"], "new");
}

#[test]
fn the_views_add_up_and_a_folder_is_a_part_of_the_whole() {
    let lab = pool();
    let all = fate(&lab, &["--lose", "alder"]);
    for (by, list) in [("folder", "folders"), ("disk", "disks"), ("type", "types")] {
        let told = fate(&lab, &["--lose", "alder", "--by", by]);
        for fate in ["untouched", "rebuilt", "older", "torn", "gone"] {
            let parts = told[list].as_array().unwrap();
            let sum: u64 = parts.iter().map(|p| p["totals"][fate]["bytes"].as_u64().unwrap()).sum();
            assert_eq!(Some(sum), all["totals"][fate]["bytes"].as_u64(), "{by} {fate}");
        }
    }
    let notes = fate(&lab, &["--lose", "alder", "--folder", "notes/"]);
    let folders = all["folders"].as_array().unwrap();
    let of_notes = folders.iter().find(|f| f["folder"] == "notes").unwrap();
    assert_eq!(notes["totals"], of_notes["totals"]);
}

#[test]
fn csv_has_a_line_for_each_file() {
    let lab = pool();
    let printed = lab.run(&["fate", "--lose", "alder", "--csv"]).expect(&[1]).stdout;
    let mut lines = printed.lines();
    assert_eq!(lines.next(), Some("volume,path,disk,size_bytes,fate,guard,reason"));
    let files = fate(&lab, &["--lose", "alder"])["files"].as_array().unwrap().len();
    assert_eq!(lines.count(), files);
    let pairs = lab.run(&["fate", "--any", "2", "--csv"]).expect(&[1]).stdout;
    assert_eq!((pairs.lines().next(), pairs.lines().count()), (Some("lost,files,bytes"), 7));
}

#[test]
fn one_file_tells_its_story() {
    let lab = pool();
    let told = fate(&lab, &["--explain", "notes/alder.flac"]);
    let stories = &told["files"];
    let story = &stories[0];
    assert_eq!((story["disk"].as_str(), story["guard"].as_u64()), (Some("alder"), Some(1)));
    for loss in story["losses"].as_array().unwrap() {
        let lose: Vec<&str> = loss["lose"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect();
        let whole = fate(&lab, &["--lose", &lose.join(",")]);
        let files = whole["files"].as_array().unwrap();
        let same = files.iter().find(|f| f["path"] == "notes/alder.flac").unwrap();
        assert_eq!(same["fate"], loss["fate"], "{lose:?}");
    }
    let words = lab.run(&["fate", "--explain", "notes/alder.flac"]).expect(&[0]).stdout;
    for said in ["lies on alder", "Its guard is 1", "If alder dies it is rebuilt", "If alder and oak die"] {
        assert!(words.contains(said), "{said}: {words}");
    }
    assert!(lab.run(&["fate", "--explain", "notes/none"]).expect(&[2]).stderr.contains("there is no file"));
}

#[test]
fn another_machine_is_searched_for_what_would_be_lost() {
    let lab = pool();
    let sum = |path: &str| blake3::hash(&fs::read(path).unwrap()).to_hex().to_string();
    let of = |disk: &str, name: &str| lab.disk(disk).join(name).display().to_string();
    let list = format!(
        "{}  ./chorus/alder.flac\n{}  old/renamed.flac\n{}  notes/oak.txt\n",
        sum(&of("alder", "chorus/alder.flac")),
        sum(&of("alder", "notes/alder.flac")),
        "00".repeat(32)
    );
    fs::write(lab.root().join("other.b3"), list).unwrap();
    let told = fate(&lab, &["--lose", "alder,cedar", "--backup", "other.b3"]);
    let backup = &told["backup"];
    let files = |kind: &str| backup[kind]["files"].as_u64().unwrap();
    assert_eq!((files("there"), files("moved")), (1, 1), "{backup}");
    assert_eq!(backup["not_by_checksum"], 0);
    let lost: u64 =
        ["older", "torn", "gone"].iter().map(|f| told["totals"][f]["files"].as_u64().unwrap()).sum();
    assert_eq!(files("there") + files("moved") + files("differs") + files("nowhere"), lost);
    let csv =
        lab.run(&["fate", "--lose", "alder,cedar", "--backup", "other.b3", "--csv"]).expect(&[1]).stdout;
    assert!(csv.contains(",moved,old/renamed.flac"), "{csv}");
    // Its own catalogue knows everything but what came after the last scan of it.
    let catalogue = lab.root().join(".zinc-sieve/catalogue.sqlite");
    fs::copy(&catalogue, lab.root().join("elsewhere.sqlite")).unwrap();
    let told = fate(&lab, &["--lose", "alder,oak", "--backup", "elsewhere.sqlite"]);
    assert_eq!(told["backup"]["there"]["files"], 2, "{}", told["backup"]);
}

#[rstest]
#[case("bad.b3", "xyz  a\n", "line 1")]
#[case("bad.csv", "path,size_bytes\na,many\n", "no number of bytes")]
#[case("bad.jsonl", "{\"path\": 1}\n", "line 1")]
#[case("bad.sqlite", "SQLite format 3\0 and nothing more", "bad.sqlite")]
fn a_listing_that_is_wrong_is_refused(#[case] name: &str, #[case] text: &str, #[case] words: &str) {
    let lab = pool();
    fs::write(lab.root().join(name), text).unwrap();
    let run = lab.run(&["fate", "--lose", "alder", "--backup", name]).expect(&[2]);
    assert!(run.stderr.contains(words), "{}", run.stderr);
}

#[test]
fn the_map_has_what_each_pair_costs() {
    let lab = pool();
    let map = fate(&lab, &["--map"]);
    let disks: Vec<&str> = map["disks"].as_array().unwrap().iter().map(|d| d.as_str().unwrap()).collect();
    for any in ["1", "2"] {
        for set in fate(&lab, &["--any", any])["sets"].as_array().unwrap() {
            let place = |name: &Value| disks.iter().position(|d| Some(*d) == name.as_str()).unwrap();
            let lose = set["lose"].as_array().unwrap();
            let (row, column) = (place(&lose[0]), place(lose.last().unwrap()));
            assert_eq!(map["costs"][row][column]["bytes"], set["bytes"], "{lose:?}");
            assert_eq!(map["costs"][column][row]["bytes"], set["bytes"], "{lose:?}");
        }
    }
    for name in ["losses.svg", "losses.png"] {
        lab.run(&["fate", "--map", name]).expect(&[1]);
        let picture = fs::read(lab.root().join(name)).unwrap();
        assert!(picture.starts_with(b"<svg") || picture.starts_with(b"\x89PNG"), "{name}");
    }
    let svg = fs::read_to_string(lab.root().join("losses.svg")).unwrap();
    assert!(disks.iter().all(|d| svg.contains(d)) && svg.contains("must not die together"));
    lab.run(&["fate", "--any", "2", "--map"]).expect(&[2]);
    assert!(lab.run(&["fate", "--map", "losses.gif"]).expect(&[2]).stderr.contains(".svg or a .png"));
}

/// A pool on paper with every kind of group in its file.
fn grouped() -> Lab {
    let lab = Lab::new(PROGRAM, 1, 0, "60 MB");
    let disk = |name: &str, bay: &str, about: &str| {
        format!("[[disk]]\nname = \"{name}\"\ncapacity = \"1 GB\"\nbay = \"{bay}\"\n{about}\n")
    };
    let text = "[pool]\nname = \"grouped\"\n".to_string()
        + "[[case]]\nname = \"tower\"\nbays = [[\"A1\", \"A2\"], [\"B1\", \"B2\"]]\n"
        + "[[link]]\nname = \"front\"\nrate = \"600 MB/s\"\n"
        + &disk("alder", "A1", "batch = \"march\"\nlink = \"front\"")
        + &disk("beech", "A2", "batch = \"march\"")
        + &disk("cedar", "B1", "link = \"front\"")
        + &disk("oak", "B2", "")
        + "[[group]]\nname = \"old\"\ndisks = [\"cedar\", \"oak\"]\n"
        + "[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\n";
    lab.write_pool_file(&text);
    let lines: String = (0..60).map(|n| format!("box-{}/clip-{n}.mkv,{}\n", n % 4, n * 300_000)).collect();
    fs::write(lab.root().join("listing.csv"), format!("path,size_bytes\n{lines}")).unwrap();
    lab
}

#[rstest]
#[case("old", &["cedar", "oak"])]
#[case("front", &["alder", "cedar"])]
#[case("march", &["alder", "beech"])]
#[case("tower", &["alder", "beech", "cedar", "oak"])]
#[case("tower:1", &["alder", "beech"])]
#[case("tower:2", &["cedar", "oak"])]
fn groups_follow_from_the_pool_file(#[case] group: &str, #[case] disks: &[&str]) {
    let lab = grouped();
    let told = fate(&lab, &["--files", "listing.csv", "--group", group]);
    assert_eq!(told["lose"], serde_json::json!(disks));
    assert_eq!(told["totals"], fate(&lab, &["--files", "listing.csv", "--lose", &disks.join(",")])["totals"]);
}

#[test]
fn a_name_of_two_groups_is_refused() {
    let lab = grouped();
    let twice = lab.pool_text().replace("name = \"old\"", "name = \"march\"");
    lab.write_pool_file(&twice);
    let run = lab.run(&["fate", "--files", "listing.csv", "--group", "march"]).expect(&[2]);
    assert!(run.stderr.contains("is a group and a batch"), "{}", run.stderr);
}

#[test]
fn on_paper_too_something_may_be_done_first() {
    let lab = grouped();
    let ask = |arguments: &[&str]| fate(&lab, &[&["--files", "listing.csv"], arguments].concat());
    let pair = ["--lose", "alder,beech"];
    let more = ask(&[&pair[..], &["--after", "add parity"]].concat());
    let (now, then) = (&more["totals_now"], &more["totals"]);
    assert!(now["gone"]["files"].as_u64().unwrap() + now["torn"]["files"].as_u64().unwrap() > 0);
    assert_eq!((&then["gone"]["files"], &then["torn"]["files"]), (&0.into(), &0.into()), "{more}");
    let fewer = ask(&[&pair[..], &["--after", "rm box-1"]].concat());
    let files = |totals: &Value| -> u64 {
        ["untouched", "rebuilt", "older", "torn", "gone"]
            .iter()
            .map(|f| totals[f]["files"].as_u64().unwrap())
            .sum()
    };
    assert_eq!((files(&fewer["totals_now"]), files(&fewer["totals"])), (60, 45));
    let all = "replace alder with 1 MB,replace beech with 1 MB,replace cedar with 1 MB";
    let steps: Vec<&str> = all.split(',').flat_map(|step| ["--after", step]).collect();
    let arguments = [&["fate", "--files", "listing.csv", "--lose", "alder"], &steps[..]].concat();
    let small = lab.run(&arguments).expect(&[2]).stderr;
    assert!(small.contains("fits on no disk"), "{small}");
    let larger = ask(&["--lose", "alder", "--after", "replace beech with 2 GB"]);
    assert!(larger["notes"][0].as_str().unwrap().contains("placed anew"), "{larger}");
    // The steps are done in their order.
    let both = ask(&[&pair[..], &["--after", "rm box-1", "--after", "add parity"]].concat());
    assert_eq!(files(&both["totals"]), 45);
    assert_eq!(both["totals"]["gone"]["files"], 0);
}

#[test]
fn a_folder_that_is_not_there_is_no_comfort() {
    let lab = pool();
    let run = lab.run(&["fate", "--lose", "alder", "--folder", "nope"]).expect(&[2]);
    assert!(run.stderr.contains("there is no file in `nope`"), "{}", run.stderr);
    assert!(lab.run(&["fate", "--lose", "alder"]).expect(&[1]).stdout.contains("chorus/"));
}

#[test]
fn a_missing_disk_comes_first() {
    let lab = pool();
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    let words = lab.run(&["fate", "--lose", "cedar"]).expect(&[1]).stdout;
    assert!(words.contains("bring alder back: `zinc-sieve rebuild alder --onto DIR`"), "{words}");
    let refused = lab.run(&["fate", "--lose", "cedar", "--after", "sync"]).expect(&[2]).stderr;
    assert!(refused.contains("a sync needs every data disk"), "{refused}");
}

#[test]
fn the_last_lines_say_what_would_help() {
    let lab = pool();
    let words = lab.run(&["fate", "--lose", "alder,beech"]).expect(&[1]).stdout;
    assert!(words.contains("one more parity drive, and a sync, would save"), "{words}");
    let status = lab.run(&["status", "--json"]).expect(&[5]).json();
    let unguarded = status["guard"][0]["files"].as_u64().unwrap();
    assert_eq!(status["sync_would_guard"]["files"].as_u64(), Some(unguarded), "{status}");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let after = lab.run(&["status", "--json"]).expect(&[0]).json();
    assert_eq!(after["sync_would_guard"], Value::Null);
    assert_eq!(after["guard"][0]["files"], 0);
}
