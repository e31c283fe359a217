//! Guards against a file that is told to be on another machine and is not, or is told to be nowhere else and is: by command, by
//! fate, by status and by the odds of a year, and with a listing that is old, wrong or not there.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::time::{Duration, SystemTime};

use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const FILES: [&str; 5] =
    ["dawn/both.flac", "dawn/here.flac", "dawn/away.flac", "nest/only.flac", "nest/edited.flac"];

/// Two data disks without parity, with five files.
fn pool() -> Lab {
    let lab = Lab::new(PROGRAM, 2, 0, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (number, path) in FILES.into_iter().enumerate() {
        let place = lab.disk(["alder", "beech"][number % 2]).join(path);
        fs::create_dir_all(place.parent().unwrap()).unwrap();
        fs::write(place, Chance::new(number as u64).bytes(10_000 + number)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

/// The listing that this pool would have written, of some of its files, under other paths.
fn listing(lab: &Lab, to: &str, paths: &[(&str, &str)]) {
    let whole = lab.root().join("whole.csv");
    lab.run(&["listing", whole.to_str().unwrap(), "--replace"]).expect(&[0]);
    let text = fs::read_to_string(&whole).unwrap();
    let mut lines = vec!["path,size_bytes,modified,blake3".to_string()];
    for (path, there) in paths {
        let line = text.lines().find(|line| line.starts_with(&format!("{path},"))).unwrap();
        lines.push(line.replacen(path, there, 1));
    }
    fs::write(lab.root().join(to), lines.join("\n") + "\n").unwrap();
}

fn with_machines(lab: &Lab) {
    let mut text = lab.pool_text();
    text += "\n[[elsewhere]]\nname = \"loft\"\nlisting = \"loft.csv\"\nplace = \"across the yard\"\noff_site = true\n";
    text += "\n[[elsewhere]]\nname = \"cellar\"\nlisting = \"cellar.csv\"\nbelow = \"backup/birds\"\n";
    lab.write_pool_file(&text);
    listing(lab, "loft.csv", &[("dawn/both.flac", "dawn/both.flac"), ("dawn/away.flac", "old/moved.flac")]);
    let below = [
        ("dawn/both.flac", "backup/birds/dawn/both.flac"),
        ("dawn/here.flac", "backup/birds/dawn/here.flac"),
        ("nest/edited.flac", "backup/birds/nest/edited.flac"),
        ("nest/only.flac", "elsewhere/nest/only.flac"),
    ];
    listing(lab, "cellar.csv", &below);
    // Since then one was edited, and checksummed anew.
    fs::write(lab.disk("alder").join("nest/edited.flac"), Chance::new(99).bytes(10_004)).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
}

fn files_of(answer: &Value, kept: &str) -> u64 {
    answer[kept]["files"].as_u64().unwrap_or(0)
}

#[test]
fn each_file_is_told_where_else_it_is() {
    let lab = pool();
    let none = lab.run(&["elsewhere"]).expect(&[2]);
    assert!(none.stderr.contains("names no other machine"), "{}", none.stderr);
    with_machines(&lab);
    let answer = lab.run(&["elsewhere", "--json"]).expect(&[1]).json();
    for kept in ["both", "on-site", "off-site", "differs", "nowhere"] {
        assert_eq!(files_of(&answer["totals"], kept), 1, "{kept}: {answer}");
    }
    let listed: Vec<(&str, &str)> = (answer["files"].as_array().unwrap().iter())
        .map(|file| (file["path"].as_str().unwrap(), file["kept"].as_str().unwrap()))
        .collect();
    assert_eq!(listed, [("nest/only.flac", "nowhere"), ("nest/edited.flac", "differs")]);
    let text = lab.run(&["elsewhere", "--folder", "dawn", "--only", "off-site"]).expect(&[0]).stdout;
    assert!(text.contains("dawn/away.flac") && !text.contains("dawn/here.flac"), "{text}");
    assert!(text.contains("each is on another machine as well"), "{text}");
}

#[test]
fn fate_status_risk_and_the_page_count_it() {
    let lab = pool();
    with_machines(&lab);
    // Without parity everything on beech is lost with it: here.flac, which the cellar has, and only.flac.
    let fate = lab.run(&["fate", "--lose", "beech", "--json"]).expect(&[1]).json();
    let totals = &fate["elsewhere"]["totals"];
    assert_eq!((files_of(totals, "on-site"), files_of(totals, "nowhere")), (1, 1), "{fate}");
    let text = lab.run(&["fate", "--lose", "beech"]).expect(&[1]).stdout;
    assert!(text.contains("other machines have 1 file, 10.0 kB; lost for good: 1 file"), "{text}");
    let status = lab.run(&["status"]).expect(&[0]).stdout;
    assert!(status.contains("5 files, 50.0 kB; on no other machine: 2 files, 20.0 kB."), "{status}");
    let risk = lab.run(&["risk", "--json"]).expect(&[0]).json();
    let volume = &risk["volumes"][0];
    let (all, gone) = (
        volume["total"]["bytes_a_year"].as_f64().unwrap(),
        volume["for_good"]["bytes_a_year"].as_f64().unwrap(),
    );
    // Two of five files of nearly one size, one on each disk of the same kind; three are on alder.
    assert!(gone > 0.35 * all && gone < 0.45 * all, "{gone} of {all}");
    lab.run(&["report", lab.root().join("page.html").to_str().unwrap()]).expect(&[0]);
    let page = fs::read_to_string(lab.root().join("page.html")).unwrap();
    assert!(page.contains("on no other machine: 2 files"), "{page}");
}

#[test]
fn an_old_a_wrong_and_a_missing_listing_are_told_and_cost_no_answer() {
    let lab = pool();
    with_machines(&lab);
    let old = SystemTime::now() - Duration::from_secs(90 * 86_400);
    fs::File::options().write(true).open(lab.root().join("loft.csv")).unwrap().set_modified(old).unwrap();
    let text = lab.run(&["elsewhere"]).expect(&[1]).stdout;
    assert!(text.contains("stale: make a new one there"), "{text}");
    let fate = lab.run(&["fate", "--lose", "beech"]).expect(&[1]).stdout;
    assert!(fate.contains("the listing of loft is old"), "{fate}");
    for content in [Some(&b"path,size_bytes\nwren.flac,many\n"[..]), Some(b"\xff\x00\xff"), None] {
        match content {
            Some(bytes) => fs::write(lab.root().join("cellar.csv"), bytes).unwrap(),
            None => fs::remove_file(lab.root().join("cellar.csv")).unwrap(),
        }
        let answer = lab.run(&["elsewhere", "--json"]).expect(&[1]).json();
        assert_eq!(answer["unread"][0]["name"], "cellar", "{answer}");
        assert_eq!(files_of(&answer["totals"], "off-site"), 2, "{answer}");
        lab.run(&["status"]).expect(&[0]);
        let fate = lab.run(&["fate", "--lose", "beech"]).expect(&[1]).stdout;
        assert!(fate.contains("the listing of cellar is not there"), "{fate}");
    }
}

#[test]
fn a_section_that_says_too_little_is_a_mistake_of_the_pool_file() {
    let lab = pool();
    lab.write_pool_file(&(lab.pool_text() + "\n[[elsewhere]]\nname = \"loft\"\nwhere = \"attic\"\n"));
    let check = lab.run(&["check"]).expect(&[2]);
    assert!(check.stderr.contains("[[elsewhere]] needs a `listing`"), "{}", check.stderr);
    assert!(check.stderr.contains("unknown key `where`"), "{}", check.stderr);
}
