//! Guards against a script that erases what nobody named, or that leaves no disk at its place. Runs it for real on
//! loop devices; where that is not allowed, it says so.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use rstest::rstest;
use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

fn output(program: &str, arguments: &[&str]) -> Option<String> {
    let output = Command::new(program).args(arguments).stderr(Stdio::null()).output().ok()?;
    output.status.success().then(|| String::from_utf8_lossy(&output.stdout).trim().to_string())
}

/// A loop device over an image; let go when dropped, with what is mounted of it.
struct Loop {
    device: String,
    mounted: Vec<String>,
}

impl Loop {
    fn over(image: &Path, size: &str) -> Option<Self> {
        output("truncate", &["-s", size, image.to_str()?])?;
        let device = output("losetup", &["--find", "--show", "--partscan", image.to_str()?])?;
        Some(Self { device, mounted: Vec::new() })
    }

    fn name(&self) -> &str {
        self.device.strip_prefix("/dev/").unwrap()
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        for place in &self.mounted {
            output("umount", &["-l", place]);
        }
        output("losetup", &["--detach", &self.device]);
    }
}

/// Documents of a machine with one disk of `size` bytes.
fn documents(lab: &Lab, device: &str, size: u64, more: &str) {
    let folder = lab.root().join("machine");
    fs::create_dir_all(&folder).unwrap();
    let text =
        format!(r#"{{"blockdevices": [{{"name": "{device}", "type": "disk", "size": {size}{more}}}]}}"#);
    fs::write(folder.join("lsblk.json"), text).unwrap();
}

fn prepare(lab: &Lab, device: &str, more: &[&str], root: &Path) -> sieve_testkit::Run {
    let disk = format!("elm={device}");
    let root = root.display().to_string();
    lab.run(&[&["prepare", &disk, "--from", "machine", "--mount-root", &root], more].concat())
}

#[rstest]
#[case::ext4("ext4", "64M")]
#[case::xfs("xfs", "330M")]
fn the_script_takes_an_empty_disk_to_a_mounted_member(#[case] kind: &str, #[case] size: &str) {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    let Some(mut disk) = Loop::over(&lab.root().join("elm.img"), size) else {
        eprintln!("loop devices are not allowed here: the script is only read, by the tests of the core");
        return;
    };
    if output(
        "sh",
        &["-c", &format!("for p in mkfs.{kind} sfdisk blkid wipefs; do command -v $p || exit 1; done")],
    )
    .is_none()
    {
        eprintln!("mkfs.{kind}, sfdisk, blkid or wipefs is not installed here");
        return;
    }
    let bytes = fs::metadata(lab.root().join("elm.img")).unwrap().len();
    let root = lab.root().join("mounted");
    let write_script = |size: u64| {
        documents(&lab, disk.name(), size, "");
        let script = prepare(&lab, disk.name(), &["--filesystem", kind], &root).expect(&[0]).stdout;
        fs::write(lab.root().join("prepare.sh"), &script).unwrap();
        script
    };
    let (fstab, place) = (lab.root().join("fstab"), root.join("elm"));
    fs::write(&fstab, "").unwrap();
    let run_script = || {
        let mut command = Command::new("timeout");
        command.args(["60", "sh"]).arg(lab.root().join("prepare.sh")).env("FSTAB", &fstab);
        sieve_testkit::Run::of(&command.output().unwrap())
    };
    // Another disk has taken this name since the machine was looked at: its size tells.
    write_script(bytes - 4096);
    let run = run_script();
    assert!(run.code == 1 && run.stderr.contains("another size"), "{}", run.stderr);
    assert_eq!(output("wipefs", &["--noheadings", &disk.device]).as_deref(), Some(""));
    let script = write_script(bytes);
    let comments = script.lines().filter(|l| l.starts_with('#')).count();
    assert!(comments * 2 >= script.lines().count() - 6, "each step says what it does:\n{script}");
    let run = run_script();
    disk.mounted.push(place.display().to_string());
    run.expect(&[0]);
    let mounts = fs::read_to_string("/proc/self/mounts").unwrap();
    let line = mounts.lines().find(|l| l.contains(&place.display().to_string())).expect("it is mounted");
    assert!(line.contains(kind), "{line}");
    let written = fs::read_to_string(&fstab).unwrap();
    assert!(written.starts_with("UUID=") && written.contains("nofail"), "{written}");
    assert_eq!(output("blkid", &["-p", "-s", "PTTYPE", "-o", "value", &disk.device]).as_deref(), Some("gpt"));
    // A second run finds the disk in use, and does nothing.
    fs::write(place.join("kept"), b"kept").unwrap();
    assert_ne!(run_script().code, 0);
    assert_eq!(fs::read(place.join("kept")).unwrap(), b"kept");
    output("umount", &[&place.display().to_string()]).unwrap();
    assert_ne!(run_script().code, 0, "what is on it now is not erased either");
}

#[rstest]
#[case::system(r#", "mountpoint": "/""#, &["--erase", "sdx"], "running system")]
#[case::mounted(r#", "fstype": "ext4", "mountpoint": "/mnt/x""#, &["--erase", "sdx"], "mounted at /mnt/x")]
#[case::data(r#", "pttype": "gpt""#, &[], "carries data")]
#[case::data_of_another(r#", "pttype": "gpt""#, &["--erase", "sdy"], "--erase sdx")]
fn a_disk_that_carries_anything_is_refused(
    #[case] carries: &str,
    #[case] more: &[&str],
    #[case] words: &str,
) {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    documents(&lab, "sdx", 500_000_000, carries);
    let run = prepare(&lab, "sdx", more, Path::new("/mnt")).expect(&[4]);
    assert!(run.stderr.contains(words) && run.stdout.is_empty(), "{}{}", run.stderr, run.stdout);
}

#[test]
fn a_disk_with_data_is_erased_only_when_it_is_named_once_more() {
    let lab = Lab::new(PROGRAM, 1, 1, "40 MB");
    documents(&lab, "sdx", 500_000_000, r#", "serial": "FH-31", "pttype": "gpt""#);
    let script = prepare(&lab, "sdx", &["--erase", "sdx"], Path::new("/mnt")).expect(&[0]).stdout;
    assert!(script.contains("ERASES"), "{script}");
    let run = prepare(&lab, "sdz", &[], Path::new("/mnt")).expect(&[2]);
    assert!(run.stderr.contains("no disk `sdz`; it has sdx"), "{}", run.stderr);
    let run = lab.run(&["prepare", "../x=sdx", "--from", "machine"]).expect(&[2]);
    assert!(run.stderr.contains("is no name for a disk"), "{}", run.stderr);
}
