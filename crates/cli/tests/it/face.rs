//! Guards against a face that says too much, too little, or something else to a program than to a person: the answer alone,
//! the log, colours, a screen at a time, what went wrong as JSON, one tree for all disks.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::process::{Command, Stdio};

use rstest::rstest;
use sieve_testkit::{Lab, Run};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// Three disks, a folder that lies on two of them, synced; then a new file.
fn lab() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    for (disk, name, size) in
        [("alder", "wren.flac", 9_000), ("beech", "robin.flac", 70_000), ("beech", "may/owl.flac", 4_000)]
    {
        let path = lab.disk(disk).join("dawn").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, vec![7; size]).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(lab.disk("cedar").join("late.txt"), "late").unwrap();
    lab
}

#[rstest]
#[case(&["status"], 5, "something waits")]
#[case(&["check"], 0, "are fine")]
#[case(&["fate", "--lose", "alder"], 0, "every file survives")]
#[case(&["fate", "--lose", "cedar"], 1, "1 file gone")]
#[case(&["drill", "--lose", "alder"], 0, "Proven")]
#[case(&["verify"], 0, "No damage.")]
#[case(&["risk"], 0, "the chance of losing anything")]
#[case(&["rm", "dawn/wren.flac", "--yes"], 0, "Removed: 1 file")]
#[case(&["sync", "--yes"], 0, "is guarded now")]
#[case(&["move", "dawn/wren.flac", "--to", "cedar", "--yes"], 0, "1 file moved")]
#[case(&["even-out", "--until", "90 %", "--yes"], 0, "Nothing of recordings has to move")]
#[case(&["rename", "disk", "alder", "larch", "--yes"], 0, "Done")]
#[case(&["convert", "recordings", "--to", "mirrored", "--yes"], 0, "is mirrored now")]
#[case(&["design", "--hdd", "4TB,4TB,2TB"], 0, "Recommended")]
fn the_answer_alone_is_a_line(#[case] arguments: &[&str], #[case] code: i32, #[case] words: &str) {
    let lab = lab();
    let whole = lab.run(arguments);
    let lab = self::lab();
    let run = lab.run(&[arguments, &["--quiet"]].concat()).expect(&[code]);
    assert_eq!(run.stdout.lines().count(), 1, "{}", run.stdout);
    assert!(run.stdout.contains(words) && run.stderr.is_empty(), "{} {}", run.stdout, run.stderr);
    assert!(whole.stdout.len() >= run.stdout.len(), "{}", whole.stdout);
}

/// Whoever is asked sees what about, and whoever wants a plan gets it, however quiet.
#[test]
fn no_plan_is_left_out_before_a_question() {
    let lab = lab();
    let asked = lab.run(&["rm", "dawn/wren.flac", "--quiet"]).expect(&[2]);
    assert!(
        asked.stdout.contains("Removes from recordings") && asked.stdout.contains("alder"),
        "{}",
        asked.stdout
    );
    let shown = lab.run(&["rm", "dawn/wren.flac", "--quiet", "--dry-run"]).expect(&[0]);
    assert!(shown.stdout.contains("alder") && !shown.stdout.contains("Removed"), "{}", shown.stdout);
    // Somebody says no at a terminal: nothing is removed, and nothing is said to be.
    let typed = format!("{PROGRAM} --pool {} rm dawn/wren.flac", lab.pool_file().display());
    let mut asked = Command::new("script");
    asked.args(["-qec", &typed, "/dev/null"]).stdin(Stdio::piped()).stdout(Stdio::piped());
    if let Ok(mut asked) = asked.spawn() {
        std::io::Write::write_all(&mut asked.stdin.take().unwrap(), b"n\n").unwrap();
        let said = Run::of(&asked.wait_with_output().unwrap()).stdout;
        assert!(said.contains("Nothing was done") && !said.contains("Removed"), "{said}");
    }
    assert!(lab.disk("alder").join("dawn/wren.flac").exists());
}

