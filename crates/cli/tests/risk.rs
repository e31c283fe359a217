//! Guards against odds that do not add up, that do not follow from what is known of the disks, or that playing the same
//! years contradicts.
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

/// A day, in nanoseconds.
const DAY: i64 = 86_400_000_000_000;

/// Synced, and a week later a file came and another changed.
fn pool(parity: usize) -> Lab {
    let lab = Lab::new(PROGRAM, 3, parity, "60 MB");
    let mut chance = Chance::new(5);
    let start = DAY * 20_000;
    run_at(&lab, start, &["create", "--yes"]);
    for (disk, size) in [("alder", 900_000), ("beech", 400_000), ("cedar", 700_000)] {
        for folder in ["chorus", "notes"] {
            fs::create_dir_all(lab.disk(disk).join(folder)).unwrap();
            fs::write(lab.disk(disk).join(folder).join(format!("{disk}.flac")), chance.bytes(size)).unwrap();
        }
    }
    run_at(&lab, start, &["sync", "--yes"]);
    fs::write(lab.disk("beech").join("chorus/beech.flac"), chance.bytes(410_000)).unwrap();
    fs::write(lab.disk("cedar").join("notes/late.txt"), vec![7; 50_000]).unwrap();
    lab
}

fn run_at(lab: &Lab, now: i64, arguments: &[&str]) -> sieve_testkit::Run {
    let mut command = lab.command(arguments);
    command.env("ZINC_SIEVE_NOW", now.to_string());
    sieve_testkit::Run::of(&command.output().unwrap()).expect(&[0, 1])
}

/// The risk a week after the sync.
fn risk(lab: &Lab, arguments: &[&str]) -> Value {
    let told = run_at(lab, DAY * 20_007, &[&["risk", "--json"], arguments].concat()).json();
    told["volumes"][0].clone()
}

fn number(value: &Value) -> f64 {
    value.as_f64().unwrap_or_else(|| panic!("no number: {value}"))
}

fn bytes_a_year(risk: &Value) -> f64 {
    number(&risk["total"]["bytes"])
}

#[rstest]
fn causes_and_folders_add_up(#[values(0, 1, 2)] parity: usize) {
    let told = risk(&pool(parity), &[]);
    let causes = told["odds"]["causes"].as_object().unwrap();
    let sum: f64 = causes.values().map(|figure| number(&figure["bytes"])).sum();
    let folders: f64 = told["folders"].as_array().unwrap().iter().map(|f| number(&f["bytes"])).sum();
    let total = bytes_a_year(&told);
    assert!((sum - total).abs() <= total * 1e-9, "{told}");
    assert!((folders - total).abs() <= total * 1e-6, "{told}");
    let chance = number(&told["any_in_a_year"]);
    assert!(chance > 0.0 && chance < 1.0, "{chance}");
}

#[test]
fn each_parity_makes_it_less() {
    let costs: Vec<f64> = (0..=2).map(|parity| bytes_a_year(&risk(&pool(parity), &[]))).collect();
    assert!(costs[0] > costs[1] && costs[1] > costs[2], "{costs:?}");
}

