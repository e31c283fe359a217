//! The agenda: shown, solved, exported, done.

#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::process::Command;

use super::{DAY, FRIDAY, HOUR, bring, lab, run_at};

const JOBS: &str = r#"
[agenda]
quiet_hours = ["22:00-07:00"]

[[agenda.job]]
do = "sync"
when = "daily 03:00"      # before breakfast

[[agenda.job]]
do = "verify"
share = "50 %"
when = "Sun 03:00"
"#;

#[test]
fn the_week_is_shown_and_what_collides_is_told_with_the_mend() {
    let lab = lab(JOBS);
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    let shown = run_at(&lab, FRIDAY + 8 * HOUR, &["agenda"]).expect(&[1]).stdout;
    assert!(shown.starts_with("3 things collide"), "{shown}");
    assert!(shown.contains("sync is wanted in quiet hours"), "{shown}");
    assert!(shown.lines().all(|line| line.chars().count() <= 110), "{shown}");
    let json = run_at(&lab, FRIDAY + 8 * HOUR, &["agenda", "--json"]).expect(&[1]).json();
    assert_eq!(
        json["runs"][0]["begins"], "2031-05-03T07:00:00Z",
        "what is wanted in quiet hours waits: {json}"
    );
    assert_eq!(json["runs"].as_array().unwrap().len(), 8);
}

#[test]
fn better_times_are_found_and_written_with_the_comments_kept() {
    let lab = lab(JOBS);
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    let before = lab.pool_text();
    let found = run_at(&lab, FRIDAY, &["agenda", "--solve", "--json"]).expect(&[0]).json();
    assert_eq!(lab.pool_text(), before, "solving alone writes nothing");
    assert_eq!(found["before"]["clashes"].as_array().unwrap().len(), 3);
    assert_eq!(found["after"]["clashes"].as_array().unwrap().len(), 0);
    run_at(&lab, FRIDAY, &["agenda", "--solve", "--write"]).expect(&[0]);
    let after = lab.pool_text();
    assert!(after.contains("# before breakfast") && !after.contains("daily 03:00"), "{after}");
    run_at(&lab, FRIDAY, &["agenda"]).expect(&[0]);
    let again = run_at(&lab, FRIDAY, &["agenda", "--solve", "--write"]).expect(&[0]).stdout;
    assert!(again.contains("no other times are better"), "{again}");
    assert_eq!(lab.pool_text(), after);
}

#[test]
fn exports_are_written_and_nothing_is_overwritten() {
    let lab = lab(JOBS);
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    for kind in ["ics", "timers", "cron"] {
        run_at(&lab, FRIDAY, &["agenda", "--export", kind, "out"]).expect(&[0]);
        run_at(&lab, FRIDAY, &["agenda", "--export", kind, "out"]).expect(&[4]);
    }
    run_at(&lab, FRIDAY, &["agenda", "--export", "pigeon", "out"]).expect(&[2]);
    let calendar = fs::read_to_string(lab.root().join("out/fernhollow.ics")).unwrap();
    for line in [
        "RRULE:FREQ=WEEKLY;BYDAY=SU;BYHOUR=3;BYMINUTE=0;BYSECOND=0",
        "DTSTART:20310502T030000",
        "BEGIN:VALARM",
    ] {
        assert!(calendar.contains(line), "{line}: {calendar}");
    }
    assert!(calendar.lines().all(|line| line.len() <= 76), "lines are folded");
    let cron = fs::read_to_string(lab.root().join("out/fernhollow.cron")).unwrap();
    assert!(cron.contains("0 3 * * sun '"), "{cron}");
    let units = ["zinc-sieve-agenda-fernhollow.service", "zinc-sieve-agenda-fernhollow.timer"];
    let paths = units.map(|unit| lab.root().join("out").join(unit));
    let Ok(checked) = Command::new("systemd-analyze").arg("verify").args(&paths).output() else {
        eprintln!("there is no systemd-analyze here: the units were not checked by it");
        return;
    };
    let said = String::from_utf8_lossy(&checked.stderr).into_owned();
    assert!(checked.status.success() && !said.contains("agenda-fernhollow"), "{said}");
    let timer = fs::read_to_string(&paths[1]).unwrap();
    for line in timer.lines().filter_map(|line| line.strip_prefix("OnCalendar=")) {
        let checked = Command::new("systemd-analyze").args(["calendar", line]).output().unwrap();
        assert!(checked.status.success(), "{line}");
    }
}

#[test]
fn what_is_due_is_done_once_and_what_was_missed_is_caught_up_once() {
    let lab = lab("[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 03:00\"\n");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    bring(&lab, "alder", "0007.wav", &[7; 9000]);
    let due = |at: i64| run_at(&lab, at, &["agenda", "--due"]).expect(&[0]).stdout;
    let syncs =
        || run_at(&lab, FRIDAY, &["journal", "--kind", "sync", "--json"]).list().as_array().unwrap().len();
    assert!(due(FRIDAY + HOUR).contains("Nothing is due; next Fri 2 May 03:00"));
    assert!(due(FRIDAY + 4 * HOUR).contains("sync done"));
    assert!(due(FRIDAY + 5 * HOUR).contains("Nothing is due"));
    assert_eq!(syncs(), 1);
    // Three nights with the machine off.
    due(FRIDAY + 3 * DAY + 9 * HOUR);
    due(FRIDAY + 3 * DAY + 10 * HOUR);
    assert_eq!(syncs(), 2);
    // What somebody did by hand need not be done again.
    run_at(&lab, FRIDAY + 4 * DAY + 3 * HOUR + 60, &["sync", "--yes"]).expect(&[0]);
    assert!(due(FRIDAY + 4 * DAY + 9 * HOUR).contains("Nothing is due"));
}

