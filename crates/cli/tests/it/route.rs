//! Guards against routes that lead elsewhere than they say: each is walked on real directories, command by command.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// Three data disks and a parity drive, some files, and in the pool file two larger disks that are in no volume yet.
fn shelf() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(19);
    for (disk, files) in [("alder", 6), ("beech", 4), ("cedar", 5)] {
        for file in 0..files {
            let path = lab.disk(disk).join(format!("chorus/{disk}-{file}.flac"));
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, chance.bytes(300_000 + 7_000 * file)).unwrap();
        }
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let mut file = fs::read_to_string(lab.pool_file()).unwrap();
    for name in ["spruce", "willow"] {
        let path = lab.root().join(name);
        fs::create_dir(&path).unwrap();
        file += &format!(
            "\n[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"80 MB\"\nsimulated = true\n# Of the fair.\nserial = \"KE77-{name}\"\n",
            path.display()
        );
    }
    fs::write(lab.pool_file(), file).unwrap();
    lab
}

/// All files of the volume, as they are read through it.
fn contents(lab: &Lab, into: &str) -> BTreeMap<String, Vec<u8>> {
    let out = lab.root().join(into);
    fs::create_dir(&out).unwrap();
    lab.run(&["get", ".", out.to_str().unwrap()]).expect(&[0]);
    let chorus = fs::read_dir(out.join("chorus")).unwrap().map(Result::unwrap);
    chorus.map(|e| (e.file_name().into_string().unwrap(), fs::read(e.path()).unwrap())).collect()
}

fn names(tree: &Value) -> Vec<String> {
    tree["disks"].as_array().unwrap().iter().map(|disk| disk["disk"].as_str().unwrap().to_string()).collect()
}

/// Takes all steps; before each, `--next` says that it is the next one, and after each, no file is guarded less than was said.
fn walk(lab: &Lab, goals: &[&str]) -> Value {
    let list = lab.root().join("route.md");
    let _ = fs::remove_file(&list);
    let steps = list.to_str().unwrap();
    let planned = lab.run(&[&["route", "--json", "--steps", steps], goals].concat()).expect(&[0]).json();
    for (position, step) in planned["steps"].as_array().unwrap().iter().enumerate() {
        let next = lab.run(&["route", "--next", "--steps", steps, "--json"]).expect(&[0]).json();
        assert_eq!(next["taken"], position, "{next}");
        assert_eq!(next["next"]["member"], step["member"]);
        for command in step["commands"].as_array().unwrap() {
            let words: Vec<&str> =
                command.as_array().unwrap().iter().map(|word| word.as_str().unwrap()).collect();
            assert_eq!(words[0], "zinc-sieve");
            lab.run(&[&words[1..], &["--yes"]].concat()).expect(&[0]);
        }
        let status = lab.run(&["status", "--json"]).expect(&[0, 5]).json();
        let promised = step["guard_after"].as_u64().unwrap();
        for level in status["guard"].as_array().unwrap() {
            let is_less = level["level"].as_u64().unwrap() < promised;
            assert!(!is_less || level["files"] == 0, "{promised} {step} {status}");
        }
        lab.run(&["verify"]).expect(&[0]);
    }
    let end = lab.run(&["route", "--next", "--steps", steps]).expect(&[0]);
    assert!(end.stdout.starts_with("All "), "{}", end.stdout);
    lab.run(&["status", "--json"]).expect(&[0, 5]).json()
}

fn says(run: &Run, words: &str) {
    let all = format!("{}{}", run.stdout, run.stderr);
    assert!(all.contains(words), "{words}: {all}");
}

