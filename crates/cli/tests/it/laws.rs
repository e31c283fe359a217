//! Guards the laws of docs/safety.md on the built program: each of these once lost or exposed a file, or told a lie about one.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs::{self, OpenOptions};
use std::io::{Read, Write};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Stdio};

use crate::another_user::{as_another_user, may_become_another_user};
use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Lab, Mapping};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn write(path: &Path, bytes: &[u8]) {
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    fs::write(path, bytes).unwrap();
}

fn lab(volume: &str) -> Lab {
    let disks = [("alder", 60), ("beech", 60), ("oak", 80), ("flint", 60), ("jasper", 60)];
    let lab = Lab::of(PROGRAM, &disks, &format!("{volume}\nsettle_after = \"0.000001 minutes\""));
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab
}

const PLAIN: &str = "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]";
const CACHED: &str = "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]";
const SPANNED: &str =
    "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]\ncache = [\"flint\"]";
const TIERED: &str =
    "kind = \"tiered\"\ndata = [\"alder\", \"beech\"]\nfast = [\"alder\"]\nparity = [\"oak\"]";

fn found(lab: &Lab, name: &str) -> Option<Vec<u8>> {
    ["alder", "beech", "flint", "jasper"].iter().find_map(|disk| fs::read(lab.disk(disk).join(name)).ok())
}

/// How many disks may die, by path, as `fate` says.
fn guards(lab: &Lab, lose: &str) -> BTreeMap<String, u64> {
    let answer = lab.run(&["fate", "--lose", lose, "--json"]).expect(&[0, 1]).json();
    let files = answer["files"].as_array().unwrap().iter();
    files.map(|file| (file["path"].as_str().unwrap().into(), file["guard"].as_u64().unwrap())).collect()
}

// L1, what others have open or mapped

#[rstest]
fn what_is_open_or_mapped_for_writing_does_not_settle_and_keeps_every_byte(
    #[values((CACHED, ""), (TIERED, ""), (CACHED, "--until=60 MB"))] work: (&str, &str),
    #[values(true, false)] is_mapped: bool,
) {
    let (volume, option) = work;
    let lab = lab(volume);
    let first = if volume == CACHED { "flint" } else { "alder" };
    let place = lab.disk(first).join("dawn/wren.flac");
    for number in 0..600 {
        write(&lab.disk(first).join(format!("dawn/clip-{number}")), &[number as u8; 50]);
    }
    write(&place, &Chance::new(1).bytes(40_000));
    if volume == TIERED {
        lab.run(&["sync", "--yes"]).expect(&[0]);
        lab.write_pool_file(&format!(
            "{}\n[[volume.folder]]\npath = \"dawn\"\npin = \"slow\"",
            lab.pool_text()
        ));
    }
    let file = OpenOptions::new().read(true).write(true).open(&place).unwrap();
    let mut mapping = is_mapped.then(|| Mapping::of(&file).unwrap());
    let file = (!is_mapped).then_some(file);
    let options: Vec<&str> =
        ["settle", "--yes", "--json", option].into_iter().filter(|o| !o.is_empty()).collect();
    let run = lab.run(&options).expect(&[0]);
    let left = &run.json()["settle"]["left_alone"];
    assert_eq!(left[0]["path"], "dawn/wren.flac", "{left}");
    assert!(place.exists(), "it stays where it is");
    // What is written afterwards is where its owner looks for it, also after syncs.
    match (&mut mapping, &file) {
        (Some(mapping), _) => mapping.store(100, b"by a mapping"),
        (_, Some(file)) => file.write_all_at(b"by a mapping", 100).unwrap(),
        _ => unreachable!(),
    }
    drop((mapping, file));
    for _ in 0..2 {
        lab.run(&["sync", "--yes"]).expect(&[0, 1]);
        lab.run(&["settle", "--yes"]).expect(&[0]);
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(&found(&lab, "dawn/wren.flac").unwrap()[100..112], b"by a mapping");
}

#[test]
fn what_is_open_for_writing_is_not_removed() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), b"dawn");
    write(&lab.disk("alder").join("dawn/robin.flac"), b"dusk");
    let _open = OpenOptions::new().append(true).open(lab.disk("alder").join("dawn/wren.flac")).unwrap();
    let run = lab.run(&["rm", "dawn", "--recursive", "--yes", "--json"]).expect(&[1]);
    assert_eq!(run.json()["left_alone"][0]["path"], "dawn/wren.flac");
    assert!(found(&lab, "dawn/wren.flac").is_some() && found(&lab, "dawn/robin.flac").is_none());
}

#[test]
fn a_file_that_is_put_while_it_changes_is_refused_and_never_half_of_each() {
    let lab = lab(PLAIN);
    let source = lab.root().join("card/long.flac");
    write(&source, &vec![b'a'; 30_000_000]);
    let mut child = lab.command(&["put", "card", "/", "--yes"]).stdout(Stdio::null()).spawn().unwrap();
    let file = OpenOptions::new().write(true).open(&source).unwrap();
    let mut turn = 0u8;
    let code = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status.code().unwrap();
        }
        turn = turn.wrapping_add(1);
        file.write_all_at(&vec![turn; 30_000_000], 0).unwrap();
    };
    match found(&lab, "card/long.flac") {
        None => assert_eq!(code, 4),
        Some(bytes) => assert!(bytes.iter().all(|byte| *byte == bytes[0]), "half of two states"),
    }
}

// L2, a plan ends with the question

#[test]
fn a_cache_that_leaves_has_nothing_to_do_with_parity_of_the_same_number() {
    let lab = lab(CACHED);
    let run = lab.run(&["vacate", "flint", "--yes"]).expect(&[0]);
    assert!(!run.stderr.contains("oak"), "{}", run.stderr);
}

/// A terminal with the program on it.
struct Terminal {
    child: std::process::Child,
    shown: String,
}

impl Terminal {
    fn start(lab: &Lab, arguments: &[&str]) -> Option<Self> {
        let line = std::iter::once(PROGRAM).chain(arguments.iter().copied()).collect::<Vec<_>>().join(" ");
        let mut command = Command::new("script");
        command.args(["-qec", &line, "/dev/null"]).current_dir(lab.root());
        let child =
            command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().ok()?;
        Some(Self { child, shown: String::new() })
    }

