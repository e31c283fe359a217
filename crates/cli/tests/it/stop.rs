//! Guards against a sync that cannot be stopped, or that loses what it had done: it ends at a checkpoint, says so, and the
//! next one goes on from there, in the middle of a file too.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::process::Stdio;
use std::time::Duration;

use rstest::rstest;
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const LONG: usize = 24_000_000;

fn lab() -> Lab {
    let lab = Lab::new(PROGRAM, 2, 2, "120 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("dawn.flac"), Chance::new(3).bytes(LONG)).unwrap();
    fs::write(lab.disk("beech").join("dusk.flac"), Chance::new(4).bytes(2_000_000)).unwrap();
    lab
}

/// Begins a slow sync, and asks it to stop when it has told of some cells.
fn stop_a_sync(lab: &Lab, signal: Signal) -> Value {
    stop(lab, &["sync", "--yes", "--json", "--limit", "6 MB/s", "--events"], signal)
}

fn stop(lab: &Lab, arguments: &[&str], signal: Signal) -> Value {
    use std::io::{BufRead, BufReader, Read};
    let mut child = lab.command(arguments).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut events = BufReader::new(child.stderr.take().unwrap());
    let mut advanced = 0;
    while advanced < 12 {
        let mut line = String::new();
        assert!(events.read_line(&mut line).unwrap() > 0, "it ended before it was asked to");
        let event: Value = serde_json::from_str(&line).unwrap();
        advanced += u64::from(event["event"] == "advanced");
    }
    kill_process(Pid::from_child(&child), signal).unwrap();
    let mut rest = String::new();
    events.read_to_string(&mut rest).unwrap();
    let mut out = String::new();
    child.stdout.take().unwrap().read_to_string(&mut out).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(1), "{rest}");
    serde_json::from_str(&out).unwrap()
}

#[test]
fn a_signal_stops_at_a_checkpoint_and_the_next_sync_goes_on() {
    for signal in [Signal::INT, Signal::TERM] {
        let lab = lab();
        let report = stop_a_sync(&lab, signal);
        assert_eq!(report["stopped"], true);
        let done = report["cells"].as_u64().unwrap();
        assert!((12..23).contains(&done), "{done} cells");
        // The file is in parity in part: it is not said to be guarded, and nothing is said to be damaged.
        lab.run(&["verify"]).expect(&[0]);
        let fate = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[1]).json();
        assert_eq!(fate["totals"]["rebuilt"]["files"], 0);
        let drill = lab.run(&["drill", "--lose", "alder", "--json"]).expect(&[0, 1]).json();
        assert_eq!(drill["surprises"], serde_json::json!([]));
        let report = lab.run(&["sync", "--yes", "--json"]).expect(&[0]).json();
        assert_eq!(report["cells"].as_u64().unwrap(), 23 - done, "what was done is not done again");
        let read = report["read_bytes"]["alder"].as_u64().unwrap();
        assert!(read < LONG as u64 - (done - 2) * (1 << 20), "{read} bytes of the file are read again");
        lab.run(&["verify"]).expect(&[0]);
        lab.run(&["fate", "--lose", "alder,beech"]).expect(&[0]);
        lab.run(&["drill", "--lose", "alder,beech"]).expect(&[0]);
    }
}

#[test]
fn a_file_that_changes_after_the_stop_is_taken_anew() {
    let lab = lab();
    stop_a_sync(&lab, Signal::TERM);
    std::thread::sleep(Duration::from_millis(30));
    fs::write(lab.disk("alder").join("dawn.flac"), Chance::new(9).bytes(LONG - 5)).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "alder"]).expect(&[0]);
}

#[test]
fn a_rename_after_the_stop_is_no_damage() {
    let lab = lab();
    stop_a_sync(&lab, Signal::TERM);
    fs::rename(lab.disk("alder").join("dawn.flac"), lab.disk("alder").join("chorus.flac")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "alder"]).expect(&[0]);
}

#[test]
fn a_verify_that_is_stopped_forgets_no_damage_that_it_did_not_come_to() {
    let lab = lab();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.flip(&lab.disk(&lab.parity[0]).join(".zinc-sieve/parity/segment-00000"), 22 << 20);
    lab.run(&["verify"]).expect(&[1]);
    let damaged = |lab: &Lab| lab.run(&["status", "--json"]).expect(&[1]).json()["damaged_cells"].clone();
    assert_eq!(damaged(&lab), 1);
    let report = stop(&lab, &["verify", "--json", "--limit", "6 MB/s", "--events"], Signal::INT);
    assert_eq!(report["stopped"], true);
    assert_eq!(damaged(&lab), 1);
}

