//! How fast a cache settles on a memory filesystem, beside `cp` of the same files followed by a checksum of both sides, in one
//! run.
//!
//! `cargo bench -p sieve-benches --bench settle_speed`; under `cargo test` it is small.

#![allow(clippy::disallowed_methods, reason = "a benchmark makes files of its own")]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::time::Instant;

use sieve_actions::disks::create;
use sieve_actions::files::settle;
use sieve_actions::files::settle::Options;
use sieve_core::pool::parse;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_pool::pool::Pool;

fn main() {
    let is_measured = std::env::args().any(|argument| argument == "--bench");
    let scale = if is_measured { 1 } else { 100 };
    let rounds = if is_measured { 5 } else { 1 };
    let only = std::env::var("ONLY").unwrap_or_default();
    if only.is_empty() || only == "large" {
        compare("large files", rounds, 40 / scale.min(10), 50_000_000 / scale);
    }
    if only.is_empty() || only == "small" {
        compare("small files", rounds, 100_000 / scale, 16 << 10);
    }
}

fn make_pool(folder: &Path) -> Pool {
    let mut text = String::from("[pool]\nname = \"speed\"\n");
    for name in ["alder", "oak", "flint"] {
        let path = folder.join(name);
        fs::create_dir(&path).expect("a folder can be made");
        text += &format!(
            "[[disk]]\nname = \"{name}\"\npath = \"{}\"\ncapacity = \"1 TB\"\nsimulated = true\n",
            path.display()
        );
    }
    text += "[[volume]]\nname = \"recordings\"\ndata = [\"alder\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\nsettle_after = \"0.000001 minutes\"\n";
    let file = folder.join("pool.toml");
    fs::write(&file, &text).expect("it can be written");
    let spec = parse(&text).spec.expect("the pool file is right");
    let machine: Arc<dyn Machine> = Arc::new(RealMachine { clock: Clock::Real });
    let plan = create::plan(&*machine, &file, &spec).expect("the pool can be planned");
    create::execute(&machine, &file, &spec, &plan, &Silent).expect("the pool can be made").0
}

fn fill(cache: &Path, count: usize, size: usize) {
    let mut bytes = vec![0; size];
    blake3::Hasher::new().finalize_xof().fill(&mut bytes);
    for number in 0..count {
        let folder = cache.join(format!("folder-{}", number / 1000));
        fs::create_dir_all(&folder).expect("a folder can be made");
        bytes[..8].copy_from_slice(&number.to_le_bytes());
        fs::write(folder.join(format!("take-{number}")), &bytes).expect("it can be written");
    }
}

fn files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).expect("it can be listed").flatten() {
        let path = entry.path();
        if path.is_dir() { files(&path, found) } else { found.push(path) }
    }
}

/// What somebody would do by hand: copy, then compare the checksums of both sides.
fn by_hand(cache: &Path, copy: &Path) -> f64 {
    let begun = Instant::now();
    fs::create_dir(copy).expect("a folder can be made");
    for entry in fs::read_dir(cache).expect("it can be listed").flatten() {
        if entry.file_name() != ".zinc-sieve" {
            let done = Command::new("cp").arg("-a").arg(entry.path()).arg(copy).status();
            assert!(done.is_ok_and(|status| status.success()));
        }
    }
    for side in [cache, copy] {
        let mut all = Vec::new();
        files(side, &mut all);
        for path in all {
            let mut hasher = blake3::Hasher::new();
            let mut file = fs::File::open(path).expect("it is there");
            std::io::copy(&mut file, &mut hasher).expect("it can be read");
            std::hint::black_box(hasher.finalize());
        }
    }
    let seconds = begun.elapsed().as_secs_f64();
    fs::remove_dir_all(copy).expect("it was just made");
    seconds
}

/// Several rounds, each with both: what the machine does besides can hit one of the two.
fn compare(what: &str, rounds: usize, count: usize, size: usize) {
    let mut ratios: Vec<f64> = (0..rounds).map(|_| round(what, count, size)).collect();
    ratios.sort_by(f64::total_cmp);
    println!("{what}: ratio {:.2}, the median of {rounds}", ratios[rounds / 2]);
}

/// How long it takes by hand, in parts of what settling takes.
fn round(what: &str, count: usize, size: usize) -> f64 {
    let memory = Path::new("/dev/shm");
    let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() };
    let folder = folder.expect("a temporary folder can be made");
    let mut pool = make_pool(folder.path());
    let cache = folder.path().join("flint");
    fill(&cache, count, size);
    // The first one touches memory that the others find touched.
    by_hand(&cache, &folder.path().join("copy"));
    let by_hand = by_hand(&cache, &folder.path().join("copy"));
    let volume = pool.volume(Some("recordings")).expect("there is one");
    let begun = Instant::now();
    let plan = settle::plan(&pool, &volume, &Options::default(), &Silent).expect("it can be planned");
    let planned = begun.elapsed().as_secs_f64();
    let report =
        settle::execute(&mut pool, &volume, &plan, &Options::default(), &Silent).expect("it can be settled");
    let settled = begun.elapsed().as_secs_f64();
    assert!(report.moved.left_alone.is_empty(), "{:?}", report.moved.left_alone);
    assert_eq!(report.moved.by_disk["alder"].files, count as u64);
    println!(
        "{what}: {count} of {size} B: by hand {by_hand:.2} s, settled in {settled:.2} s ({planned:.2} s of it planning): ratio {:.2}",
        by_hand / settled
    );
    by_hand / settled
}
