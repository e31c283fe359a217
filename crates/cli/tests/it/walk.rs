//! Guards against a whole job that works only on stand-ins: docs/cli/walk.sh does all of it on filesystems that are mounted
//! through loop devices. Where nobody may mount (no root, no loop devices) nothing is walked.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::path::Path;
use std::process::Command;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const WALK: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/cli/walk.sh");

#[test]
fn the_whole_job_on_mounted_filesystems() {
    if !rustix::process::geteuid().is_root() || !Path::new("/dev/loop-control").exists() {
        eprintln!("nobody may mount here: the walk is not taken");
        return;
    }
    // Images of disks are not for memory.
    let folder = tempfile::TempDir::new().unwrap();
    let path = std::env::var("PATH").unwrap_or_default();
    let program = Path::new(PROGRAM).parent().unwrap().display().to_string();
    let output = Command::new("sh")
        .args([WALK, &folder.path().display().to_string()])
        .env("PATH", format!("{program}:{path}:/usr/sbin:/sbin"))
        .env_remove("ZINC_SIEVE_POOL")
        .output()
        .unwrap();
    let (told, complaints) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    if complaints.contains("failed to setup loop device") {
        eprintln!("no loop device is to be had here: the walk is not taken");
        return;
    }
    assert!(output.status.success(), "{told}\n{complaints}");
    assert!(told.trim_end().ends_with("Every file is there, byte for byte, and nothing of ours."), "{told}");
    let mounts = std::fs::read_to_string("/proc/mounts").unwrap();
    assert!(!mounts.contains(&folder.path().display().to_string()), "something is mounted still");
}
