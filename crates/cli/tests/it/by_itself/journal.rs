//! What happened is told, failures and refusals too, and a journal of a million lines is no burden.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::io::Write;

use super::{DAY, FRIDAY, bring, lab, run_at};

#[test]
fn what_was_done_is_told_with_the_paths_that_went() {
    let lab = lab("");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/0007.wav"), [7; 5000]).unwrap();
    run_at(&lab, FRIDAY + 60, &["put", "card/0007.wav", "dawn-chorus", "--yes"]).expect(&[0]);
    run_at(&lab, FRIDAY + 120, &["sync", "--yes"]).expect(&[0]);
    fs::write(lab.root().join("card/0007.wav"), [8; 6000]).unwrap();
    run_at(&lab, FRIDAY + 180, &["put", "--replace", "card/0007.wav", "dawn-chorus", "--yes"]).expect(&[0]);
    run_at(&lab, FRIDAY + 240, &["rm", "dawn-chorus/0007.wav", "--yes"]).expect(&[0]);
    let lines = |arguments: &[&str]| {
        let all = [&["journal", "--json"], arguments].concat();
        run_at(&lab, FRIDAY + 300, &all).expect(&[0]).list().as_array().unwrap().clone()
    };
    let did = |lines: &[serde_json::Value]| -> Vec<String> {
        lines.iter().map(|line| line["did"].as_str().unwrap().to_string()).collect()
    };
    assert_eq!(did(&lines(&[])), ["create", "put", "sync", "put", "rm"]);
    assert_eq!(did(&lines(&["--path", "dawn-chorus"])), ["replaced", "removed"]);
    assert_eq!(did(&lines(&["--kind", "sync"])), ["sync"]);
    assert_eq!(lines(&["--since", "150 seconds"]).len(), 2);
    assert_eq!(lines(&["--before", "2031-05-02 00:02"]).len(), 3);
    assert!(lines(&["--failed"]).is_empty());
    let sync = &lines(&["--kind", "sync"])[0];
    assert_eq!((&sync["at"], &sync["version"]), (&"2031-05-02T00:02:00Z".into(), &3.into()));
    assert!(sync["read_bytes"].as_object().unwrap().contains_key("alder"), "{sync}");
    let shown = run_at(&lab, FRIDAY + 300, &["journal"]).expect(&[0]).stdout;
    assert!(shown.contains("Fri 2 May 2031") && shown.contains("1 file, 5.0 kB"), "{shown}");
}

#[test]
fn refusals_and_failures_are_told_and_who_only_looks_leaves_nothing() {
    let lab = lab("");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    (0..20).for_each(|n| bring(&lab, "alder", &format!("{n}.wav"), &[n; 4000]));
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[0]);
    (0..20).for_each(|n| fs::remove_file(lab.disk("alder").join(format!("{n}.wav"))).unwrap());
    run_at(&lab, FRIDAY, &["sync", "--dry-run"]).expect(&[4]);
    run_at(&lab, FRIDAY, &["status"]);
    let failed = ["journal", "--failed", "--json"];
    assert_eq!(run_at(&lab, FRIDAY, &failed).list().as_array().unwrap().len(), 0, "a dry run leaves nothing");
    run_at(&lab, FRIDAY, &["sync", "--yes"]).expect(&[4]);
    let lines = run_at(&lab, FRIDAY, &failed).expect(&[0]).list();
    assert_eq!((&lines[0]["did"], &lines[0]["ended"]), (&"sync".into(), &"refused".into()));
    assert!(lines[0]["said"].as_str().unwrap().contains("alder"), "{lines}");
}

#[test]
fn an_old_journal_is_read_and_a_wrong_word_is_told() {
    let lab = lab("");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    let path = lab.root().join(".zinc-sieve/journal.jsonl");
    let old = r#"{"at":1935360000000000000,"did":"sync","detail":{"seconds":3.0}}"#;
    let now = fs::read_to_string(&path).unwrap();
    fs::write(&path, format!("{old}\nthis is no line\n{now}")).unwrap();
    let shown = run_at(&lab, FRIDAY, &["journal"]).expect(&[0]).stdout;
    assert!(shown.contains("sync") && shown.contains("create"), "{shown}");
    let wrong = run_at(&lab, FRIDAY, &["journal", "--kind", "synk"]).expect(&[2]).stderr;
    assert!(wrong.contains("did you mean `sync`"), "{wrong}");
    run_at(&lab, FRIDAY, &["journal", "--since", "the other day"]).expect(&[2]);
}

/// A day is found in a journal of a million lines without reading the rest of it.
#[test]
fn a_day_is_found_in_a_million_lines() {
    let lab = lab("");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    let folder = lab.root().join(".zinc-sieve/journal");
    fs::create_dir(&folder).unwrap();
    let (files, lines) = (50, 20_000);
    for file in 0..files {
        let mut text =
            std::io::BufWriter::new(fs::File::create(folder.join(format!("{:08}.jsonl", file + 1))).unwrap());
        for line in 0..lines {
            let at = (FRIDAY - DAY * 1000 + (file * lines + line) * 80) * 1_000_000_000;
            writeln!(text, r#"{{"version":2,"at":{at},"did":"put","ended":"done","seconds":1.5,"files":{{"files":3,"bytes":1000}},"disks":["alder"]}}"#).unwrap();
        }
    }
    let last = FRIDAY - DAY * 1000 + files * lines * 80;
    let run = run_at(&lab, last, &["journal", "--since", "1 day", "--json"]).expect(&[0]);
    assert_eq!(run.list().as_array().unwrap().len() as i64, DAY / 80 + 1);
}
