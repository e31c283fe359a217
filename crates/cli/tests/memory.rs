//! Guards against memory that grows with the size of files, or with their number by more than 400 bytes a file.
//!
//! A binary of its own, so that this process stays small: what it has in memory when it starts a program counts for that one.
//!
//! Holds I9.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::io::Write;
use std::process::Stdio;

use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
/// Enough to fill the caches of the database, which do not grow with the files.
const FEW: usize = 18_000;
const MANY: usize = 48_000;

/// The most memory that a run had, in bytes: the shell's child is waited for, and told by the kernel.
fn peak(lab: &Lab, arguments: &[&str]) -> u64 {
    let mut command = lab.command(arguments);
    // One arena: how many threads happen to allocate at once does not show.
    command.env("MALLOC_ARENA_MAX", "1");
    let mut child = command.stdout(Stdio::null()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut most = 0;
    while child.try_wait().unwrap().is_none() {
        let text = fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:"));
        let kilobytes: Option<u64> = line.and_then(|l| l.trim().trim_end_matches(" kB").trim().parse().ok());
        most = most.max(kilobytes.unwrap_or(0) * 1024);
        std::thread::sleep(std::time::Duration::from_micros(300));
    }
    assert!([0, 1].contains(&child.wait().unwrap().code().unwrap()), "{arguments:?}");
    most
}

fn add_files(lab: &Lab, from: usize, to: usize) {
    for number in from..to {
        let folder =
            lab.disk(&lab.data[number % 2]).join(format!("herbarium/sheet-folder-{:04}", number / 200));
        if number % 200 < 2 {
            fs::create_dir_all(&folder).unwrap();
        }
        fs::write(folder.join(format!("plate-number-{number:08}.tiff")), number.to_le_bytes()).unwrap();
    }
}

/// What each of these takes more for each file.
fn growth() -> Vec<u64> {
    let lab = Lab::new(PROGRAM, 2, 1, "2 GB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let commands = [&["sync", "--yes"][..], &["status"], &["fate", "--lose", "alder", "--json"], &["verify"]];
    let (few, many) = (FEW, MANY);
    add_files(&lab, 0, few);
    let before: Vec<u64> = commands.iter().map(|c| peak(&lab, c)).collect();
    add_files(&lab, few, many);
    let grown = commands.iter().zip(before).map(|(command, before)| {
        let after = peak(&lab, command);
        let each = after.saturating_sub(before) / (many - few) as u64;
        println!("{command:?}: {each} bytes a file ({before} to {after})");
        each
    });
    grown.collect()
}

#[test]
fn memory_grows_by_less_than_400_bytes_a_file() {
    const MOST: u64 = 400;
    let mut grown = growth();
    if grown.iter().any(|each| *each >= MOST) {
        // On a busy machine the peak of the smaller run is missed now and then, and the difference is too large.
        grown = grown.into_iter().zip(growth()).map(|(one, other)| one.min(other)).collect();
    }
    assert!(grown.iter().all(|each| *each < MOST), "{grown:?}");
}

/// The peaks of put, get, rm and rebuild in a pool of so many files.
fn peaks_of_a_life(files: usize) -> Vec<(&'static str, u64)> {
    let lab = Lab::new(PROGRAM, 2, 1, "2 GB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let source = lab.root().join("herbarium");
    for number in 0..files {
        let folder = source.join(format!("sheet-folder-{:04}", number / 200));
        if number % 200 == 0 {
            fs::create_dir_all(&folder).unwrap();
        }
        fs::write(folder.join(format!("plate-number-{number:08}.tiff")), number.to_le_bytes()).unwrap();
    }
    fs::create_dir(lab.root().join("out")).unwrap();
    let mut peaks = vec![("put", peak(&lab, &["put", "herbarium", ".", "--yes"]))];
    lab.run(&["sync", "--yes"]).expect(&[0]);
    peaks.push(("get", peak(&lab, &["get", "herbarium", "out"])));
    fs::remove_dir_all(lab.disk("alder")).unwrap();
    fs::create_dir(lab.disk("new")).unwrap();
    peaks.push(("rebuild", peak(&lab, &["rebuild", "alder", "--onto", "new", "--yes"])));
    peaks.push(("rm", peak(&lab, &["rm", "--recursive", "herbarium", "--yes"])));
    peaks
}

#[test]
fn memory_grows_by_less_than_400_bytes_a_file_in_commands_that_write() {
    let (few, many) = (FEW, MANY);
    for ((command, before), (_, after)) in peaks_of_a_life(few).into_iter().zip(peaks_of_a_life(many)) {
        let each = after.saturating_sub(before) / (many - few) as u64;
        println!("{command}: {each} bytes a file");
        assert!(each < 400, "{command} takes {each} bytes more for each file ({before} to {after})");
    }
}

#[test]
fn memory_does_not_grow_with_the_size_of_files() {
    let lab = Lab::new(PROGRAM, 2, 1, "2 GB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    fs::write(lab.disk("alder").join("small.mkv"), vec![1; 4_000_000]).unwrap();
    let commands = [&["sync", "--yes"][..], &["fate", "--lose", "alder"], &["verify"]];
    let before: Vec<u64> = commands.iter().map(|c| peak(&lab, c)).collect();
    // In parts: what this process has in memory counts for a child of it until that becomes another program.
    let mut large = fs::File::create(lab.disk("beech").join("large.mkv")).unwrap();
    (0..300).for_each(|_| large.write_all(&vec![2; 1_000_000]).unwrap());
    drop(large);
    for (command, before) in commands.iter().zip(before) {
        let after = peak(&lab, command);
        assert!(after < before + 12_000_000, "{command:?}: {before} to {after}");
    }
}
