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

/// Whether an image can be mounted here.
fn may_mount(folder: &Path) -> bool {
    if !rustix::process::geteuid().is_root() {
        return false;
    }
    let script = "truncate -s 8M try.img && mkfs.ext4 -q try.img && mkdir try && mount -o loop try.img try && umount try";
    let tried = Command::new("sh").args(["-c", script]).current_dir(folder).env("PATH", path()).output();
    tried.is_ok_and(|output| output.status.success())
}

/// Where the program and the tools of the system are.
fn path() -> String {
    let program = Path::new(PROGRAM).parent().unwrap().display();
    format!("{program}:{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap_or_default())
}

#[test]
fn the_whole_job_on_mounted_filesystems() {
    // Images of disks are not for memory.
    let folder = tempfile::TempDir::new().unwrap();
    if !may_mount(folder.path()) {
        eprintln!("nobody may mount here: the walk is not taken");
        return;
    }
    let place = folder.path().join("walk");
    std::fs::create_dir(&place).unwrap();
    let mut walk = Command::new("sh");
    walk.args([WALK, &place.display().to_string()]).env("PATH", path()).env_remove("ZINC_SIEVE_POOL");
    let output = walk.output().unwrap();
    let (told, complaints) =
        (String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert!(output.status.success(), "{told}\n{complaints}");
    assert!(told.trim_end().ends_with("Every file is there, byte for byte, and nothing of ours."), "{told}");
    let mounts = std::fs::read_to_string("/proc/mounts").unwrap();
    assert!(!mounts.contains(&folder.path().display().to_string()), "something is mounted still");
}