    /// Waits until the question was asked so many times.
    fn wait_for_question(&mut self, times: usize) {
        let out = self.child.stdout.as_mut().unwrap();
        while self.shown.matches("[y/N]").count() < times {
            let mut bytes = [0; 256];
            let count = out.read(&mut bytes).unwrap();
            assert!(count > 0, "it ended: {}", self.shown);
            self.shown.push_str(&String::from_utf8_lossy(&bytes[..count]));
        }
    }

    fn answer(&mut self, text: &str) {
        self.child.stdin.as_mut().unwrap().write_all(text.as_bytes()).unwrap();
    }

    fn end(mut self) -> (i32, String) {
        drop(self.child.stdin.take());
        let mut rest = String::new();
        let _ = self.child.stdout.take().unwrap().read_to_string(&mut rest);
        (self.child.wait().unwrap().code().unwrap_or(-1), self.shown + &rest)
    }
}

#[test]
fn what_changes_during_the_question_is_shown_and_asked_again() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), b"dawn");
    symlink("wren.flac", lab.disk("alder").join("dawn/link")).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let Some(mut terminal) = Terminal::start(&lab, &["rm", "dawn/link"]) else {
        return eprintln!("there is no `script` to make a terminal with");
    };
    terminal.wait_for_question(1);
    fs::remove_file(lab.disk("alder").join("dawn/link")).unwrap();
    write(&lab.disk("alder").join("dawn/link"), b"a file now");
    terminal.answer("y\n");
    terminal.wait_for_question(2);
    terminal.answer("n\n");
    let (code, shown) = terminal.end();
    assert!(code == 0 && shown.contains("something changed"), "{code}: {shown}");
    assert_eq!(found(&lab, "dawn/link").unwrap(), b"a file now");
    // Nothing changes: it is not asked twice.
    let mut terminal = Terminal::start(&lab, &["rm", "dawn/link"]).unwrap();
    terminal.wait_for_question(1);
    terminal.answer("y\n");
    let (code, shown) = terminal.end();
    assert!(code == 0 && !shown.contains("something changed"), "{code}: {shown}");
    assert!(found(&lab, "dawn/link").is_none());
}

#[test]
fn what_is_put_while_a_dissolve_asks_is_not_erased() {
    let lab = lab("kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]");
    write(&lab.root().join("nest/night.mkv"), &Chance::new(1).bytes(70_000_000));
    let Some(mut terminal) = Terminal::start(&lab, &["dissolve", "recordings"]) else { return };
    terminal.wait_for_question(1);
    lab.run(&["put", "nest", "/", "--yes"]).expect(&[0]);
    terminal.answer("y\n");
    let (code, shown) = terminal.end();
    assert_eq!(code, 4, "{shown}");
    fs::create_dir(lab.root().join("out")).unwrap();
    lab.run(&["get", "nest/night.mkv", "out"]).expect(&[0]);
    assert!(fs::read(lab.root().join("out/night.mkv")).unwrap() == Chance::new(1).bytes(70_000_000));
}

#[test]
fn a_label_that_came_during_the_question_is_not_written_over() {
    let other = lab_of_another_pool();
    let disks = [("alder", 60), ("beech", 60), ("oak", 80)];
    let lab = Lab::of(PROGRAM, &disks, PLAIN);
    let Some(mut terminal) = Terminal::start(&lab, &["create"]) else { return };
    terminal.wait_for_question(1);
    // As if the disk of another pool had been mounted there.
    fs::remove_dir(lab.disk("beech")).unwrap();
    fs::rename(other.disk("beech"), lab.disk("beech")).unwrap();
    let label = fs::read(lab.disk("beech").join(".zinc-sieve/label.toml")).unwrap();
    terminal.answer("y\n");
    let (code, shown) = terminal.end();
    assert_eq!(code, 4, "{shown}");
    assert_eq!(fs::read(lab.disk("beech").join(".zinc-sieve/label.toml")).unwrap(), label);
}

// L3, who only reads changes nothing

/// Names, bytes, modes and times of everything below a folder.
fn everything(folder: &Path, all: &mut BTreeMap<String, (Vec<u8>, u32, i64)>) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let (path, metadata) = (entry.path(), entry.path().symlink_metadata().unwrap());
        if metadata.is_dir() {
            everything(&path, all);
        }
        // SQLite's shared memory is how readers say that they read; locks are empty files.
        let name = path.display().to_string();
        if !name.ends_with("-shm") && !name.ends_with("-wal") {
            let bytes = if metadata.is_file() { fs::read(&path).unwrap() } else { Vec::new() };
            all.insert(
                name,
                (bytes, metadata.mode(), if metadata.is_dir() { 0 } else { metadata.mtime_nsec() }),
            );
        }
    }
}

const READERS: [&[&str]; 16] = [
    &["status"],
    &["ls"],
    &["check"],
    &["fate", "--lose", "alder"],
    &["fate", "--any", "2"],
    &["risk"],
    &["restore", "--list"],
    &["sync", "--dry-run"],
    &["settle", "--dry-run"],
    &["rm", "dawn", "--recursive", "--dry-run"],
    &["put", "card", "/", "--dry-run"],
    &["dissolve", "recordings", "--dry-run"],
    &["vacate", "oak", "--dry-run"],
    &["rebuild", "alder", "--onto", "new", "--dry-run"],
    &["disks"],
    &["health"],
];