#[rstest]
#[case::larger(&["cedar is 80 MB"], &["alder", "beech", "cedar", "oak"], 4)]
#[case::fewer(&["without beech", "parity is 80 MB"], &["alder", "cedar", "oak"], 5)]
#[case::another_parity(&["2 parities"], &["alder", "beech", "cedar", "oak", "spruce"], 6)]
#[case::more(&["80 MB more"], &["alder", "beech", "cedar", "oak", "willow"], 5)]
fn a_route_leads_where_it_says(#[case] goals: &[&str], #[case] members: &[&str], #[case] entries: usize) {
    let lab = shelf();
    let before = contents(&lab, "before");
    let end = walk(&lab, goals);
    let mut there = names(&end);
    there.sort();
    assert_eq!(there, members);
    assert!(before == contents(&lab, "after"), "every file is there, as it was");
    assert_eq!(before.len(), 15);
    let file = lab.pool_text();
    assert_eq!(
        file.matches("# Of the fair.\nserial = \"KE77-").count(),
        2,
        "what they are stays known: {file}"
    );
    assert_eq!(file.matches("[[disk]]").count(), entries, "{file}");
}

/// Another kind, there and back, with a disk that leaves on the way: each step is taken as it was written down, and guards what it
/// was said to guard.
#[test]
fn a_route_leads_to_another_kind_and_back() {
    let lab = shelf();
    let before = contents(&lab, "before");
    let plan = lab.run(&["route", "kind is mirrored"]).expect(&[0]).stdout;
    assert!(
        plan.contains("recordings becomes mirrored") && plan.contains("Throughout, 1 disk may die"),
        "{plan}"
    );
    walk(&lab, &["kind is mirrored"]);
    assert!(lab.pool_text().contains("kind = \"mirrored\""), "{}", lab.pool_text());
    assert!(before == contents(&lab, "mirrored"));
    let end = walk(&lab, &["kind is spanned", "without beech"]);
    assert!(!names(&end).contains(&"beech".to_string()), "{end}");
    assert!(lab.pool_text().contains("kind = \"spanned\""), "{}", lab.pool_text());
    assert!(before == contents(&lab, "spanned"));
    let end = walk(&lab, &["cedar is 80 MB"]);
    assert_eq!(names(&end).len(), 3, "{end}");
    assert!(before == contents(&lab, "larger"));
    says(&lab.run(&["route", "kind is spanned"]).expect(&[0]), "it is so already");
    says(&lab.run(&["route", "kind is tiered"]).expect(&[2]), "`kind is tiered` is no goal");
}

#[test]
fn a_step_out_of_order_is_told() {
    let lab = shelf();
    let list = lab.root().join("route.md");
    let steps = list.to_str().unwrap();
    lab.run(&["route", "without beech", "2 parities", "--steps", steps]).expect(&[0]);
    let text = fs::read_to_string(&list).unwrap();
    assert!(text.starts_with("# ") && text.contains("- [ ] `zinc-sieve vacate beech`"), "{text}");
    let last = if text.find("vacate beech") < text.find("grow spruce") {
        vec!["grow", "spruce", "--as", "parity", "--yes"]
    } else {
        vec!["vacate", "beech", "--yes"]
    };
    lab.run(&last).expect(&[0]);
    says(
        &lab.run(&["route", "--next", "--steps", steps]).expect(&[2, 4]),
        "was not taken, and a later one was",
    );
    fs::write(&list, "# something else\n").unwrap();
    says(&lab.run(&["route", "--next", "--steps", steps]).expect(&[2]), "this is no list of steps");
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    says(&lab.run(&["route", "2 parities"]).expect(&[4]), "disk alder is not there");
}

#[rstest]
#[case(&["without birch"], "there is no member `birch`")]
#[case(&["alder is 1 PB"], "2 disks of at least 1.0 PB are needed")]
#[case(&["2 parities", "--never-below", "3"], "guard is 1 now, which is below 3")]
#[case(&["2 parities", "--buy", "some"], "a purchase is said like")]
#[case(&[], "there is no goal")]
fn what_cannot_be_is_said(#[case] arguments: &[&str], #[case] words: &str) {
    let lab = shelf();
    let mut all = vec!["route"];
    all.extend(arguments);
    if arguments.first() == Some(&"alder is 1 PB") {
        all.extend(["--buy", "10 MB"]);
    }
    says(&lab.run(&all).expect(&[2]), words);
}