#[test]
fn what_is_done_is_in_the_log_and_nobodys_file_becomes_one() {
    let lab = lab();
    lab.run(&["sync", "--yes", "--log", "steps.log"]).expect(&[0]);
    lab.run(&["fate", "--lose", "elm", "--log", "steps.log"]).expect(&[2]);
    let log = fs::read_to_string(lab.root().join("steps.log")).unwrap();
    for words in
        ["# log of zinc-sieve", "begins", "\"sync\"", "computing parity", "ends", "ERROR", "disk.unknown"]
    {
        assert!(log.contains(words), "{words}: {log}");
    }
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &fs::metadata(lab.root().join("steps.log")).unwrap().permissions(),
    );
    assert_eq!(mode & 0o077, 0, "it names files, and is for its owner alone");
    let before = fs::read(lab.pool_file()).unwrap();
    let pool = lab.pool_file().display().to_string();
    let run = lab.run(&["status", "--log", &pool]).expect(&[4]);
    assert!(run.stderr.contains("no log of this program"), "{}", run.stderr);
    assert_eq!(fs::read(lab.pool_file()).unwrap(), before);
}

#[test]
fn colours_are_as_somebody_wants_them() {
    let lab = lab();
    let is_coloured =
        |arguments: &[&str]| lab.run(&[&["status"], arguments].concat()).stdout.contains('\u{1b}');
    assert!(!is_coloured(&[]), "there is no terminal");
    assert!(is_coloured(&["--color", "always"]));
    assert!(!is_coloured(&["--color", "never"]));
}

#[test]
fn a_mistake_is_told_to_programs_too() {
    let lab = lab();
    for (arguments, code) in [
        (&["stauts", "--json"][..], "usage"),
        (&["sync", "--no-such", "--json"], "usage"),
        (&["fate", "--lose", "elm", "--json"], "disk.unknown"),
    ] {
        let told = lab.run(arguments).expect(&[2]).json();
        assert_eq!((&told["format"], &told["version"]), (&"zinc-sieve/error".into(), &1.into()), "{told}");
        assert_eq!(told["error"]["code"], code, "{told}");
    }
}

#[test]
fn the_version_says_what_it_was_built_from() {
    let output = Command::new(PROGRAM).arg("--version").output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(
        text.starts_with("zinc-sieve 0.") && text.contains("commit ") && text.contains(" build for "),
        "{text}"
    );
}

/// On a terminal what is read goes through the pager; what is done, and what goes to a pipe, does not.
#[test]
fn long_results_are_read_a_screen_at_a_time() {
    let lab = lab();
    let on_a_terminal = |arguments: &str| {
        let typed = format!("{PROGRAM} --pool {} {arguments}", lab.pool_file().display());
        let output = Command::new("script")
            .args(["-qec", &typed, "/dev/null"])
            .env("PAGER", "sed s/^/paged:/")
            .stdin(Stdio::null())
            .output();
        output.ok().map(|output| Run::of(&output).stdout)
    };
    // Where no terminal can be had, nothing can be seen of it.
    let Some(shown) = on_a_terminal("ls --tree") else { return };
    assert!(
        shown.contains("paged:  dawn/") || shown.contains("paged:") && shown.contains("dawn/"),
        "{shown}"
    );
    assert!(!on_a_terminal("ls --tree --no-pager").unwrap().contains("paged:"));
    assert!(!on_a_terminal("verify").unwrap().contains("paged:"));
    assert!(on_a_terminal("status --help").unwrap().contains("paged:Show at one glance"));
    assert!(!on_a_terminal("status --help --no-pager").unwrap().contains("paged:"));
    assert!(!lab.run(&["ls", "--tree"]).stdout.contains("paged:"));
}