#[test]
fn readers_leave_a_pool_that_is_at_work_as_it_is() {
    let lab = lab(CACHED);
    write(&lab.root().join("card/finch.flac"), b"finch");
    fs::create_dir(lab.root().join("new")).unwrap();
    write(&lab.disk("alder").join("dawn/wren.flac"), &Chance::new(1).bytes(9000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    write(&lab.disk("beech").join("dawn/late.flac"), b"late");
    fs::remove_file(lab.disk("alder").join("dawn/wren.flac")).unwrap();
    // Somebody else is at a long work: the lock of the home.
    let lock = OpenOptions::new().write(true).open(lab.root().join(".zinc-sieve/lock")).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    let holder = |process: u32| {
        let said = format!("sync, process {process}");
        fs::write(lab.root().join(".zinc-sieve/lock.holder"), &said).unwrap();
        said
    };
    // Of somebody who was killed, while a reader has the lock for a moment.
    let gone = holder(u32::MAX);
    let status = lab.run(&["status"]).expect(&[1]);
    assert!(!status.stdout.contains(&gone), "{}", status.stdout);
    let said = holder(std::process::id());
    let status = lab.run(&["status"]).expect(&[1]);
    assert!(status.stdout.contains(&format!("At work: {said}, began just now")), "{}", status.stdout);
    let second = lab.run(&["sync", "--yes"]).expect(&[4]);
    assert!(second.stderr.contains(&format!("{said}, since 2")), "{}", second.stderr);
    // How far it is, where that makes sense.
    for (progress, is_told) in [
        (r#"{"share": 0.41, "remaining_seconds": 200.0}"#, true),
        (r#"{"share": 41, "remaining_seconds": 200.0}"#, false),
        (r#"{"share": 0.41, "remaining_seconds": -1}"#, false),
        ("{\"share\": \u{1b}[31m", false),
    ] {
        fs::write(lab.root().join(".zinc-sieve/lock.progress"), progress).unwrap();
        let status = lab.run(&["status"]).expect(&[1]).stdout;
        assert_eq!(status.contains("41 % of this stage are done, 3 min remain"), is_told, "{status}");
        let second = lab.run(&["sync", "--yes"]).expect(&[4]).stderr;
        assert_eq!(second.contains("41 % of it done"), is_told, "{second}");
    }
    let mut before = BTreeMap::new();
    everything(lab.root(), &mut before);
    for reader in READERS {
        let code = lab.run(reader).code;
        assert!([0, 1, 2, 4, 5].contains(&code), "{reader:?} ends with {code}");
        let mut after = BTreeMap::new();
        everything(lab.root(), &mut after);
        for (name, state) in &before {
            assert!(after.get(name) == Some(state), "{reader:?} changed {name}");
        }
        assert_eq!(before.len(), after.len(), "{reader:?} left something");
    }
}

#[test]
fn who_may_only_read_is_answered() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), b"dawn");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    write(&lab.disk("alder").join("dawn/new.flac"), b"new");
    if !may_become_another_user() {
        return;
    }
    assert!(Command::new("chmod").args(["-R", "a+rX"]).arg(lab.root()).status().unwrap().success());
    for reader in [&["status"][..], &["ls"], &["fate", "--lose", "beech"], &["check"], &["sync", "--dry-run"]]
    {
        let (code, told) = as_another_user(&lab, reader);
        assert!([0, 1, 5].contains(&code), "{reader:?}: {told}");
    }
}

#[test]
fn a_file_that_settles_in_pieces_survives_whoever_looks_on() {
    let lab = lab(SPANNED);
    let bytes = Chance::new(3).bytes(59_000_000 - 3_000_000);
    for disk in ["alder", "beech"] {
        write(&lab.disk(disk).join("base.bin"), &Chance::new(4).bytes(20_000_000));
    }
    write(&lab.disk("flint").join("nest/night.mkv"), &bytes);
    let mut child =
        lab.command(&["settle", "--yes", "--limit", "60 MB/s"]).stdout(Stdio::null()).spawn().unwrap();
    let mut looks = 0;
    while child.try_wait().unwrap().is_none() {
        for reader in
            [&["status"][..], &["ls"], &["restore", "--list"], &["check"], &["fate", "--lose", "alder"]]
        {
            lab.run(reader);
            looks += 1;
        }
    }
    assert!(looks > 3, "somebody looked on");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("out")).unwrap();
    lab.run(&["get", "nest/night.mkv", "out"]).expect(&[0]);
    assert!(fs::read(lab.root().join("out/night.mkv")).unwrap() == bytes);
}

// L4, intents

#[test]
fn what_a_lent_disk_says_was_begun_is_not_done() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), b"guarded");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let other = lab_of_another_pool();
    let label = fs::read_to_string(other.disk("oak").join(".zinc-sieve/label.toml")).unwrap();
    let uuid =
        label.lines().find_map(|line| line.strip_prefix("disk = ")).unwrap().trim_matches('"').to_string();
    let at = other.disk("oak").display().to_string();
    let intents = [
        format!("{{\"action\":\"leave\",\"uuid\":\"{uuid}\",\"at\":\"{at}\",\"edits\":[]}}"),
        "{\"action\":\"relocate\",\"moves\":[{\"from\":[{\"disk\":1,\"object\":1,\"leaving\":\"go\"}],\"to\":{\"whole\":[1]},\"size\":7}]}".into(),
    ];
    for disk in ["alder", "beech", "oak"] {
        let folder = lab.disk(disk).join(".zinc-sieve");
        let replica = fs::read_dir(&folder).unwrap().flatten().map(|e| e.path());
        let replica = replica.filter(|p| p.extension().is_some_and(|e| e == "sqlite")).last().unwrap();
        let database = rusqlite::Connection::open(&replica).unwrap();
        for intent in &intents {
            database.execute("INSERT INTO intent (detail) VALUES (?1)", [intent]).unwrap();
        }
    }
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    lab.run(&["adopt", "alder", "beech", "oak", "--yes"]).expect(&[0]);
    lab.run(&["status"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(found(&lab, "dawn/wren.flac").unwrap(), b"guarded");
    other.run(&["status"]).expect(&[0, 1, 5]);
    assert!(other.disk("oak").join(".zinc-sieve/label.toml").exists());
}

fn lab_of_another_pool() -> Lab {
    let lab = lab(PLAIN);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab
}

// L5, never more open than its source

#[test]
fn what_comes_out_of_a_private_folder_stays_private_wherever_it_goes() {
    let lab = lab(CACHED);
    let private = lab.disk("flint").join("diary");
    write(&private.join("secret.txt"), b"nobody else's");
    fs::set_permissions(&private, PermissionsExt::from_mode(0o700)).unwrap();
    fs::set_permissions(private.join("secret.txt"), PermissionsExt::from_mode(0o644)).unwrap();
    lab.run(&["settle", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["rm", "diary/secret.txt", "--yes"]).expect(&[0]);
    let mut seen = 0;
    for disk in ["alder", "beech", "oak", "flint", ""] {
        for folder in [".zinc-sieve", ".zinc-sieve/held", ".zinc-sieve/tmp", "diary"] {
            let Ok(metadata) = fs::metadata(lab.root().join(disk).join(folder)) else { continue };
            seen += 1;
            assert_eq!(metadata.mode() & 0o077, 0, "{disk}/{folder}");
        }
        for entry in fs::read_dir(lab.root().join(disk).join(".zinc-sieve")).unwrap().flatten() {
            let mode = entry.metadata().unwrap().mode();
            assert_eq!(mode & 0o077, 0, "{}", entry.path().display());
        }
    }
    assert!(seen >= 8);
    assert!(["alder", "beech"].iter().any(|disk| lab.disk(disk).join("diary").is_dir()));
}

#[test]
fn a_folder_that_is_there_is_not_changed_in_passing() {
    let lab = lab(PLAIN);
    for disk in ["alder", "beech"] {
        fs::create_dir(lab.disk(disk).join("card")).unwrap();
        fs::set_permissions(lab.disk(disk).join("card"), PermissionsExt::from_mode(0o750)).unwrap();
    }
    write(&lab.root().join("card/finch.flac"), b"finch");
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech"] {
        assert_eq!(fs::metadata(lab.disk(disk).join("card")).unwrap().mode() & 0o777, 0o750);
    }
}

#[test]
fn nothing_that_is_there_is_written_over_by_a_picture_or_a_change_of_the_pool_file() {
    let lab = lab(PLAIN);
    write(&lab.root().join("precious.txt"), b"precious");
    symlink("precious.txt", lab.root().join("map.svg")).unwrap();
    lab.run(&["fate", "--map", "map.svg"]).expect(&[4]);
    assert_eq!(fs::read(lab.root().join("precious.txt")).unwrap(), b"precious");
    // A pool file that is kept elsewhere stays a link, and as open as it was.
    fs::create_dir(lab.root().join("etc")).unwrap();
    fs::rename(lab.pool_file(), lab.root().join("etc/fernhollow.toml")).unwrap();
    fs::set_permissions(lab.root().join("etc/fernhollow.toml"), PermissionsExt::from_mode(0o644)).unwrap();
    symlink("etc/fernhollow.toml", lab.pool_file()).unwrap();
    lab.run(&["grow", "flint", "--as", "data", "--yes"]).expect(&[0]);
    assert!(lab.pool_file().symlink_metadata().unwrap().is_symlink());
    let kept = fs::metadata(lab.root().join("etc/fernhollow.toml")).unwrap();
    assert_eq!(kept.mode() & 0o777, 0o644);
    assert!(lab.pool_text().contains("flint\"]") || lab.pool_text().contains("\"flint\""));
}

#[test]
fn a_program_that_another_user_puts_does_not_run_as_that_user() {
    let lab = lab(PLAIN);
    if !may_become_another_user() {
        return;
    }
    let theirs = lab.root().join("card/tool");
    write(&theirs, b"somebody else's program");
    fs::set_permissions(&theirs, PermissionsExt::from_mode(0o6755)).unwrap();
    // By its owner the bits are kept, as the owner is.
    lab.run(&["put", "card/tool", "kept", "--yes"]).expect(&[0]);
    let mode = |name: &str| {
        let places = ["alder", "beech"].map(|disk| lab.disk(disk).join(name));
        places.iter().find_map(|place| fs::metadata(place).ok()).unwrap().mode() & 0o7777
    };
    assert_eq!(mode("kept/tool"), 0o6755);
    assert!(Command::new("chown").args(["-R", "65534:65534"]).arg(lab.root()).status().unwrap().success());
    assert!(Command::new("chown").arg("0:0").arg(&theirs).status().unwrap().success());
    fs::set_permissions(&theirs, PermissionsExt::from_mode(0o6755)).unwrap();
    let (code, told) = as_another_user(&lab, &["put", "card/tool", "copied", "--yes"]);
    assert_eq!(code, 0, "{told}");
    assert_eq!(mode("copied/tool"), 0o755);
}

// L6, what comes from a disk

#[test]
fn names_and_labels_cannot_draw_on_the_terminal() {
    let lab = lab(PLAIN);
    let name = "dawn\x1b[2J\nall is well\u{202e}.flac";
    write(&lab.disk("alder").join(name), b"dawn");
    for command in [&["ls"][..], &["status"], &["fate", "--lose", "beech"], &["sync", "--yes"], &["verify"]] {
        let run = lab.run(command);
        for text in [&run.stdout, &run.stderr] {
            assert!(!text.contains("\x1b[2J") && !text.contains('\u{202e}'), "{command:?}: {text:?}");
            assert!(!text.lines().any(|line| line.starts_with("all is well")), "{command:?}: {text}");
        }
    }
    let label = lab.disk("alder").join(".zinc-sieve/label.toml");
    let text = fs::read_to_string(&label).unwrap();
    fs::write(&label, text.replace("disk_name = \"alder\"", "disk_name = \"alder\\u001b[2J\\nall is well\""))
        .unwrap();
    let run = lab.run(&["status"]).expect(&[1]);
    assert!(
        !run.stdout.contains("\x1b[2J") && !run.stdout.lines().any(|line| line.starts_with("all is well"))
    );
}

#[rstest]
#[case::deep(&"a = ".chars().chain("[".repeat(400_000).chars()).collect::<String>())]
#[case::deep_tables(&format!("[{}a]", "a.".repeat(200_000)))]
#[case::long(&format!("disk_name = \"{}\"", "a".repeat(3_000_000)))]
#[case::not_text("\u{0}\u{0}\u{0}")]
fn a_label_that_is_too_much_is_a_state_of_its_disk(#[case] text: &str) {
    let lab = lab(PLAIN);
    fs::write(lab.disk("alder").join(".zinc-sieve/label.toml"), text).unwrap();
    let run = lab.run(&["status"]).expect(&[1]);
    assert!(!run.stderr.contains("panicked") && run.stdout.len() < 10_000, "{}", run.stderr);
    lab.run(&["sync", "--yes"]).expect(&[1, 4]);
}

#[test]
fn a_table_that_names_a_slot_beyond_every_disk_is_damaged_and_costs_no_memory() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), &Chance::new(1).bytes(3_000_000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let table = lab.disk("oak").join(".zinc-sieve/parity/table");
    let mut bytes = fs::read(&table).unwrap();
    // The first entry of the first frame that has one: its slot, and the checksum of the frame anew.
    let count = |at: usize| u32::from_le_bytes(bytes[at + 4..at + 8].try_into().unwrap()) as usize;
    let mut at = 64;
    while count(at) == 0 {
        at += 24 + 16;
    }
    let end = at + 24 + count(at) * 32;
    bytes[at + 24 + 4..at + 24 + 8].copy_from_slice(&u32::MAX.to_le_bytes());
    let sum = blake3::hash(&bytes[at..end]);
    bytes[end..end + 16].copy_from_slice(&sum.as_bytes()[..16]);
    fs::write(&table, &bytes).unwrap();
    let run = lab.run(&["status"]).expect(&[1]);
    assert!(run.stdout.contains("names slot 4294967295"), "{}", run.stdout);
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    lab.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_byte_that_flips_in_a_table_is_told() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), &Chance::new(1).bytes(3_000_000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let table = lab.disk("oak").join(".zinc-sieve/parity/table");
    let mut bytes = fs::read(&table).unwrap();
    bytes[64 + 24 + 10] ^= 1;
    fs::write(&table, &bytes).unwrap();
    for command in ["status", "check"] {
        let run = lab.run(&[command]).expect(&[1]);
        assert!(run.stdout.contains("parity on oak"), "{command}: {}", run.stdout);
    }
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    lab.run(&["status"]).expect(&[0]);
}