/// Reading disk by disk, or a folder, is held back and stopped like everything else, also in the middle of a file.
#[rstest]
#[case::files(&["--disks", "alder"])]
#[case::parity(&["--disks", "oak"])]
#[case::folder(&["--folder", "many"])]
fn a_verify_of_a_part_stops_and_keeps_to_its_rate(#[case] part: &[&str]) {
    let lab = lab();
    fs::create_dir(lab.disk("alder").join("many")).unwrap();
    for n in 0..30 {
        fs::write(lab.disk("alder").join(format!("many/{n}.bin")), Chance::new(n).bytes(1_000_000)).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let arguments = [&["verify", "--json", "--limit", "8 MB/s", "--events"], part].concat();
    let begun = std::time::Instant::now();
    let report = stop(&lab, &arguments, Signal::INT);
    assert_eq!(report["stopped"], true, "{report}");
    let seen =
        report["files_checked"].as_u64().unwrap() + report["parity_cells_by_checksum"].as_u64().unwrap();
    assert!((1..30).contains(&seen), "what was read is told, and no more: {report}");
    // A dozen megabytes at eight a second: never faster than that.
    assert!(begun.elapsed() > Duration::from_millis(1000), "{:?}", begun.elapsed());
}

/// A long file is left in the middle; it does not count as checked, and its damage is not forgotten.
#[test]
fn a_verify_stops_within_a_file() {
    let lab = lab();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let mut child = lab
        .command(&["verify", "--json", "--events", "--limit", "4 MB/s", "--folder", "dawn.flac"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // Before it tells of anything it does not listen yet, however long a busy machine takes for that.
    let mut told = String::new();
    let mut events = std::io::BufReader::new(child.stderr.take().unwrap());
    std::io::BufRead::read_line(&mut events, &mut told).unwrap();
    assert!(told.contains("stage"), "{told}");
    std::thread::sleep(Duration::from_millis(700));
    kill_process(Pid::from_child(&child), Signal::TERM).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(1));
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&report["stopped"], &report["files_checked"]), (&Value::Bool(true), &Value::from(0)));
}

