//! Whether forecasts hold on disks of known speed: loop devices, each throttled by the kernel, one sync each.
//!
//! Needs root and the block throttle of control groups, version 1; says so and ends where they are not there. Forecasts
//! must hold within 10 %, what is told to remain within 15 % from 5 % of the way on (or half a second: at the end 15 % of
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

/// Data disks, and megabytes per second of each disk, data disks first; megabytes of files on each data disk.
struct SetUp {
    data: usize,
    rates: &'static [u64],
    files: &'static [u64],
}

const SET_UPS: [SetUp; 5] = [
    SetUp { data: 3, rates: &[100, 100, 100, 100, 100], files: &[1200, 1200, 1200] },
    SetUp { data: 3, rates: &[100, 60, 150, 120], files: &[1000, 700, 1000] },
    SetUp { data: 2, rates: &[100, 100, 50, 100], files: &[900, 500] },
    SetUp { data: 4, rates: &[80, 120, 100, 150, 60], files: &[800, 400, 700, 300] },
    SetUp { data: 2, rates: &[200, 40, 100], files: &[1400, 500] },
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
    println!(
        "A sync of disks of known speed: forecast, truth, and the worst error of what was told to remain"
    );
    for set_up in &SET_UPS {
        let disks = Disks::make(set_up.rates);
        let home = fill(&disks, set_up);
        let (forecast, truth, worst) = sync(&home);
        println!(
            "  {}+{} disks of {:?} MB/s: forecast {forecast:.1} s, took {truth:.1} s ({:+.0} %); remaining off by {:.0} % at most",
            set_up.data,
            set_up.rates.len() - set_up.data,
            set_up.rates,
            (forecast / truth - 1.0) * 100.0,
            worst * 100.0
        );
        assert!((forecast / truth - 1.0).abs() < 0.1, "the forecast does not hold");
        assert!(worst < 0.15, "what remains cannot be believed");
    }
}

/// Writes the pool file and the files.
fn fill(disks: &Disks, set_up: &SetUp) -> PathBuf {
    let home = disks.folder.join("home");
    fs::create_dir_all(&home).unwrap();
    let mut text = "[pool]\nname = \"throttled\"\n".to_string();
    for (number, rate) in set_up.rates.iter().enumerate() {
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
        names(set_up.data..set_up.rates.len())
    );
    fs::write(home.join("pool.toml"), text).unwrap();
    let mut chance = Chance::new(7);
    for (number, megabytes) in set_up.files.iter().enumerate() {
        let mut left = *megabytes;
        for file in 0.. {
            let size = left.min([1, 4, 16, 64][file % 4]);
            if size == 0 {
                break;
            }
            let folder = disks.mount(number).join(format!("folder-{}", file % 7));
            fs::create_dir_all(&folder).unwrap();
            fs::write(folder.join(format!("{file}.bin")), chance.bytes(size as usize * 1_000_000)).unwrap();
            left -= size;
        }
    }
    assert!(zinc_sieve(&home, &["create", "--yes"]).status().unwrap().success());
    run("sync", &[]);
    fs::write("/proc/sys/vm/drop_caches", "3").unwrap();
    home
}

/// The program in the group whose disks are throttled.
fn zinc_sieve(home: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new("sh");
    command.args(["-c", "echo $$ > \"$0/cgroup.procs\"; exec \"$@\"", GROUP, PROGRAM]).args(arguments);
    command.current_dir(home).stdout(Stdio::null());
    command
}

/// The forecast and the truth in seconds, and the worst error of what was told to remain.
fn sync(home: &Path) -> (f64, f64, f64) {
    let planned = zinc_sieve(home, &["sync", "--dry-run", "--json"]).stdout(Stdio::piped()).output().unwrap();
    let plan: Value = serde_json::from_slice(&planned.stdout).unwrap();
    let forecast = plan["forecast"]["likely"].as_f64().unwrap();
    let begun = Instant::now();
    let mut child = zinc_sieve(home, &["sync", "--yes", "--events"]).stderr(Stdio::piped()).spawn().unwrap();
    let mut told = Vec::new();
    for line in BufReader::new(child.stderr.take().unwrap()).lines() {
        let Ok(event) = serde_json::from_str::<Value>(&line.unwrap()) else { continue };
        if let Some(remaining) = event["remaining_seconds"].as_f64() {
            let share = event["done"].as_f64().unwrap() / event["total"].as_f64().unwrap();
            told.push((begun.elapsed().as_secs_f64(), share, remaining));
        }
    }
    assert!(child.wait().unwrap().success());
    let truth = begun.elapsed().as_secs_f64();
    let error = |(at, _, remaining): &(f64, f64, f64)| {
        let left = truth - at;
        if (remaining - left).abs() < 0.5 { 0.0 } else { (remaining - left).abs() / left }
    };
    let worst = told.iter().filter(|(_, share, _)| *share >= 0.05).map(error).fold(0.0, f64::max);
    (forecast, truth, worst)
}