#[test]
fn what_the_pool_file_says_is_taken() {
    let lab = pool(1);
    let text = lab.pool_text();
    let usual = bytes_a_year(&risk(&lab, &[]));
    let with = |change: &dyn Fn(&str) -> String| {
        lab.write_pool_file(&change(&text));
        let told = risk(&lab, &[]);
        lab.write_pool_file(&text);
        told
    };
    let disk = |add: &str| text.replace("simulated = true", &format!("simulated = true\n{add}"));
    let sturdy = with(&|_| disk("yearly_failure = \"0.5 %\""));
    assert!(bytes_a_year(&sturdy) < usual / 5.0);
    assert!(sturdy["disks"].as_array().unwrap().iter().all(|d| d["rate"]["source"] == "given"));
    let batch = with(&|_| disk("batch = \"march\"") + "\n[risk]\nbatch_factor = 50\n");
    let second = |told: &Value| number(&told["odds"]["causes"]["second"]["events"]);
    assert!(second(&batch) > 20.0 * second(&risk(&lab, &[])));
    let rarely = with(&|text| format!("{text}\n[risk]\nsync_every = \"4 weeks\"\n"));
    assert!(bytes_a_year(&rarely) > usual);
    assert_eq!(rarely["sync_every_source"], "given");
    let slowly = with(&|text| format!("{text}\n[risk]\nreplace_within = \"90 days\"\n"));
    assert!(second(&slowly) > 20.0 * second(&risk(&lab, &[])));
    let worn = with(&|text| format!("{text}\n[risk]\nunreadable_per_bit = 1e-9\n"));
    let unreadable = |told: &Value| number(&told["odds"]["causes"]["unreadable"]["events"]);
    assert!(unreadable(&worn) > 1e5 * unreadable(&risk(&lab, &[])));
}

#[test]
fn the_played_years_agree_and_are_the_same_again() {
    let lab = pool(1);
    let play = |seed: &str| risk(&lab, &["--simulate", "200000", "--seed", seed]);
    let told = play("3");
    let compared = told["comparison"].as_array().unwrap();
    assert!(compared.len() >= 5, "{compared:?}");
    assert!(compared.iter().all(|line| line["agrees"] == true), "{compared:?}");
    assert!(number(&told["simulated"]["failures"]) > 10_000.0);
    assert_eq!(told["simulated"], play("3")["simulated"]);
    assert_ne!(told["simulated"], play("4")["simulated"]);
    let words = run_at(&lab, DAY * 20_007, &["risk", "--simulate", "50000"]).expect(&[0]).stdout;
    assert!(words.contains("Both agree within the error bars"), "{words}");
}

#[test]
fn advice_is_worked_out_and_ranked() {
    let lab = pool(1);
    let told = risk(&lab, &["--advise"]);
    let advice = told["advice"].as_array().unwrap();
    let named: Vec<&str> = advice.iter().map(|a| a["action"].as_str().unwrap()).collect();
    for expected in ["sync-now", "sync-every", "add-parity", "replace"] {
        assert!(named.contains(&expected), "{expected}: {named:?}");
    }
    let per_hour: Vec<f64> =
        advice.iter().map(|a| number(&a["saves_bytes"]) / number(&a["disk_hours"]).max(1.0 / 60.0)).collect();
    assert!(per_hour.windows(2).all(|pair| pair[0] >= pair[1]), "{per_hour:?}");
    // One more parity is as good as foretold: the risk of a pool that has it.
    let more = advice.iter().find(|a| a["action"] == "add-parity").unwrap();
    assert!(number(&more["saves_bytes"]) < bytes_a_year(&told));
    // After the sync there is nothing to be saved by one.
    run_at(&lab, DAY * 20_007, &["sync", "--yes"]);
    let after = risk(&lab, &["--advise"]);
    assert!(after["advice"].as_array().unwrap().iter().all(|a| a["action"] != "sync-now"), "{after}");
}

#[test]
fn an_unguarded_folder_is_better_off_on_a_better_disk() {
    let lab = pool(0);
    let text = lab.pool_text();
    let sturdy = text.replacen("simulated = true", "simulated = true\nyearly_failure = \"30 %\"", 1);
    lab.write_pool_file(&sturdy);
    let told = risk(&lab, &["--advise"]);
    let advice = told["advice"].as_array().unwrap();
    let moved = advice.iter().find(|a| a["action"] == "move");
    assert!(moved.is_none(), "less than a megabyte is not worth it: {advice:?}");
    let replace = advice.iter().find(|a| a["action"] == "replace").unwrap();
    assert_eq!(replace["disk"], "alder");
    fs::write(lab.disk("alder").join("chorus/large.flac"), Chance::new(3).bytes(2_000_000)).unwrap();
    run_at(&lab, DAY * 20_007, &["sync", "--yes"]);
    let told = risk(&lab, &["--advise"]);
    let advice = told["advice"].as_array().unwrap();
    let moved = advice.iter().find(|a| a["action"] == "move").unwrap_or_else(|| panic!("{advice:?}"));
    assert_eq!((moved["folder"].as_str(), moved["from"].as_str()), (Some("chorus"), Some("alder")));
}