#[test]
fn a_folder_is_listed_once_whichever_disks_it_lies_on() {
    let lab = lab();
    let entries = |arguments: &[&str]| {
        let told = lab.run(&[&["ls", "--json"], arguments].concat()).expect(&[0]).json();
        let entries = told["entries"].as_array().unwrap().clone();
        let path = |entry: &serde_json::Value| entry["path"].as_str().unwrap().to_string();
        (entries.iter().map(path).collect::<Vec<_>>(), entries, told)
    };
    let (paths, rows, told) = entries(&[]);
    assert_eq!(paths, ["dawn", "late.txt"]);
    assert_eq!((&rows[0]["files"], &rows[0]["size_bytes"]), (&3.into(), &83_000.into()), "{told}");
    assert_eq!(rows[0]["disks"], serde_json::json!(["alder", "beech"]));
    assert_eq!((&told["files"], &told["size_bytes"]), (&4.into(), &83_004.into()), "{told}");
    assert_eq!(entries(&["dawn"]).0, ["dawn/may", "dawn/robin.flac", "dawn/wren.flac"]);
    assert_eq!(entries(&["dawn", "--sort", "size"]).0, ["dawn/robin.flac", "dawn/wren.flac", "dawn/may"]);
    let all = ["dawn", "dawn/robin.flac", "dawn/wren.flac", "dawn/may", "dawn/may/owl.flac", "late.txt"];
    assert_eq!(entries(&["--tree", "--sort", "size"]).0, all);
    assert_eq!(entries(&["dawn/wren.flac"]).0, ["dawn/wren.flac"], "a file is listed as itself");
    let (paths, rows, _) = entries(&["--long"]);
    let guards: Vec<_> = rows.iter().map(|row| row["guard"].as_u64().unwrap()).collect();
    assert_eq!((paths.len(), guards), (2, vec![1, 0]), "a folder is as guarded as its weakest file");
    assert_eq!(rows[1]["unguarded"], "new");
}

#[test]
fn status_tells_volumes_since_when_and_what_comes_next() {
    let lab = lab();
    let agenda = "\n[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 22:00\"\n";
    lab.write_pool_file(&format!("{}{agenda}", lab.pool_text()));
    let before = lab.run(&["status", "--json"]).expect(&[5]).json();
    let volume = &before["volumes"][0];
    let [total, used, free] =
        ["total_bytes", "used_bytes", "free_bytes"].map(|key| volume[key].as_u64().unwrap());
    assert_eq!((total, used + free), (120_000_000, total), "{volume}");
    assert!(before["unguarded_since"].is_string() && before["verified_at"].is_null(), "{before}");
    assert_eq!(before["next"]["job"], "sync");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    let after = lab.run(&["status", "--json"]).expect(&[0]).json();
    assert!(after["unguarded_since"].is_null() && after["verified_at"].is_string(), "{after}");
    let shown = lab.run(&["status"]).expect(&[0]).stdout;
    assert!(
        shown.starts_with("fernhollow  all is well") && shown.contains("next by the agenda: sync"),
        "{shown}"
    );
}

/// Who is to wait for hours is told so before, and which disk of the case will be busy.
#[test]
fn what_takes_long_says_so_before_and_on_which_disk() {
    let lab = lab();
    let slow = "simulated = true\nspeed = [\"2 kB/s\"]";
    let first = "name = \"beech\"\nbay = \"B2\"\nserial = \"TW12-88Q4K7\"";
    let text = lab.pool_text().replace("simulated = true", slow).replacen("name = \"beech\"", first, 1);
    lab.write_pool_file(&text);
    let verify = lab.run(&["verify"]).expect(&[0]).stdout;
    assert!(verify.contains("beech (bay B2, serial …Q4K7)"), "{verify}");
    assert!(verify.contains("It is likely to take") && verify.contains("held up by oak"), "{verify}");
    let share = lab.run(&["verify", "--share", "1 %"]).expect(&[0]).stdout;
    assert!(!share.contains("likely"), "what is over in a moment needs no forecast: {share}");

    fs::create_dir(lab.root().join("new")).unwrap();
    let before = lab.run(&["burn-in", "new", "--amount", "50 GB", "--dry-run"]).expect(&[0]).stdout;
    let there = lab.run(&["burn-in", "new", "--dry-run", "--json"]).expect(&[0]).json();
    if there["bytes"].as_u64().unwrap() > 4_000_000_000 {
        assert!(
            before.contains("likely to take") && before.contains("if it is a 3.5-inch hard disk"),
            "{before}"
        );
    }
    assert_eq!(fs::read_dir(lab.root().join("new")).unwrap().count(), 0, "nothing is made for the answer");
}

