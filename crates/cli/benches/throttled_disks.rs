//! Whether forecasts hold on disks of known speed, loop devices that the kernel throttles: of a sync, a verify and a rebuild,
//! and of settling a cache.
//!
//! Needs root and the block throttle of control groups, version 1; says so and ends where they are not there. Forecasts
//! must hold within 10 %, what is told to remain within 15 % from 5 % of the way on (or a second and a half: at the end 15 % of
//! nothing is nothing).
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a bench may fail, and writes its own files"
)]

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

use serde_json::Value;
use sieve_testkit::Chance;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const GROUP: &str = "/sys/fs/cgroup/blkio/zinc-sieve-bench";
const NAMES: [&str; 6] = ["alder", "beech", "cedar", "elm", "oak", "yew"];

/// Data disks, and megabytes per second of each disk: of data disks, then parity drives, then a cache where there is one,
/// last of the disk that a lost one is rebuilt onto; megabytes of files on each data disk, or on the cache.
struct SetUp {
    data: usize,
    has_cache: bool,
    rates: &'static [u64],
    files: &'static [u64],
}

impl SetUp {
    fn parities(&self) -> usize {
        self.rates.len() - self.data - 1 - usize::from(self.has_cache)
    }
}

const SET_UPS: [SetUp; 7] = [
    SetUp { data: 3, has_cache: false, rates: &[100, 100, 100, 100, 100, 100], files: &[1200, 1200, 1200] },
    SetUp { data: 3, has_cache: false, rates: &[100, 60, 150, 120, 90], files: &[1000, 700, 1000] },
    SetUp { data: 2, has_cache: false, rates: &[100, 100, 50, 100, 120], files: &[900, 500] },
    SetUp { data: 4, has_cache: false, rates: &[80, 120, 100, 150, 60, 100], files: &[800, 400, 700, 300] },
    SetUp { data: 2, has_cache: false, rates: &[200, 40, 100, 70], files: &[1400, 500] },
    SetUp { data: 3, has_cache: true, rates: &[100, 60, 80, 120, 200, 100], files: &[1200] },
    SetUp { data: 2, has_cache: true, rates: &[100, 100, 100, 90, 100], files: &[900] },
];

/// Disks that go away again whatever happens.
struct Disks {
    folder: PathBuf,
    loops: Vec<String>,
}

impl Disks {
    fn make(rates: &[u64]) -> Self {
        let folder = PathBuf::from("/dev/shm/zinc-sieve-bench");
        fs::create_dir_all(&folder).unwrap();
        fs::create_dir_all(GROUP).unwrap();
        let mut disks = Self { folder, loops: Vec::new() };
        for (number, rate) in rates.iter().enumerate() {
            let (image, mount) = (disks.folder.join(format!("{number}.img")), disks.mount(number));
            run("truncate", &["-s", "1900M", image.to_str().unwrap()]);
            run("mkfs.ext4", &["-q", "-m0", image.to_str().unwrap()]);
            let device = run("losetup", &["-f", "--show", image.to_str().unwrap()]);
            disks.loops.push(device.clone());
            fs::create_dir_all(&mount).unwrap();
            run("mount", &[&device, mount.to_str().unwrap()]);
            let numbers = run("lsblk", &["-ndo", "MAJ:MIN", &device]);
            for way in ["read", "write"] {
                let line = format!("{numbers} {}", rate * 1_000_000);
                fs::write(format!("{GROUP}/blkio.throttle.{way}_bps_device"), line).unwrap();
            }
        }
        disks
    }

    fn mount(&self, number: usize) -> PathBuf {
        self.folder.join(NAMES[number])
    }
}

impl Drop for Disks {
    fn drop(&mut self) {
        for (number, device) in self.loops.iter().enumerate() {
            let _ = Command::new("umount").arg(self.mount(number)).status();
            let _ = Command::new("losetup").args(["-d", device]).status();
        }
        let _ = fs::remove_dir_all(&self.folder);
        let _ = fs::remove_dir(GROUP);
    }
}

fn run(program: &str, arguments: &[&str]) -> String {
    let output = Command::new(program).args(arguments).output().unwrap();
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_string()
}

fn main() {
    if !Path::new("/sys/fs/cgroup/blkio/blkio.throttle.read_bps_device").exists()
        || !rustix::process::geteuid().is_root()
    {
        println!("not run: needs root and the block throttle of control groups, version 1");
        return;
    }
    println!("Forecast and truth on disks of known speed, and the worst error of what was told to remain");
    let wanted = std::env::var("SET_UP").ok().and_then(|number| number.parse::<usize>().ok());
    for (number, set_up) in SET_UPS.iter().enumerate() {
        if wanted.is_some_and(|wanted| wanted != number) {
            continue;
        }
        let disks = Disks::make(set_up.rates);
        let home = fill(&disks, set_up);
        println!("  {} data disks of {} of {:?} MB/s", set_up.data, set_up.rates.len(), set_up.rates);
        if set_up.has_cache {
            measure(&home, "settle", &["settle"]);
            continue;
        }
        measure(&home, "sync", &["sync"]);
        measure(&home, "verify", &["verify"]);
        run("umount", &[disks.mount(0).to_str().unwrap()]);
        let new = disks.mount(set_up.rates.len() - 1);
        measure(&home, "rebuild", &["rebuild", NAMES[0], "--onto", new.to_str().unwrap()]);
    }
}