#[test]
fn a_job_that_would_have_to_ask_is_refused_told_and_done_when_it_is_answered() {
    let lab = lab("[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 03:00\"\n");
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    (0..20).for_each(|n| bring(&lab, "alder", &format!("{n}.wav"), &[n; 4000]));
    run_at(&lab, FRIDAY + 60, &["sync", "--yes"]).expect(&[0]);
    (0..20).for_each(|n| fs::remove_file(lab.disk("alder").join(format!("{n}.wav"))).unwrap());
    let refused = run_at(&lab, FRIDAY + 4 * HOUR, &["agenda", "--due"]).expect(&[1]).stdout;
    assert!(refused.contains("sync refused"), "{refused}");
    run_at(&lab, FRIDAY + 5 * HOUR, &["agenda", "--due"]).expect(&[0]);
    let notices = run_at(&lab, FRIDAY + 5 * HOUR, &["notice", "--json"]).expect(&[1]).list();
    let codes: Vec<&str> = notices.as_array().unwrap().iter().map(|n| n["code"].as_str().unwrap()).collect();
    assert!(codes.contains(&"sync-suspicious") && codes.contains(&"job-failed:sync"), "{notices}");
    let journal = run_at(&lab, FRIDAY + 5 * HOUR, &["journal", "--failed", "--json"]).list();
    assert_eq!(journal[0]["job"], "sync", "{journal}");
    run_at(&lab, FRIDAY + 6 * HOUR, &["sync", "--accept", "alder", "--yes"]).expect(&[0]);
    let notices = run_at(&lab, FRIDAY + 6 * HOUR, &["notice", "--json"]).list();
    assert!(notices.as_array().unwrap().iter().all(|n| n["code"] != "sync-suspicious"), "{notices}");
}

#[test]
fn a_file_is_guarded_some_time_after_it_arrived_and_other_disks_sleep() {
    use std::io::{BufRead, BufReader};
    let lab = lab("[[agenda.job]]\ndo = \"sync\"\nwhen = \"1 second after the last arrival\"\n");
    lab.run(&["create", "--yes"]).expect(&[0]);
    bring(&lab, "beech", "before.wav", &[1; 5000]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let mut command = lab.command(&["agenda", "--run", "--json"]);
    command.stdout(std::process::Stdio::piped());
    let mut child = command.spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(800));
    bring(&lab, "alder", "0007.wav", &[7; 9000]);
    let line = BufReader::new(child.stdout.take().unwrap()).lines().next().unwrap().unwrap();
    assert!(line.contains("\"came\":\"done\""), "{line}");
    Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap();
    assert!(child.wait().unwrap().success());
    let sync = lab.run(&["journal", "--kind", "sync", "--last", "1", "--json"]).list();
    assert_eq!(
        sync[0]["disks"],
        serde_json::json!(["alder"]),
        "only the disk that something came to is looked at: {sync}"
    );
    assert_eq!(lab.run(&["status", "--json"]).json()["guard"][0]["files"], 0);
}

#[test]
fn mistakes_in_the_agenda_point_at_their_line() {
    let lab = lab("[[agenda.job]]\ndo = \"sync\"\nwhen = \"now and then\"\n");
    let told = run_at(&lab, FRIDAY, &["check"]).expect(&[2]).stderr;
    assert!(told.contains("no time that is understood") && told.contains("pool.toml:"), "{told}");
    let none = self::lab("");
    run_at(&none, FRIDAY, &["create", "--yes"]).expect(&[0]);
    assert!(run_at(&none, FRIDAY, &["agenda"]).expect(&[2]).stderr.contains("[[agenda.job]]"));
}

/// A sync takes longer where more arrives: that is in the week, in what is proposed, and in the calendar.
#[test]
fn a_job_takes_as_long_wherever_it_is_told() {
    let jobs = "[risk]\narrives_a_day = \"200 GB\"\n\n[agenda]\n[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 03:00\"\n";
    let lab = lab(jobs);
    run_at(&lab, FRIDAY, &["create", "--yes"]).expect(&[0]);
    let week = run_at(&lab, FRIDAY, &["agenda", "--json"]).expect(&[0, 1]).json();
    let at =
        |text: &serde_json::Value| text.as_str().unwrap().parse::<jiff::Timestamp>().unwrap().as_second();
    let runs = week["runs"].as_array().unwrap();
    let longest = runs.iter().map(|run| at(&run["likely_end"]) - at(&run["begins"])).max().unwrap();
    assert!(longest > 600, "{week}");
    let proposed = run_at(&lab, FRIDAY, &["agenda", "--solve", "--json"]).expect(&[0, 1]).json();
    let told = proposed["jobs"][0]["likely_seconds"].as_f64().unwrap();
    assert!((told / longest as f64 - 1.0).abs() < 0.05, "{longest} {proposed}");
    run_at(&lab, FRIDAY, &["agenda", "--export", "ics", "out"]).expect(&[0]);
    let calendar = fs::read_to_string(lab.root().join("out/fernhollow.ics")).unwrap();
    let minutes = (longest as u64).div_ceil(60);
    assert!(calendar.contains(&format!("DURATION:PT{minutes}M")), "{longest}: {calendar}");
}