/// A list opens in a spreadsheet: a heading, a line for each thing, figures without units; it is CSV or JSON, not both.
#[rstest]
#[case(&["ls", "--tree"], &["path", "size_bytes", "disks", "guard"], "dawn/may/owl.flac", 6)]
#[case(&["where", "*.flac"], &["volume", "path", "size_bytes", "disks"], "dawn/robin.flac", 3)]
#[case(&["usage"], &["of", "disk", "files", "bytes"], "flac", 3)]
#[case(&["duplicates"], &["checksum", "path", "disks"], "dawn/copy.flac", 2)]
#[case(&["journal"], &["at", "did", "ended", "seconds"], "create", 2)]
#[case(&["design", "--hdd", "4TB,4TB,8TB"], &["plan", "recommended", "usable_bytes"], "\"unstriped, 2 parity\"", 3)]
#[case(&["disks"], &["disk", "role", "size_bytes", "price"], "alder", 4)]
#[case(&["fate", "--lose", "alder"], &["volume", "path", "fate", "reason"], "dawn/wren.flac", 5)]
fn lists_open_in_a_spreadsheet(
    #[case] arguments: &[&str],
    #[case] columns: &[&str],
    #[case] one: &str,
    #[case] least: usize,
) {
    let lab = lab();
    fs::copy(lab.disk("alder").join("dawn/wren.flac"), lab.disk("cedar").join("copy.flac")).unwrap();
    fs::create_dir_all(lab.disk("cedar").join("dawn")).unwrap();
    fs::rename(lab.disk("cedar").join("copy.flac"), lab.disk("cedar").join("dawn/copy.flac")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let sheet = lab.run(&[arguments, &["--csv"]].concat()).expect(&[0, 1]).stdout;
    let heading: Vec<&str> = sheet.lines().next().unwrap().split(',').collect();
    assert!(columns.iter().all(|column| heading.contains(column)), "{sheet}");
    assert!(sheet.lines().skip(1).count() >= least, "{sheet}");
    assert!(sheet.lines().any(|line| line.contains(one)), "{sheet}");
    let both = lab.run(&[arguments, &["--csv", "--json"]].concat()).expect(&[2]).stdout;
    assert!(both.contains("cannot be used with"), "{both}");
}

/// A zone by its name works also where the system has no files of zones, and what is told says which it is.
#[rstest]
#[case("Europe/Berlin", "CET", "2026-12-01 13:00 CET")]
#[case("Asia/Kolkata", "IST", "2026-12-01 17:30 IST")]
#[case("UTC", "UTC", "2026-12-01 12:00 UTC")]
fn times_are_of_the_zone_that_is_named(#[case] zone: &str, #[case] short: &str, #[case] moment: &str) {
    let lab = lab();
    let run = |arguments: &[&str]| {
        let mut command = lab.command(arguments);
        // Noon of the first of December.
        command.env("ZINC_SIEVE_NOW", "1796126400000000000").env("TZ", zone).env("TZDIR", "/nowhere");
        Run::of(&command.output().unwrap()).expect(&[0, 5]).stdout
    };
    run(&["verify"]);
    let journal = run(&["journal", "--since", "2026-12-01"]);
    assert!(journal.contains(&format!("Tue 1 Dec 2026, {short}")), "{journal}");
    let clock = moment.split(' ').nth(1).unwrap();
    assert!(journal.contains(clock), "{journal}");
    run(&["report", "page.html"]);
    let page = fs::read_to_string(lab.root().join("page.html")).unwrap();
    assert!(page.contains(moment), "{moment}");
}