// L7, an absence is not a deletion

#[rstest]
#[case(|files: &[std::path::PathBuf]| files[..9].iter().for_each(|file| fs::remove_file(file).unwrap()))]
#[case(|files: &[std::path::PathBuf]| fs::write(&files[12], b"").unwrap())]
#[case(|files: &[std::path::PathBuf]| files[..12].iter().for_each(|file| fs::write(file, b"overwritten").unwrap()))]
fn a_sync_stops_before_what_looks_like_an_accident(#[case] accident: fn(&[std::path::PathBuf])) {
    let lab = lab(PLAIN);
    let mut files: Vec<_> =
        (0..12).map(|number| lab.disk("alder").join(format!("notes/{number}.txt"))).collect();
    files.iter().for_each(|file| write(file, &Chance::new(1).bytes(3000)));
    files.push(lab.disk("alder").join("nest/night.mkv"));
    write(&files[12], &Chance::new(2).bytes(2_000_000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    accident(&files);
    let run = lab.run(&["sync", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("--accept alder"), "{}", run.stderr);
    lab.run(&["sync", "--accept", "alder", "--yes"]).expect(&[0, 1]);
}

#[test]
fn what_cannot_be_read_is_out_of_sight_and_not_gone() {
    let lab = lab(PLAIN);
    for number in 0..20 {
        write(&lab.disk("alder").join(format!("dawn/{number}.flac")), &Chance::new(number).bytes(3000));
        write(&lab.disk("alder").join(format!("dusk/{number}.flac")), &Chance::new(99 + number).bytes(3000));
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let mount = |arguments: &[&str]| {
        Command::new("mount")
            .args(arguments)
            .stderr(Stdio::null())
            .status()
            .is_ok_and(|status| status.success())
    };
    let place = lab.disk("alder").join("dawn");
    let elsewhere = lab.root().join("elsewhere");
    fs::create_dir(&elsewhere).unwrap();
    // A filesystem of its own, and a folder of the same one: both hide what was known.
    for arguments in [
        vec!["-t", "tmpfs", "none", place.to_str().unwrap()],
        vec!["--bind", elsewhere.to_str().unwrap(), place.to_str().unwrap()],
    ] {
        if !mount(&arguments) {
            return eprintln!("mounting is not allowed here");
        }
        let told = lab.run(&["sync", "--yes"]);
        let status = lab.run(&["status"]);
        let guards = guards(&lab, "beech");
        assert!(Command::new("umount").arg(&place).status().unwrap().success());
        assert_eq!(told.code, 4, "{}", told.stderr);
        assert!(told.stderr.contains("another filesystem is mounted here"), "{}", told.stderr);
        assert_eq!(status.code, 1, "{}", status.stdout);
        assert_eq!(guards["dawn/3.flac"], 0, "nothing is promised of what cannot be read");
        assert_eq!(guards.len(), 40, "and it is not forgotten");
    }
    lab.run(&["status"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(guards(&lab, "beech").values().all(|guard| *guard == 1));
}

// L8, guard never falls by our doing

#[test]
fn what_has_no_bytes_is_as_guarded_after_a_settle_a_lost_home_and_a_rebuild_as_before() {
    let lab = lab(CACHED);
    write(&lab.disk("alder").join("notes/may.txt"), b"may");
    write(&lab.disk("flint").join("dawn/empty.txt"), b"");
    symlink("empty.txt", lab.disk("flint").join("dawn/link")).unwrap();
    fs::File::create(lab.disk("flint").join("dawn/holes.img")).unwrap().set_len(500_000).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    let before = guards(&lab, "oak");
    lab.run(&["settle", "--yes"]).expect(&[0]);
    let after = guards(&lab, "oak");
    for (path, guard) in &before {
        assert!(after[path] >= *guard, "{path}: {guard} before, {} after", after[path]);
    }
    assert!(after["dawn/link"] >= 2 && after["dawn/empty.txt"] >= 2, "{after:?}");
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    lab.run(&["adopt", "alder", "beech", "oak", "flint", "--yes"]).expect(&[0]);
    assert_eq!(guards(&lab, "oak"), after, "the replicas know it");
    let lost = if lab.disk("alder").join("dawn/link").symlink_metadata().is_ok() { "alder" } else { "beech" };
    fs::rename(lab.disk(lost), lab.root().join("dead")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    let report = lab.run(&["rebuild", lost, "--onto", "new", "--yes", "--json"]).expect(&[0, 1]).json();
    assert_eq!(report["predicted"], report["obtained"]);
    let rebuilt = guards(&lab, "oak");
    assert_eq!(rebuilt["dawn/link"], after["dawn/link"], "{rebuilt:?}");
}

#[test]
fn what_is_held_is_known_also_when_the_home_is_lost() {
    let lab = lab(PLAIN);
    let bytes = Chance::new(1).bytes(9000);
    write(&lab.disk("alder").join("dawn/wren.flac"), &bytes);
    write(&lab.disk("beech").join("dawn/robin.flac"), &Chance::new(2).bytes(9000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["rm", "dawn/wren.flac", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.root().join(".zinc-sieve")).unwrap();
    let list = lab.run(&["restore", "--list", "--json"]).expect(&[0]).list();
    assert_eq!(list[0]["path"], "dawn/wren.flac", "{list}");
    assert_eq!(list[0]["what"], "removed", "{list}");
    lab.run(&["restore", "dawn/wren.flac", "--yes"]).expect(&[0]);
    assert_eq!(found(&lab, "dawn/wren.flac").unwrap(), bytes);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let held = fs::read_dir(lab.disk("alder").join(".zinc-sieve/held")).unwrap().count();
    assert_eq!(held, 0, "and it does not stay for ever");
}

#[test]
fn a_sync_of_some_disks_gives_up_no_copy_that_the_others_still_need() {
    let lab = lab(TIERED);
    write(&lab.disk("alder").join("dawn/wren.flac"), &Chance::new(1).bytes(90_000));
    write(&lab.disk("beech").join("dusk/owl.flac"), &Chance::new(2).bytes(90_000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.write_pool_file(&format!("{}\n[[volume.folder]]\npath = \"dawn\"\npin = \"slow\"", lab.pool_text()));
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert!(lab.disk("beech").join("dawn/wren.flac").exists());
    assert!(guards(&lab, "oak")["dawn/wren.flac"] >= 1, "held and new, it is on two disks");
    lab.run(&["sync", "--disks", "alder", "--yes"]).expect(&[0, 1]);
    assert!(guards(&lab, "oak")["dawn/wren.flac"] >= 1, "the copy is not given up before beech is synced");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(guards(&lab, "oak")["dawn/wren.flac"], 1);
    assert_eq!(fs::read_dir(lab.disk("alder").join(".zinc-sieve/held")).unwrap().count(), 0);
}

#[test]
fn hard_links_of_a_mirror_are_one_file_with_one_fate() {
    let lab = lab("kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]");
    write(&lab.disk("alder").join("dawn/wren.flac"), &Chance::new(1).bytes(9000));
    fs::hard_link(lab.disk("alder").join("dawn/wren.flac"), lab.disk("alder").join("dawn/again.flac"))
        .unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    // On the other disk the second name is a file by itself.
    let twin = lab.disk("beech").join("dawn/again.flac");
    let bytes = fs::read(&twin).unwrap();
    fs::remove_file(&twin).unwrap();
    write(&twin, &bytes);
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    fs::rename(lab.disk("alder"), lab.root().join("dead")).unwrap();
    let answer = lab.run(&["fate", "--json"]).expect(&[0, 1]).json();
    let mut paths: Vec<&str> =
        answer["files"].as_array().unwrap().iter().map(|f| f["path"].as_str().unwrap()).collect();
    let count = paths.len();
    paths.dedup();
    assert_eq!(paths.len(), count, "each name once: {paths:?}");
    fs::create_dir(lab.root().join("out")).unwrap();
    lab.run(&["get", "dawn", "out"]).expect(&[0]);
    assert_eq!(fs::read(lab.root().join("out/dawn/again.flac")).unwrap(), bytes);
}

// Doubts, damage, and what is told

#[test]
fn damage_under_a_change_time_that_moved_is_found_and_mended() {
    let lab = lab(PLAIN);
    let (place, bytes) = (lab.disk("alder").join("dawn/wren.flac"), Chance::new(1).bytes(90_000));
    write(&place, &bytes);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let before = fs::metadata(&place).unwrap().modified().unwrap();
    let file = OpenOptions::new().write(true).open(&place).unwrap();
    file.write_all_at(b"rot", 5000).unwrap();
    file.set_modified(before).unwrap();
    drop(file);
    fs::set_permissions(&place, PermissionsExt::from_mode(0o640)).unwrap();
    let run = lab.run(&["verify", "--json"]).expect(&[1]);
    assert_eq!(run.json()["damaged"][0]["path"], "dawn/wren.flac");
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0]);
    assert!(fs::read(&place).unwrap() == bytes);
    lab.run(&["verify"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
}

#[test]
fn what_is_open_for_writing_is_not_mended_under_its_writer() {
    let lab = lab(PLAIN);
    let (place, bytes) = (lab.disk("alder").join("dawn/wren.flac"), Chance::new(1).bytes(90_000));
    write(&place, &bytes);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    rot(&lab, &place);
    let writer = OpenOptions::new().read(true).write(true).open(&place).unwrap();
    lab.run(&["verify", "--mend", "--yes"]).expect(&[1]);
    assert_eq!(writer.metadata().unwrap().ino(), fs::metadata(&place).unwrap().ino(), "it has its own file");
    drop(writer);
    lab.run(&["verify", "--mend", "--yes"]).expect(&[0]);
    assert!(fs::read(&place).unwrap() == bytes);
}

/// An older content has the attributes that it had, also for the loss after the next.
#[test]
fn an_older_content_comes_back_with_the_attributes_of_its_time() {
    let lab = lab(PLAIN);
    let place = lab.disk("alder").join("dawn/wren.flac");
    let mark =
        |value: &[u8]| rustix::fs::setxattr(&place, "user.site", value, rustix::fs::XattrFlags::empty());
    write(&place, b"of yesterday");
    if mark(b"hedge").is_err() {
        return eprintln!("the filesystem below the tests keeps no extended attributes");
    }
    fs::set_permissions(&place, PermissionsExt::from_mode(0o640)).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::write(&place, b"of today, and longer").unwrap();
    mark(b"meadow").unwrap();
    fs::set_permissions(&place, PermissionsExt::from_mode(0o600)).unwrap();
    // The change is known, and not synced.
    lab.run(&["put", "pool.toml", "note", "--yes"]).expect(&[0]);
    lab.run(&["status"]).expect(&[0, 1, 5]);
    let new = lab.root().join("new");
    let newer = lab.root().join("newer");
    for (from, to) in [(lab.disk("alder"), &new), (new.clone(), &newer)] {
        fs::remove_dir_all(from).unwrap();
        fs::create_dir(to).unwrap();
        lab.run(&["rebuild", "alder", "--onto", to.to_str().unwrap(), "--yes"]).expect(&[0, 1]);
        let back = to.join("dawn/wren.flac");
        assert_eq!(fs::read(&back).unwrap(), b"of yesterday");
        assert_eq!(fs::metadata(&back).unwrap().mode() & 0o777, 0o640);
        let mut value = [0; 32];
        let length = rustix::fs::getxattr(&back, "user.site", &mut value[..]).unwrap();
        assert_eq!(&value[..length], b"hedge");
        lab.run(&["sync", "--yes"]).expect(&[0]);
    }
}

#[test]
fn a_file_that_was_only_touched_is_read_and_found_well() {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), b"dawn");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::set_permissions(lab.disk("alder").join("dawn/wren.flac"), PermissionsExt::from_mode(0o640)).unwrap();
    let run = lab.run(&["verify"]).expect(&[0]);
    assert!(!run.stdout.contains("not compared"), "{}", run.stdout);
}

#[test]
fn a_damaged_file_is_had_from_parity() {
    let lab = lab(PLAIN);
    let (place, bytes) = (lab.disk("alder").join("dawn/wren.flac"), Chance::new(1).bytes(90_000));
    write(&place, &bytes);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    rot(&lab, &place);
    fs::create_dir(lab.root().join("out")).unwrap();
    let run = lab.run(&["get", "dawn/wren.flac", "out"]).expect(&[1]);
    assert!(run.stdout.contains("damaged on its disk: alder:dawn/wren.flac"), "{}", run.stdout);
    assert!(fs::read(lab.root().join("out/wren.flac")).unwrap() == bytes);
}

/// A byte flips and nothing tells: the catalogue is given the change time that this left.
fn rot(lab: &Lab, place: &Path) {
    let before = fs::metadata(place).unwrap();
    let file = OpenOptions::new().write(true).open(place).unwrap();
    file.write_all_at(b"rot", 5000).unwrap();
    file.set_modified(before.modified().unwrap()).unwrap();
    drop(file);
    let now = fs::metadata(place).unwrap();
    let ctime = now.ctime() * 1_000_000_000 + now.ctime_nsec();
    let database = rusqlite::Connection::open(lab.root().join(".zinc-sieve/catalogue.sqlite")).unwrap();
    database.execute("UPDATE object SET ctime = ?1 WHERE inode = ?2", (ctime, now.ino() as i64)).unwrap();
}

#[rstest]
fn output_that_breaks_does_not_end_the_work(#[values("> /dev/full", "| head -c 0", ">&-")] how: &str) {
    let lab = lab(PLAIN);
    write(&lab.disk("alder").join("dawn/wren.flac"), &Chance::new(1).bytes(90_000));
    let line = format!("'{PROGRAM}' sync --yes {how}");
    let output = Command::new("sh").arg("-c").arg(line).current_dir(lab.root()).output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr);
    assert!(!told.contains("panicked"), "{told}");
    if how == "> /dev/full" {
        assert_eq!(output.status.code(), Some(3), "{told}");
        assert!(told.contains("could not be written"), "{told}");
    }
    lab.run(&["status"]).expect(&[0]);
}

#[test]
fn a_put_that_was_cut_off_can_be_typed_again() {
    let lab = lab(PLAIN);
    for number in 0..6 {
        write(&lab.root().join(format!("card/{number}.flac")), &Chance::new(number).bytes(5000));
    }
    lab.run(&["put", "card", "/", "--yes"]).expect(&[0]);
    // Half of it is there.
    for disk in ["alder", "beech"] {
        for number in 0..3 {
            let _ = fs::remove_file(lab.disk(disk).join(format!("card/{number}.flac")));
        }
    }
    let run = lab.run(&["put", "card", "/", "--yes", "--json"]).expect(&[0]);
    assert_eq!(run.json()["there_already"], 3);
    write(&lab.root().join("card/4.flac"), b"another content");
    lab.run(&["put", "card", "/", "--yes"]).expect(&[4]);
}

#[test]
fn names_that_are_no_text_can_be_typed() {
    let lab = lab(PLAIN);
    let name = std::ffi::OsStr::from_bytes(b"wren\xff.flac");
    write(&lab.disk("alder").join(name), b"dawn");
    fs::create_dir(lab.root().join("out")).unwrap();
    let run = |arguments: &[&std::ffi::OsStr]| {
        lab.command(&[]).args(arguments).stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().code()
    };
    assert_eq!(run(&["get".as_ref(), name, "out".as_ref()]), Some(0));
    assert_eq!(fs::read(lab.root().join("out").join(name)).unwrap(), b"dawn");
    assert_eq!(run(&["rm".as_ref(), name, "--yes".as_ref()]), Some(0));
    assert_eq!(run(&["restore".as_ref(), name, "--yes".as_ref()]), Some(0));
    assert_eq!(fs::read(lab.disk("alder").join(name)).unwrap(), b"dawn");
}

#[test]
fn a_file_from_the_future_settles() {
    let lab = lab(CACHED);
    let place = lab.disk("flint").join("dawn/wren.flac");
    write(&place, b"dawn");
    let year = std::time::Duration::from_secs(400 * 86_400);
    OpenOptions::new()
        .write(true)
        .open(&place)
        .unwrap()
        .set_modified(std::time::SystemTime::now() + year)
        .unwrap();
    lab.run(&["settle", "--yes"]).expect(&[0]);
    assert!(!place.exists() && found(&lab, "dawn/wren.flac").is_some());
}

#[test]
fn a_volume_ends_also_when_a_file_in_pieces_was_just_removed() {
    let lab = lab("kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]");
    write(&lab.root().join("nest/night.mkv"), &Chance::new(1).bytes(70_000_000));
    lab.run(&["put", "nest", "/", "--yes"]).expect(&[0]);
    lab.run(&["rm", "nest/night.mkv", "--yes"]).expect(&[0]);
    lab.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
}

#[test]
fn what_a_killed_put_left_unfinished_goes_with_the_next_work() {
    let lab = lab(PLAIN);
    let left = lab.disk("alder").join(".zinc-sieve/tmp/00000000deadbeef");
    write(&left.join("1"), &[0; 5000]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert!(!left.exists());
}

#[test]
fn several_at_once_end_as_if_one_after_the_other() {
    let lab = lab(CACHED);
    for number in 0..40 {
        write(&lab.disk("flint").join(format!("dawn/{number}.flac")), &Chance::new(number).bytes(4000));
        write(
            &lab.root().join(format!("card-{}/{number}.mkv", number % 4)),
            &Chance::new(99 + number).bytes(4000),
        );
    }
    let start = |arguments: &[&str]| {
        let mut command = lab.command(arguments);
        command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
    };
    let mut running = vec![start(&["settle", "--yes"]), start(&["sync", "--yes"])];
    for number in 0..4 {
        running.push(start(&["put", &format!("card-{number}"), "/", "--yes"]));
        running.push(start(&["status"]));
        running.push(start(&["ls"]));
    }
    for mut child in running {
        let mut told = String::new();
        child.stderr.take().unwrap().read_to_string(&mut told).unwrap();
        let code = child.wait().unwrap().code().unwrap();
        assert!([0, 1, 4, 5].contains(&code), "{code}: {told}");
    }
    lab.run(&["settle", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for number in 0..40 {
        let dawn = found(&lab, &format!("dawn/{number}.flac")).unwrap();
        assert!(dawn == Chance::new(number).bytes(4000));
        let card = found(&lab, &format!("card-{}/{number}.mkv", number % 4)).unwrap();
        assert!(card == Chance::new(99 + number).bytes(4000));
    }
}

#[test]
fn a_writer_by_descriptor_after_a_settle_loses_nothing() {
    let lab = lab(CACHED);
    let place = lab.disk("flint").join("dawn/wren.flac");
    write(&place, b"dawn ");
    lab.run(&["settle", "--yes"]).expect(&[0]);
    // What is held on the cache is opened by a path that nobody was to know.
    let held =
        fs::read_dir(lab.disk("flint").join(".zinc-sieve/held")).unwrap().next().unwrap().unwrap().path();
    OpenOptions::new().append(true).open(held).unwrap().write_all(b"and dusk").unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    lab.run(&["sync", "--yes"]).expect(&[0, 1]);
    let list = lab.run(&["restore", "--list", "--json"]).expect(&[0]).list();
    let paths: Vec<&Value> = list.as_array().unwrap().iter().map(|c| &c["path"]).collect();
    assert_eq!(paths, ["dawn/wren.flac"], "what is nowhere else is kept, and can be had");
}

#[test]
fn a_disk_that_is_full_to_the_byte_is_rebuilt_onto_its_equal() {
    let lab = Lab::of(
        PROGRAM,
        &[("alder", 4), ("beech", 4), ("oak", 40)],
        "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]",
    );
    lab.run(&["create", "--yes"]).expect(&[0]);
    // All of the disk in files whose lengths are no multiple of a block.
    for number in 0..160_u8 {
        write(&lab.disk("alder").join(format!("dawn/{number}.flac")), &vec![number; 25_000]);
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    let new = lab.root().join("new");
    fs::create_dir(&new).unwrap();
    lab.run(&["rebuild", "alder", "--onto", new.to_str().unwrap(), "--yes"]).expect(&[0]);
    assert_eq!(fs::read(new.join("dawn/159.flac")).unwrap(), vec![159; 25_000]);
}

#[test]
fn what_finds_no_room_in_parity_is_told_by_every_sync_and_ends_as_predicted() {
    let disks = [("alder", 20), ("oak", 20), ("flint", 20), ("beech", 40)];
    let volume =
        "data = [\"alder\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\nsettle_after = \"0.000001 minutes\"";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    write(&lab.disk("alder").join("early.wav"), &Chance::new(1).bytes(13_500_000));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let late = Chance::new(2).bytes(3_500_000);
    write(&lab.disk("flint").join("late.wav"), &late);
    // Not guarded by parity, so that nothing says that it is: not this sync, nor the next one, which has nothing to compute.
    let settled = lab.run(&["settle", "--then-sync", "--yes"]).expect(&[1]);
    assert!(settled.stdout.contains("did not guard everything"), "{}", settled.stdout);
    for _ in 0..2 {
        let synced = lab.run(&["sync", "--yes"]).expect(&[1]);
        assert!(
            synced.stdout.contains("late.wav") && !synced.stdout.contains("guarded now"),
            "{}",
            synced.stdout
        );
    }
    let fates = lab.run(&["fate", "--lose", "alder", "--json"]).expect(&[0, 1]).json();
    let is_late = |file: &&Value| file["path"] == "late.wav";
    let fate = fates["files"].as_array().unwrap().iter().find(is_late).unwrap()["fate"].clone();
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    fs::create_dir(lab.root().join("new")).unwrap();
    let onto = lab.root().join("new").display().to_string();
    let rebuilt = lab.run(&["rebuild", "alder", "--onto", &onto, "--yes"]).expect(&[0]);
    assert!(rebuilt.stdout.contains("Exactly as predicted"), "{}", rebuilt.stdout);
    // The copy that is held on the cache is what saves it.
    assert_eq!(fate, "untouched");
    assert_eq!(fs::read(lab.root().join("new/late.wav")).unwrap(), late);
}

/// Who asks for both wants to see it only.
#[rstest]
#[case(&["put", "card", "."])]
#[case(&["sync"])]
#[case(&["rm", "kept.txt"])]
#[case(&["dissolve", "recordings"])]
fn a_dry_run_changes_nothing_also_with_yes(#[case] command: &[&str]) {
    let lab = Lab::new(PROGRAM, 2, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir(lab.root().join("card")).unwrap();
    fs::write(lab.root().join("card/new.txt"), "new").unwrap();
    fs::write(lab.disk("alder").join("kept.txt"), "kept").unwrap();
    let before = lab.run(&["status", "--json"]).json();
    lab.run(&[command, &["--yes", "--dry-run"]].concat()).expect(&[0]);
    let after = lab.run(&["status", "--json"]).json();
    assert_eq!((&before["synced_at"], &before["guard"]), (&after["synced_at"], &after["guard"]));
    assert!(lab.disk("alder").join("kept.txt").exists());
}
