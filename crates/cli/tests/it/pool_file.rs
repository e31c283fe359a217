//! Guards against a pool file that is misread, and against mistakes that are told one at a time or without a place.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

#[test]
fn all_mistakes_come_in_one_go_each_with_its_line_and_a_caret() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    let text = lab
        .pool_text()
        .replacen("capacity = \"40 MB\"", "capacity = \"40 MX\"", 1)
        .replace("name = \"beech\"", "name = \"alder\"")
        .replace("kind = \"unstriped\"", "kind = \"unstriped\"\ncolour = \"green\"")
        .replace("parity = [\"oak\"]", "parity = [\"oka\"]");
    lab.write_pool_file(&text);
    for command in [&["check"][..], &["create", "--yes"], &["status"], &["sync", "--yes"]] {
        let run = lab.run(command).expect(&[2]);
        for words in
            ["unknown unit `MX`", "there is a disk `alder` already", "unknown key `colour`", "no disk `oka`"]
        {
            assert!(run.stderr.contains(words), "{command:?}: {words}: {}", run.stderr);
        }
        let line = text.lines().position(|l| l.contains("40 MX")).unwrap() + 1;
        assert!(run.stderr.contains(&format!("pool.toml:{line}:12")), "{}", run.stderr);
        assert!(run.stderr.contains("^^^^^^^"), "{}", run.stderr);
    }
    let run = lab.run(&["check", "--json"]).expect(&[2]);
    let answer: Value = serde_json::from_str(&run.stdout).unwrap();
    assert_eq!(answer["mistakes"].as_array().unwrap().len(), 5, "beech is not a disk any more: {answer}");
    assert!(!lab.disk("alder").join(".zinc-sieve").exists(), "nothing was done");
}

#[test]
fn a_parity_disk_that_is_too_small_is_an_error_that_says_by_how_much() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    let text = lab.pool_text();
    let cut = text.rfind("capacity = \"40 MB\"").unwrap();
    lab.write_pool_file(&format!("{}capacity = \"37 MB\"{}", &text[..cut], &text[cut + 18..]));
    for command in [&["check"][..], &["create", "--yes"]] {
        let run = lab.run(command).expect(&[2]);
        assert!(run.stderr.contains("3.0 MB too small (3000000 bytes)"), "{}", run.stderr);
    }
}

#[test]
fn a_path_that_does_not_exist_is_a_state_and_not_a_mistake() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    fs::remove_dir(lab.disk("beech")).unwrap();
    let run = lab.run(&["check", "--json"]).expect(&[1]);
    let answer: Value = serde_json::from_str(&run.stdout).unwrap();
    assert_eq!(answer["mistakes"], serde_json::json!([]));
    let states: Vec<_> =
        answer["findings"].as_array().unwrap().iter().filter(|f| f["severity"] == "state").collect();
    assert_eq!(states.len(), 1);
    assert_eq!(states[0]["subject"], "beech");
}

#[test]
fn two_real_disks_on_one_filesystem_are_a_doubt() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    lab.write_pool_file(&lab.pool_text().replace("simulated = true\n", "shares_filesystem = true\n"));
    let run = lab.run(&["check"]).expect(&[0]);
    assert!(
        run.stdout.contains("alder and beech lie on one filesystem: they will die together"),
        "{}",
        run.stdout
    );
}

#[rstest]
#[case::empty("")]
#[case::not_toml("[[[\n")]
#[case::binary("\u{0}\u{1}\u{2}")]
#[case::wrong_types("pool = 3\ndisk = 4\nvolume = [1]\n")]
#[case::deep("a.b.c.d = { x = [[[[1]]]] }\n[pool]\nname = 1\n")]
fn hostile_pool_files_end_with_words_and_code_2(#[case] text: &str) {
    let lab = Lab::new(PROGRAM, 1, 0, "40 MB");
    lab.write_pool_file(text);
    let run = lab.run(&["check"]);
    assert_eq!(run.code, 2, "{}{}", run.stdout, run.stderr);
    assert!(!run.stderr.contains("panicked"));
}

#[test]
fn the_pool_file_may_be_named_or_come_from_the_environment() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let moved = lab.root().join("mine.toml");
    fs::rename(lab.pool_file(), &moved).unwrap();
    lab.run(&["check"]).expect(&[2]);
    lab.run(&["check", "--pool", "mine.toml"]).expect(&[0]);
    let by_environment = lab.command(&["check"]).env("ZINC_SIEVE_POOL", &moved).output().unwrap();
    assert_eq!(by_environment.status.code(), Some(0));
}

#[test]
fn create_keeps_what_is_there_and_says_so_before() {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    fs::write(lab.disk("alder").join("kept.txt"), b"kept").unwrap();
    let run = lab.run(&["create", "--dry-run"]).expect(&[0]);
    assert!(run.stdout.contains("1 (4 B) join the volume"), "{}", run.stdout);
    assert!(!lab.disk("alder").join(".zinc-sieve").exists());
    lab.run(&["create"]).expect(&[2]);
    lab.run(&["create", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(lab.disk("alder").join("kept.txt")).unwrap(), b"kept");
    let run = lab.run(&["create", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("exists already"), "{}", run.stderr);
    let listed = lab.run(&["ls"]).expect(&[0]);
    assert!(listed.stdout.contains("kept.txt"));
}

#[test]
fn create_refuses_members_of_other_pools_and_parity_disks_with_files() {
    let (lab, other) = (Lab::new(PROGRAM, 1, 1, "40 MB"), Lab::new(PROGRAM, 1, 1, "40 MB"));
    other.run(&["create", "--yes"]).expect(&[0]);
    let path = lab.disk("alder").display().to_string();
    lab.write_pool_file(&lab.pool_text().replace(&path, &other.disk("alder").display().to_string()));
    let run = lab.run(&["create", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("is a member already"), "{}", run.stderr);
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    fs::write(lab.disk("oak").join("photo.jpg"), b"mine").unwrap();
    let run = lab.run(&["create", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("photo.jpg"), "{}", run.stderr);
}
