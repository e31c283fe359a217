//! Volumes that are mounted as one drive, used through the kernel as any program does. Where a machine may not mount (no
//! /dev/fuse, not root) these tests say so and end; the operations themselves are tested without a kernel in sieve-mount.

#![allow(
    clippy::disallowed_methods,
    clippy::unwrap_used,
    reason = "a test may fail, and programs write to the drive as they do"
)]

mod checks;
mod crash;
mod disks;
mod life;
mod trips;

use std::fs;
use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use sieve_testkit::Lab;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A volume that is mounted, until it is dropped.
struct Drive<'l> {
    lab: &'l Lab,
    at: PathBuf,
}

/// Whether this machine lets volumes be mounted, which is tried; says so where it does not.
fn may_mount() -> bool {
    static MAY: OnceLock<bool> = OnceLock::new();
    *MAY.get_or_init(|| {
        let lab = lab();
        fs::create_dir(lab.root().join("drive")).unwrap();
        let tried = lab.run(&["mount", "drive"]);
        if tried.code == 0 {
            lab.run(&["umount", "drive"]).expect(&[0]);
            return true;
        }
        // Whatever else goes wrong is not the machine's doing.
        let forbidden = ["Operation not permitted", "Permission denied", "no /dev/fuse", "fusermount3"];
        assert!(forbidden.iter().any(|word| tried.stderr.contains(word)), "{}", tried.stderr);
        eprintln!("this machine does not let volumes be mounted: not tested here: {}", tried.stderr);
        false
    })
}

impl<'l> Drive<'l> {
    fn mount(lab: &'l Lab, options: &[&str]) -> Self {
        let at = lab.root().join("drive");
        if !at.exists() {
            fs::create_dir(&at).unwrap();
        }
        let drive = Self { lab, at };
        lab.run(&[&["mount", "drive"], options].concat()).expect(&[0]);
        drive
    }

    fn path(&self, name: &str) -> PathBuf {
        self.at.join(name)
    }

    /// The process that serves it.
    fn process(&self) -> u32 {
        let mounts = self.lab.run(&["mount", "--status", "--json"]).json();
        u32::try_from(mounts["mounts"][0]["mounted"]["process"].as_u64().unwrap()).unwrap()
    }

    fn unmount(self) {
        self.lab.run(&["umount", "drive"]).expect(&[0]);
    }

    /// Kills its process, and takes away what it leaves.
    fn kill(self) {
        quietly("kill", &["-9", &self.process().to_string()]);
    }
}

impl Drop for Drive<'_> {
    fn drop(&mut self) {
        quietly("umount", &["--lazy", &self.at.display().to_string()]);
    }
}

/// Whether a command of the system could be run, and went well.
fn quietly(program: &str, arguments: &[&str]) -> bool {
    Command::new(program).args(arguments).output().is_ok_and(|output| output.status.success())
}

/// Waits until something holds, for so long at most.
#[track_caller]
fn within(patience: Duration, what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < patience, "{what} did not come within {patience:?}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A pool of three disks and a parity, created and empty.
fn lab() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    lab
}
