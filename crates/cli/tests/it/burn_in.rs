//! Guards against a burn-in that finds nothing because it reads the cache, that touches what it should not, or that
//! leaves its files behind.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::Value;
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const FOLDER: &str = ".zinc-sieve-burn-in";

fn quietly(command: &mut Command) -> bool {
    command.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|s| s.success())
}

/// A loop-mounted filesystem; nothing where mounting is not allowed.
struct Mounted(PathBuf);

impl Mounted {
    fn build(lab: &Lab, megabytes: u64) -> Option<Self> {
        let (image, place) = (lab.root().join("new.img"), lab.root().join("new"));
        fs::create_dir(&place).unwrap();
        let size = format!("{megabytes}M");
        let made = quietly(Command::new("truncate").args(["-s", &size]).arg(&image))
            && quietly(Command::new("mkfs.ext4").args(["-q", "-m", "0"]).arg(&image))
            && quietly(Command::new("mount").args(["-o", "loop"]).arg(&image).arg(&place));
        if !made {
            eprintln!(
                "loop mounts are not allowed here: a folder stands in, and pages may come from the cache"
            );
        }
        made.then_some(Self(place))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        quietly(Command::new("umount").arg("-l").arg(&self.0));
    }
}

fn leftovers(folder: &Path) -> bool {
    folder.join(FOLDER).exists()
}

#[test]
fn a_good_disk_passes_its_files_stay_and_the_curve_is_kept_for_forecasts() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let Some(disk) = Mounted::build(&lab, 200) else { return };
    fs::write(disk.0.join("mine.flac"), b"mine").unwrap();
    let run = lab.run(&["burn-in", "new", "--yes", "--json"]).expect(&[0]);
    let report = run.json();
    assert!(report["bytes"].as_u64().unwrap() > 130_000_000, "nearly all of it: {report}");
    assert_eq!((&report["bad"], &report["from_the_medium"]), (&serde_json::json!([]), &Value::Bool(true)));
    assert!(report["read_curve"].as_array().unwrap().len() >= 2);
    assert!(!leftovers(&disk.0) && fs::read(disk.0.join("mine.flac")).unwrap() == b"mine");
    let curves: Value =
        serde_json::from_str(&fs::read_to_string(lab.root().join(".zinc-sieve/curves.json")).unwrap())
            .unwrap();
    assert!(curves["curves"][0]["filesystem"].as_str().unwrap().starts_with("uuid:"), "{curves}");
}

#[test]
fn a_burn_in_of_a_part_is_a_part_of_the_curve() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let Some(_disk) = Mounted::build(&lab, 200) else { return };
    lab.run(&["burn-in", "new", "--amount", "60 MB", "--yes", "--json"]).expect(&[0]);
    let curves: Value =
        serde_json::from_str(&fs::read_to_string(lab.root().join(".zinc-sieve/curves.json")).unwrap())
            .unwrap();
    let points = curves["curves"][0]["points"].as_array().unwrap();
    let last = points.last().unwrap()[0].as_f64().unwrap();
    assert!(last < 0.4, "60 of 200 MB are no whole disk: {curves}");
}

#[test]
fn what_changes_on_the_medium_is_found_with_its_place() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let Some(disk) = Mounted::build(&lab, 200) else { return };
    // A run is killed while it reads; then the medium changes under what it wrote; the next run goes on.
    let mut command = lab.command(&["burn-in", "new", "--yes", "--json"]);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let second = disk.0.join(FOLDER).join("pattern-000001");
    for _ in 0..2000 {
        if fs::metadata(&second).is_ok_and(|m| m.len() == 64 << 20) || child.try_wait().unwrap().is_some() {
            break;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(leftovers(&disk.0), "a kill leaves what was written");
    let file = fs::OpenOptions::new().write(true).open(disk.0.join(FOLDER).join("pattern-000000")).unwrap();
    file.write_all_at(b"rot", 10_000_000).unwrap();
    file.sync_all().unwrap();
    let report = lab.run(&["burn-in", "new", "--yes", "--json"]).expect(&[1]).json();
    assert!(report["resumed_bytes"].as_u64().unwrap() >= 64 << 20, "{report}");
    let bad = &report["bad"][0];
    assert_eq!(
        (bad["offset_bytes"].as_u64(), bad["length_bytes"].as_u64()),
        (Some(10_000_000 / 4096 * 4096), Some(4096))
    );
    let place = bad["on_device_bytes"].as_u64().expect("ext4 says where a file lies");
    assert!(place < 200 << 20);
    assert!(!leftovers(&disk.0), "it cleans up also when something was found");
}

#[test]
fn an_interrupted_run_cleans_up_after_itself() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    fs::create_dir(lab.disk("new")).unwrap();
    let mut command = lab.command(&["burn-in", "new", "--amount", "3 GB", "--yes"]);
    let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    for _ in 0..2000 {
        if leftovers(&lab.disk("new")) && fs::read_dir(lab.disk("new").join(FOLDER)).unwrap().count() > 1 {
            break;
        }
        std::thread::sleep(Duration::from_millis(1));
    }
    let id = child.id().to_string();
    assert!(quietly(Command::new("kill").args(["-INT", &id])));
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    assert!(!leftovers(&lab.disk("new")));
}

#[test]
fn an_image_is_overwritten_only_when_its_name_is_typed_out() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let image = lab.root().join("old.img");
    fs::write(&image, vec![7; 3 << 20]).unwrap();
    for more in [&[][..], &["--overwrite", "other.img"]] {
        let run = lab.run(&[&["burn-in", "old.img", "--yes"], more].concat()).expect(&[4]);
        assert!(run.stderr.contains("--overwrite old.img"), "{}", run.stderr);
        assert!(run.stdout.is_empty(), "it is refused before anything is announced: {}", run.stdout);
    }
    let plan = lab.run(&["burn-in", "old.img", "--overwrite", "old.img", "--dry-run"]).expect(&[0]).stdout;
    assert!(plan.contains("OVERWRITES old.img") && plan.contains("is lost"), "{plan}");
    assert!(fs::read(&image).unwrap().iter().all(|b| *b == 7));
    let report =
        lab.run(&["burn-in", "old.img", "--overwrite", "old.img", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(report["bytes"].as_u64(), Some(3 << 20));
    assert!(!fs::read(&image).unwrap().iter().all(|b| *b == 7));
}

#[test]
fn wrong_paths_and_missing_consent_do_nothing() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    assert!(lab.run(&["burn-in", "nowhere", "--yes"]).expect(&[2]).stderr.contains("nowhere"));
    assert!(lab.run(&["burn-in", "/dev/null", "--yes"]).expect(&[2]).stderr.contains("neither a folder"));
    fs::create_dir(lab.disk("new")).unwrap();
    lab.run(&["burn-in", "new"]).expect(&[2]);
    let plan = lab.run(&["burn-in", "new", "--dry-run"]).expect(&[0]).stdout;
    assert!(plan.contains("not touched"), "{plan}");
    lab.run(&["burn-in", "new", "--overwrite", "new", "--yes"]).expect(&[2]);
    lab.run(&["burn-in", "new", "--amount", "much", "--yes"]).expect(&[2]);
    assert!(!leftovers(&lab.disk("new")));
}