/// What is computed cell by cell, since something on the way is damaged, stops and is held back as well.
#[test]
fn the_rest_of_a_sync_stops_at_a_checkpoint_too() {
    use std::io::{BufRead, BufReader};
    let lab = lab();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for cell in 0..22 {
        lab.flip(&lab.disk("alder").join("dawn.flac"), (cell << 20) + 99);
    }
    fs::write(lab.disk("beech").join("long.flac"), Chance::new(8).bytes(LONG)).unwrap();
    let mut child = lab
        .command(&["sync", "--yes", "--json", "--limit", "20 MB/s", "--events"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let (mut is_at_the_rest, mut cells) = (false, 0);
    for line in BufReader::new(child.stderr.take().unwrap()).lines() {
        let Ok(event) = serde_json::from_str::<Value>(&line.unwrap()) else { continue };
        is_at_the_rest |= event["name"] == "computing the rest";
        cells += u64::from(is_at_the_rest && event["event"] == "advanced");
        if cells == 3 {
            kill_process(Pid::from_child(&child), Signal::INT).unwrap();
        }
    }
    assert!(is_at_the_rest, "what is damaged is left to the careful way");
    let output = child.wait_with_output().unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((output.status.code(), &report["stopped"]), (Some(1), &Value::Bool(true)), "{report}");
    assert!((3..15).contains(&cells), "it stopped soon: {cells} cells");
    // What was done is kept; the next one does the others, and nothing of it was lost.
    let next = lab.run(&["sync", "--yes", "--json"]).expect(&[0, 1]).json();
    assert_eq!(next["stopped"], false);
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["drill", "--lose", "beech"]).expect(&[0]);
}

/// A pool in which something long is to be done, and the command that does it.
struct Long {
    lab: Lab,
    command: Vec<&'static str>,
    /// What its stage is called.
    stage: &'static str,
}

fn with_volume(disks: &[(&'static str, u64)], volume: &str) -> Lab {
    let lab = Lab::of(PROGRAM, disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/dawn.flac"), Chance::new(3).bytes(LONG)).unwrap();
    lab
}

fn guarded() -> Lab {
    with_volume(
        &[("alder", 120), ("beech", 120), ("oak", 120)],
        "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\n",
    )
}

fn put_and_synced() -> Lab {
    let lab = guarded();
    lab.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("out")).unwrap();
    lab
}

fn holder(lab: &Lab) -> &'static str {
    ["alder", "beech"].into_iter().find(|disk| lab.disk(disk).join("card/dawn.flac").exists()).unwrap()
}

fn put() -> Long {
    Long { lab: guarded(), command: vec!["put", "card", ".", "--yes"], stage: "copying" }
}

fn get() -> Long {
    Long { lab: put_and_synced(), command: vec!["get", "card", "out"], stage: "" }
}

fn get_of_a_lost_disk() -> Long {
    let lab = put_and_synced();
    fs::remove_dir_all(lab.disk(holder(&lab))).unwrap();
    Long { lab, command: vec!["get", "card", "out"], stage: "" }
}

fn restore() -> Long {
    let lab = put_and_synced();
    lab.run(&["rm", "card/dawn.flac", "--yes"]).expect(&[0]);
    Long { lab, command: vec!["restore", "card/dawn.flac", "--yes"], stage: "restoring" }
}

fn drill() -> Long {
    let lab = put_and_synced();
    let lost = holder(&lab);
    Long { lab, command: vec!["drill", "--lose", lost], stage: "reconstructing" }
}

fn mend() -> Long {
    let lab = put_and_synced();
    let disk = holder(&lab);
    lab.flip(&lab.disk(disk).join("card/dawn.flac"), 5 << 20);
    lab.run(&["verify"]).expect(&[1]);
    let command = vec!["verify", "--mend", "--yes", "--folder", "card"];
    Long { lab, command, stage: "mending" }
}

fn copies_of_a_mirror() -> Long {
    let lab = with_volume(
        &[("alder", 120), ("beech", 120)],
        "data = [\"alder\", \"beech\"]\nkind = \"mirrored\"\ncopies = 2\n",
    );
    fs::copy(lab.root().join("card/dawn.flac"), lab.disk("alder").join("dawn.flac")).unwrap();
    Long { lab, command: vec!["sync", "--yes"], stage: "copying" }
}

fn cached() -> Lab {
    let lab = with_volume(
        &[("alder", 120), ("oak", 120), ("flint", 120)],
        "data = [\"alder\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\n",
    );
    lab.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    lab
}

fn settle() -> Long {
    Long { lab: cached(), command: vec!["settle", "--yes"], stage: "settling" }
}

fn dissolve_with_a_cache() -> Long {
    Long { lab: cached(), command: vec!["dissolve", "recordings", "--yes"], stage: "settling" }
}

fn dissolve_with_pieces() -> Long {
    let lab = with_volume(
        &[("alder", 20), ("beech", 60)],
        "data = [\"alder\", \"beech\"]\nkind = \"spanned\"\nplacement = \"in-order\"\n",
    );
    lab.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    assert!(!lab.disk("beech").join("card/dawn.flac").exists(), "it lies in pieces");
    Long { lab, command: vec!["dissolve", "recordings", "--yes"], stage: "" }
}

fn move_to_a_disk() -> Long {
    let lab = put_and_synced();
    let to = if holder(&lab) == "alder" { "beech" } else { "alder" };
    Long { lab, command: vec!["move", "card", "--to", to, "--yes"], stage: "" }
}

fn move_to_a_volume() -> Long {
    let lab = with_volume(
        &[("alder", 120), ("oak", 120), ("cedar", 120), ("pine", 120)],
        "data = [\"alder\"]\nparity = [\"oak\"]\n\n[[volume]]\nname = \"archive\"\ndata = [\"cedar\"]\nparity = [\"pine\"]\n",
    );
    lab.run(&["put", "card", ".", "--volume", "recordings", "--yes"]).expect(&[0]);
    Long { lab, command: vec!["move", "card", "--volume", "archive", "--yes"], stage: "copying" }
}

fn move_to_a_volume_while_it_is_guarded() -> Long {
    Long { stage: "computing parity", ..move_to_a_volume() }
}

fn vacate_of_a_data_disk() -> Long {
    let lab = put_and_synced();
    let disk = holder(&lab);
    Long { lab, command: vec!["vacate", disk, "--yes"], stage: "" }
}

fn replace_of_a_data_disk() -> Long {
    let lab = put_and_synced();
    let disk = holder(&lab);
    fs::create_dir(lab.root().join("new")).unwrap();
    Long { lab, command: vec!["replace", disk, "--onto", "new", "--yes"], stage: "" }
}

fn rebuild() -> Long {
    let lab = put_and_synced();
    let lost = holder(&lab);
    fs::remove_dir_all(lab.disk(lost)).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    Long { lab, command: vec!["rebuild", lost, "--onto", "new", "--yes"], stage: "rebuilding" }
}

fn rebuild_of_a_folder_first() -> Long {
    let long = rebuild();
    Long { command: [&long.command[..], &["--first", "card"]].concat(), stage: "", ..long }
}

/// Whatever moves many bytes keeps to its limit, tells of itself, ends soon after a signal, also in the middle of a file,
/// says so, and leaves a pool in which the same command does the rest.
#[rstest]
fn whatever_takes_long_stops_and_goes_on(
    #[values(
        put,
        get,
        get_of_a_lost_disk,
        restore,
        drill,
        mend,
        copies_of_a_mirror,
        settle,
        dissolve_with_a_cache,
        dissolve_with_pieces,
        rebuild,
        rebuild_of_a_folder_first,
        move_to_a_disk,
        move_to_a_volume,
        move_to_a_volume_while_it_is_guarded,
        vacate_of_a_data_disk,
        replace_of_a_data_disk
    )]
    prepare: fn() -> Long,
) {
    use std::io::{BufRead, BufReader};
    let Long { lab, command, stage } = prepare();
    let held_back = [&command[..], &["--json", "--limit", "5 MB/s", "--events"]].concat();
    let mut child = lab.command(&held_back).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    // At its stage, once it has told of the first step.
    let (mut at, mut told) = (stage.is_empty(), Vec::new());
    for line in lines.by_ref() {
        let line = line.unwrap();
        let event = serde_json::from_str::<Value>(&line).unwrap_or_default();
        told.push(line);
        at |= event["event"] == "stage" && event["name"] == stage;
        if at && event["event"] == "advanced" || stage == "mending" && event["name"] == stage {
            break;
        }
    }
    kill_process(Pid::from_child(&child), Signal::TERM).unwrap();
    let asked = std::time::Instant::now();
    told.extend(lines.map(Result::unwrap));
    let output = child.wait_with_output().unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    let parts = ["", "/settle", "/shift", "/shift/moved", "/moved", "/replaced/0"];
    let said = parts.iter().filter_map(|part| report.pointer(&format!("{part}/stopped")));
    let stopped = said.max_by_key(|said| said.as_bool()).unwrap_or(&Value::Null);
    assert_eq!((output.status.code(), stopped), (Some(1), &Value::Bool(true)), "{report} {told:?}");
    // It would go on for nine seconds and more: the file has 24 MB, and what is written is read again.
    assert!(asked.elapsed() < Duration::from_secs(4), "{:?}", asked.elapsed());
    lab.run(&command).expect(&[0]);
}

/// Looking at the disks ends with a checkpoint; what is reckoned with after that has none, and ends at once.
#[test]
fn what_is_only_reckoned_ends_with_the_signal() {
    use std::os::unix::process::ExitStatusExt;
    for signal in [Signal::INT, Signal::TERM] {
        let lab = lab();
        lab.run(&["sync", "--yes"]).expect(&[0]);
        let log = lab.root().join("log");
        let mut command = lab.command(&["risk", "--simulate", "1000000000"]);
        let mut child = command.arg("--log").arg(&log).stdout(Stdio::null()).spawn().unwrap();
        let reckons = || fs::read_to_string(&log).is_ok_and(|text| text.contains("reckoning the odds"));
        while !reckons() {
            assert!(child.try_wait().unwrap().is_none(), "it is at work");
            std::thread::sleep(Duration::from_millis(20));
        }
        kill_process(Pid::from_child(&child), signal).unwrap();
        assert_eq!(child.wait().unwrap().signal(), Some(signal.as_raw()), "it was not ended by it");
    }
}