/// Writes the pool file and the files.
fn fill(disks: &Disks, set_up: &SetUp) -> PathBuf {
    let home = disks.folder.join("home");
    fs::create_dir_all(&home).unwrap();
    let mut text = "[pool]\nname = \"throttled\"\n".to_string();
    for (number, rate) in set_up.rates[..set_up.rates.len() - 1].iter().enumerate() {
        let path = disks.mount(number);
        text += &format!(
            "[[disk]]\nname = \"{}\"\npath = \"{}\"\nspeed = [\"{rate} MB/s\", \"{rate} MB/s\"]\n",
            NAMES[number],
            path.display()
        );
    }
    let names = |numbers: std::ops::Range<usize>| {
        numbers.map(|n| format!("\"{}\"", NAMES[n])).collect::<Vec<_>>().join(", ")
    };
    text += &format!(
        "[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [{}]\nparity = [{}]\n",
        names(0..set_up.data),
        names(set_up.data..set_up.data + set_up.parities())
    );
    let cache = set_up.data + set_up.parities();
    if set_up.has_cache {
        text += &format!("cache = [{}]\nsettle_after = \"0.001 minutes\"\n", names(cache..cache + 1));
    }
    fs::write(home.join("pool.toml"), text).unwrap();
    let mut chance = Chance::new(7);
    for (number, megabytes) in set_up.files.iter().enumerate() {
        let mut left = *megabytes;
        for file in 0.. {
            let size = left.min([1, 4, 16, 64][file % 4]);
            if size == 0 {
                break;
            }
            let disk = if set_up.has_cache { cache } else { number };
            let folder = disks.mount(disk).join(format!("folder-{}", file % 7));
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join(format!("{file}.bin")), chance.bytes(size as usize * 1_000_000)).unwrap();
            left -= size;
        }
    }
    assert!(zinc_sieve(&home, &["create", "--yes"]).status().unwrap().success());
    home
}

/// What is read comes from the disks.
fn forget_what_was_read() {
    run("sync", &[]);
    fs::write("/proc/sys/vm/drop_caches", "3").unwrap();
}

/// The program in the group whose disks are throttled.
fn zinc_sieve(home: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new("sh");
    command.args(["-c", "echo $$ > \"$0/cgroup.procs\"; exec \"$@\"", GROUP, PROGRAM]).args(arguments);
    command.current_dir(home).stdout(Stdio::null());
    command
}

/// Runs a command against its forecast.
fn measure(home: &Path, what: &str, command: &[&str]) {
    let (forecast, truth, (worst, told, left)) = timed(home, command);
    println!(
        "    {what}: forecast {forecast:.1} s, took {truth:.1} s ({:+.0} %); remaining off by {:.0} % at most ({told:.1} s told, {left:.1} s left)",
        (forecast / truth - 1.0) * 100.0,
        worst * 100.0
    );
    if std::env::var_os("MEASURE_ONLY").is_none() {
        assert!((forecast / truth - 1.0).abs() < 0.1, "the forecast does not hold");
        assert!(worst < 0.15, "what remains cannot be believed");
    }
}

/// The forecast and the truth in seconds, and the worst error of what was told to remain, what that was and what was left.
fn timed(home: &Path, command: &[&str]) -> (f64, f64, (f64, f64, f64)) {
    let likely = |output: &[u8]| {
        let told: Value = serde_json::from_slice(output).unwrap();
        told["forecast"]["likely_seconds"].as_f64().unwrap_or_else(|| panic!("{told}"))
    };
    // A verify asks nothing, and tells with its result what had been thought.
    let is_planned = command[0] != "verify";
    let planned = is_planned.then(|| {
        let asked = [command, &["--dry-run", "--json"]].concat();
        likely(&zinc_sieve(home, &asked).stdout(Stdio::piped()).output().unwrap().stdout)
    });
    forget_what_was_read();
    let options: &[&str] =
        if is_planned { &["--yes", "--json", "--events"] } else { &["--json", "--events"] };
    let begun = Instant::now();
    let mut child = zinc_sieve(home, &[command, options].concat())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut told = Vec::new();
    for line in BufReader::new(child.stderr.take().unwrap()).lines() {
        let Ok(event) = serde_json::from_str::<Value>(&line.unwrap()) else { continue };
        if let Some(remaining) = event["remaining_seconds"].as_f64() {
            let share = event["done"].as_f64().unwrap() / event["total"].as_f64().unwrap();
            told.push((begun.elapsed().as_secs_f64(), share, remaining));
        }
    }
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success());
    let truth = begun.elapsed().as_secs_f64();
    let forecast = planned.unwrap_or_else(|| likely(&output.stdout));
    let error = |(at, _, remaining): &(f64, f64, f64)| {
        let left = truth - at;
        let off = (remaining - left).abs();
        (if off < 1.5 { 0.0 } else { off / left }, *remaining, left)
    };
    let errors = told.iter().filter(|(_, share, _)| *share >= 0.05).map(error);
    (forecast, truth, errors.max_by(|a, b| a.0.total_cmp(&b.0)).unwrap_or_default())
}