#[test]
fn what_disks_report_of_themselves_raises_their_rates() {
    let lab = Lab::new(PROGRAM, 1, 0, "60 MB");
    let world = lab.root().join("world");
    lab.run(&["demo", "--dir", world.to_str().unwrap(), "--set-up-only"]).expect(&[0]);
    let run = |arguments: &[&str]| {
        let output = lab.command(arguments).current_dir(&world).output().unwrap();
        sieve_testkit::Run::of(&output).expect(&[0, 1])
    };
    run(&["create", "--yes"]);
    let health = run(&["health", "--from", "machine", "--json"]).json();
    let told = run(&["risk", "--from", "machine", "--json"]).json();
    let mut raised = 0;
    for disk in told["volumes"][0]["disks"].as_array().unwrap() {
        let judged = health["disks"].as_array().unwrap().iter().find(|d| d["name"] == disk["name"]).unwrap();
        let factor = match judged["verdict"].as_str().unwrap() {
            "fine" => 1.0,
            "watch" => 2.0,
            "replace-soon" => 14.0,
            _ => 39.0,
        };
        assert!((number(&disk["rate"]["raised"]) - factor).abs() < 1e-12, "{disk} {judged}");
        raised += u32::from(factor > 1.0);
    }
    assert!(raised > 0, "the demo's machine has a worn disk");
}

#[test]
fn a_missing_disk_is_told_as_it_is() {
    let lab = pool(1);
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    let run = run_at(&lab, DAY * 20_007, &["risk", "--json", "--advise"]).json();
    assert!(run["notes"][0].as_str().unwrap().contains("alder is missing"), "{run}");
    let advice = run["volumes"][0]["advice"].as_array().unwrap();
    assert!(advice.iter().all(|a| a["action"] != "sync-now"), "a sync cannot be made: {advice:?}");
}

#[rstest]
#[case("yearly_failure = \"150 %\"", "", "not a share")]
#[case("", "[risk]\nbatch_factor = \"much\"\n", "batch_factor")]
#[case("", "[risk]\nbatch_factor = 0.5\n", "must be a number from 1")]
#[case("", "[risk]\nsync_every = \"never\"\n", "no stretch of time")]
#[case("", "[risk]\nsync_evry = \"1 day\"\n", "did you mean `sync_every`")]
#[case("", "[[risk]]\nsync_every = \"1 day\"\n", "[risk]")]
#[case("", "[[group]]\nname = \"card-a\"\ndisks = [\"birch\"]\n", "there is no disk `birch`")]
#[case("", "[[group]]\nname = \"card-a\"\n", "a group needs its disks")]
fn mistakes_in_the_pool_file_are_named(#[case] disk: &str, #[case] section: &str, #[case] words: &str) {
    let lab = Lab::new(PROGRAM, 2, 1, "60 MB");
    let text = lab.pool_text().replacen("simulated = true", &format!("simulated = true\n{disk}"), 1);
    lab.write_pool_file(&(text + section));
    let run = lab.run(&["risk"]).expect(&[2]);
    assert!(run.stderr.contains(words), "{}", run.stderr);
}

#[rstest]
#[case("0")]
#[case("nan")]
#[case("1e12")]
fn impossible_years_are_refused(#[case] years: &str) {
    assert!(pool(1).run(&["risk", "--simulate", years]).expect(&[2]).stderr.contains("cannot be played"));
}
