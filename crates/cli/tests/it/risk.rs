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
    number(&risk["total"]["bytes_a_year"])
}

#[rstest]
fn causes_and_folders_add_up(#[values(0, 1, 2)] parity: usize) {
    let told = risk(&pool(parity), &[]);
    let causes = told["odds"]["causes"].as_object().unwrap();
    let sum: f64 = causes.values().map(|figure| number(&figure["bytes_a_year"])).sum();
    let folders: f64 = told["folders"].as_array().unwrap().iter().map(|f| number(&f["bytes_a_year"])).sum();
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
    assert!(bytes_a_year(&sturdy) < usual / 2.0);
    let range = &sturdy["range"]["any_in_a_year"];
    assert_eq!(range["low"], range["high"], "a figure of one's own has no range: {range}");
    let told = risk(&lab, &[]);
    let [low, high] = ["low", "high"].map(|end| number(&told["range"]["any_in_a_year"][end]));
    assert!(low < number(&told["any_in_a_year"]) && number(&told["any_in_a_year"]) < high, "{told}");
    assert!(sturdy["disks"].as_array().unwrap().iter().all(|d| d["rate"]["source"] == "given"));
    let batch = with(&|_| disk("batch = \"march\"") + "\n[risk]\nbatch_factor = 50\n");
    let second = |told: &Value| number(&told["odds"]["causes"]["second"]["events_a_year"]);
    assert!(second(&batch) > 20.0 * second(&risk(&lab, &[])));
    let rarely = with(&|text| format!("{text}\n[risk]\nsync_every = \"4 weeks\"\n"));
    assert!(bytes_a_year(&rarely) > usual);
    assert_eq!(rarely["sync_every_source"], "given");
    let slowly = with(&|text| format!("{text}\n[risk]\nreplace_within = \"90 days\"\n"));
    assert!(second(&slowly) > 20.0 * second(&risk(&lab, &[])));
    let worn = with(&|text| format!("{text}\n[risk]\nunreadable_per_bit = 1e-9\n"));
    let unreadable = |told: &Value| number(&told["odds"]["causes"]["unreadable"]["events_a_year"]);
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
    let per_hour: Vec<f64> = advice
        .iter()
        .map(|a| number(&a["saves_bytes_a_year"]) / number(&a["disk_hours"]).max(1.0 / 60.0))
        .collect();
    assert!(per_hour.windows(2).all(|pair| pair[0] >= pair[1]), "{per_hour:?}");
    // One more parity is as good as foretold: the risk of a pool that has it.
    let more = advice.iter().find(|a| a["action"] == "add-parity").unwrap();
    assert!(number(&more["saves_bytes_a_year"]) < bytes_a_year(&told));
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
    // It is worth what doing it is.
    let to = lab.disk(moved["to"].as_str().unwrap()).join("chorus");
    fs::create_dir_all(&to).unwrap();
    for entry in fs::read_dir(lab.disk("alder").join("chorus")).unwrap() {
        let entry = entry.unwrap();
        fs::rename(entry.path(), to.join(entry.file_name())).unwrap();
    }
    run_at(&lab, DAY * 20_007, &["sync", "--yes", "--accept", "alder"]);
    let saved = bytes_a_year(&told) - bytes_a_year(&risk(&lab, &[]));
    assert!((saved / number(&moved["saves_bytes_a_year"]) - 1.0).abs() < 0.01, "{saved} {moved}");
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
        let judged = health["disks"].as_array().unwrap().iter().find(|d| d["disk"] == disk["disk"]).unwrap();
        let worst = judged["reasons"].as_array().unwrap().iter().map(|r| number(&r["raises"]));
        let worst = worst.fold(1.0, f64::max);
        let factor = (worst * 60.0 + 305.25) / 365.25;
        assert!((number(&disk["rate"]["raised"]) - factor).abs() < 1e-9, "{disk} {judged}");
        if disk["disk"] == "beech" {
            assert!(
                judged["verdict"] == "watch" && factor < 1.01,
                "a slow cable foretells nothing: {judged}"
            );
        }
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

/// A year is the same whenever it is asked about: minutes before a sync, and minutes after.
#[test]
fn a_year_does_not_depend_on_the_minute_it_is_asked() {
    let lab = pool(1);
    let before = risk(&lab, &[]);
    run_at(&lab, DAY * 20_007, &["sync", "--yes"]);
    let after = risk(&lab, &[]);
    let chance = |told: &Value| number(&told["any_in_a_year"]);
    assert!((chance(&before) / chance(&after) - 1.0).abs() < 0.1, "{before} {after}");
    let single = |told: &Value| number(&told["odds"]["causes"]["single"]["events_a_year"]);
    assert!(single(&after) > 0.0, "what comes between syncs is lost with its disk: {after}");
    assert!(after["arrives"]["source"]["observed"]["days"] == 7.0, "{after}");
}

#[test]
fn a_single_sync_tells_nothing_of_habits() {
    let lab = pool(1);
    fs::remove_file(lab.disk("cedar").join("notes/late.txt")).unwrap();
    let lab = {
        let fresh = Lab::new(PROGRAM, 3, 1, "60 MB");
        run_at(&fresh, DAY * 20_000, &["create", "--yes"]);
        fs::write(fresh.disk("alder").join("only.bin"), vec![1; 300_000]).unwrap();
        run_at(&fresh, DAY * 20_000, &["sync", "--yes"]);
        drop(lab);
        fresh
    };
    let told = risk(&lab, &[]);
    assert_eq!(told["arrives"]["source"], "unknown");
    assert_eq!(told["sync_every_source"], "assumed", "one sync is no habit");
    let words = run_at(&lab, DAY * 20_007, &["risk"]).stdout;
    assert!(words.contains("nothing is known of what arrives") && !words.contains("1.0 h"), "{words}");
    // Two more by hand on one day are none either.
    for _ in 0..2 {
        run_at(&lab, DAY * 20_001, &["sync", "--yes"]);
    }
    assert_eq!(risk(&lab, &[])["sync_every_source"], "assumed");
    let text = lab.pool_text();
    lab.write_pool_file(&format!("{text}\n[risk]\narrives_a_day = \"10 kB\"\n"));
    let told = risk(&lab, &[]);
    assert_eq!(told["arrives"]["source"], "given");
    assert!((number(&told["arrives"]["bytes_a_day"]) - 10_000.0).abs() < 1.0, "{told}");
    assert!(number(&told["odds"]["causes"]["single"]["bytes_a_year"]) > 0.0);
}

/// What the agenda has counts as long as it is not done less often.
#[test]
fn jobs_of_the_agenda_tell_how_often_there_is_a_sync_and_a_settling() {
    let lab = Lab::of(
        PROGRAM,
        &[("alder", 60), ("oak", 60), ("flint", 60)],
        "kind = \"unstriped\"\ndata = [\"alder\"]\nparity = [\"oak\"]\ncache = [\"flint\"]",
    );
    let jobs = "[risk]\narrives_a_day = \"1 MB\"\n[agenda]\n[[agenda.job]]\ndo = \"sync\"\nwhen = \"every 2 days 03:00\"\n\
        [[agenda.job]]\ndo = \"settle\"\nvolume = \"recordings\"\nwhen = \"every 4 days 01:00\"\n";
    lab.write_pool_file(&format!("{}\n{jobs}", lab.pool_text()));
    run_at(&lab, DAY * 20_000, &["create", "--yes"]);
    let told = risk(&lab, &[]);
    assert_eq!(
        (&told["sync_every_source"], number(&told["sync_every_days"])),
        (&serde_json::json!("agenda"), 2.0)
    );
    // Half of four days, and the day that files wait in any case; nothing has come, so it goes by what is said.
    let waiting = number(&told["arrives"]["waiting_bytes"]);
    assert!(waiting >= 2e6, "{told}");
    for week in 0..5 {
        run_at(&lab, DAY * (20_001 + 7 * week), &["sync", "--yes"]);
    }
    let told: Value = serde_json::from_str(&run_at(&lab, DAY * 20_030, &["risk", "--json"]).stdout).unwrap();
    let told = &told["volumes"][0];
    assert_eq!(told["sync_every_source"], "observed", "it is not followed: {told}");
    assert!((number(&told["sync_every_days"]) - 7.0).abs() < 0.5, "{told}");
}

/// A pool on paper: three data disks, so many parities, one of the disks worn.
fn on_paper(lab: &Lab, disks: &str, volume: &str, risk: &str) {
    let files: String =
        (0..60).map(|n| format!("folder-{}/{n},{}\n", n % 4, 1_000_000_000u64 + n * 37_000_000)).collect();
    fs::write(lab.root().join("files.csv"), format!("path,size_bytes\n{files}")).unwrap();
    lab.write_pool_file(&format!(
        "[pool]\nname = \"paper\"\n{disks}[[volume]]\nname = \"v\"\n{volume}{risk}"
    ));
}

fn ask_on_paper(lab: &Lab, more: &[&str]) -> Value {
    let told = lab.run(&[&["risk", "--files", "files.csv", "--json"], more].concat()).expect(&[0]).json();
    told["volumes"][0].clone()
}

/// Advice is worth what doing it is: the pool file is changed as it says, and asked again.
#[test]
fn doing_what_is_advised_saves_what_was_told() {
    let lab = Lab::new(PROGRAM, 1, 0, "40 MB");
    let disk = |name: &str, more: &str| format!("[[disk]]\nname = \"{name}\"\ncapacity = \"200 GB\"\n{more}");
    let worn = disk("beech", "yearly_failure = \"20 %\"\n");
    let data = disk("alder", "") + &worn + &disk("cedar", "");
    let oak = disk("oak", "");
    let volume = |parity: &str| {
        format!("kind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [{parity}]\n")
    };
    let risk = |every: &str| format!("[risk]\narrives_a_day = \"2 GB\"\nsync_every = \"{every}\"\n");
    on_paper(&lab, &(data.clone() + &oak), &volume("\"oak\""), &risk("8 days"));
    let told = ask_on_paper(&lab, &["--advise"]);
    let (total, chance) = (bytes_a_year(&told), number(&told["any_in_a_year"]));
    let advice = |action: &str| {
        let all = told["advice"].as_array().unwrap();
        all.iter().find(|a| a["action"] == action).unwrap_or_else(|| panic!("{action}: {all:?}")).clone()
    };
    let proven = |what: &str, advice: &Value, tolerance: f64| {
        let then = ask_on_paper(&lab, &[]);
        let saved = total - bytes_a_year(&then);
        let told = number(&advice["saves_bytes_a_year"]);
        assert!(told > 0.0 && (saved / told - 1.0).abs() < tolerance, "{what}: told {told}, saves {saved}");
        let less = chance - number(&then["any_in_a_year"]);
        let told = number(&advice["saves_chance_a_year"]);
        assert!((less - told).abs() < tolerance * chance, "{what}: told {told} less, is {less}");
    };
    let parity = advice("add-parity");
    on_paper(
        &lab,
        &(data.clone() + &oak + &disk("elm", "made = \"2026-11-01\"\n")),
        &volume("\"oak\", \"elm\""),
        &risk("8 days"),
    );
    proven("another parity", &parity, 0.05);
    let replace = advice("replace");
    assert_eq!(replace["disk"], "beech");
    let today = jiff::Zoned::now().date();
    let renewed = data.replace(&worn, &disk("beech", &format!("bought = \"{today}\"\n")));
    on_paper(&lab, &(renewed + &oak), &volume("\"oak\""), &risk("8 days"));
    proven("a new disk", &replace, 0.02);
}

/// A sync twice as often, on a pool that exists; on paper there is no sync to make.
#[test]
fn syncing_as_often_as_advised_saves_what_was_told() {
    let lab = pool(1);
    let text = lab.pool_text();
    lab.write_pool_file(&format!("{text}\n[risk]\nsync_every = \"8 days\"\narrives_a_day = \"1 MB\"\n"));
    let told = risk(&lab, &["--advise"]);
    let advice = told["advice"].as_array().unwrap();
    let often = advice.iter().find(|a| a["action"] == "sync-every").unwrap();
    let days = number(&often["days"]);
    lab.write_pool_file(&format!("{text}\n[risk]\nsync_every = \"{days} days\"\narrives_a_day = \"1 MB\"\n"));
    let saved = bytes_a_year(&told) - bytes_a_year(&risk(&lab, &[]));
    assert!((saved / number(&often["saves_bytes_a_year"]) - 1.0).abs() < 1e-6, "{saved} {often}");
}

/// With two parities what is lost is mostly lost by third failures; they are counted, and measured by playing.
#[test]
fn third_and_later_failures_count() {
    let lab = Lab::new(PROGRAM, 1, 0, "40 MB");
    let names = ["alder", "beech", "cedar", "elm", "oak", "ash", "yew"];
    let disks: String = names
        .iter()
        .map(|n| format!("[[disk]]\nname = \"{n}\"\ncapacity = \"200 GB\"\nyearly_failure = \"3 %\"\n"))
        .collect();
    for parities in [2, 3] {
        let quoted: Vec<String> = names.iter().map(|n| format!("\"{n}\"")).collect();
        let volume = format!(
            "kind = \"unstriped\"\ndata = [{}]\nparity = [{}]\n",
            quoted[..4].join(", "),
            quoted[4..4 + parities].join(", ")
        );
        on_paper(&lab, &disks, &volume, "[risk]\nreplace_within = \"7 days\"\n");
        let told = ask_on_paper(&lab, &["--simulate", "300000"]);
        let further = number(&told["odds"]["causes"]["further"]["bytes_a_year"]);
        assert!(further > 0.0 && number(&told["odds"]["causes"]["second"]["bytes_a_year"]) == 0.0, "{told}");
        let compared = told["comparison"].as_array().unwrap();
        let line = compared.iter().find(|l| l["cause"] == "further" && l["what"] == "bytes").unwrap();
        assert!(line["agrees"] == true && number(&line["error"]) < further, "{line}");
        assert!(compared.iter().all(|line| line["agrees"] == true), "{compared:?}");
    }
}
