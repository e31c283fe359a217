//! Guards against a program that works for root alone, or that makes somebody else's files its own: who is not root may do
//! everything with files of its own, and leaves the owner of others' as it is.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::Path;
use std::process::Command;

use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
/// Who owns nothing on a fresh system.
const ANOTHER: u32 = 65534;

pub(crate) fn may_become_another_user() -> bool {
    let may = fs::metadata("/proc/self").unwrap().uid() == 0 && Path::new("/usr/bin/setpriv").exists();
    if !may {
        eprintln!("only root can become another user here");
    }
    may
}

/// Runs the program as a user who owns nothing here, from a place that this user can reach: the code and the messages.
pub(crate) fn as_another_user(lab: &Lab, arguments: &[&str]) -> (i32, String) {
    let (code, _, complaints) = told_another_user(lab, arguments);
    (code, complaints)
}

/// The same with what it printed.
fn told_another_user(lab: &Lab, arguments: &[&str]) -> (i32, String, String) {
    let program = lab.root().join("program");
    if !program.exists() {
        fs::copy(PROGRAM, &program).unwrap();
        fs::set_permissions(&program, PermissionsExt::from_mode(0o755)).unwrap();
    }
    let output = Command::new("/usr/bin/setpriv")
        .args(["--reuid=65534", "--regid=65534", "--clear-groups"])
        .arg(program)
        .args(arguments)
        .current_dir(lab.root())
        .output()
        .unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    (output.status.code().unwrap(), text(&output.stdout), text(&output.stderr))
}

/// The same, with an ending that has to be one of these.
#[track_caller]
fn does(lab: &Lab, line: &str, codes: &[i32]) -> String {
    let (code, told) = as_another_user(lab, &line.split(' ').collect::<Vec<_>>());
    assert!(codes.contains(&code), "{line}: {code}\n{told}");
    told
}

fn give_all(folder: &Path, uid: u32) {
    chown(folder, Some(uid), Some(uid)).unwrap();
    for entry in fs::read_dir(folder).unwrap().flatten() {
        if entry.file_type().unwrap().is_dir() {
            give_all(&entry.path(), uid);
        } else {
            std::os::unix::fs::lchown(entry.path(), Some(uid), Some(uid)).unwrap();
        }
    }
}

/// Three disks and a parity drive that belong to another user, as do all files on them.
fn lab_of_another() -> Lab {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    let mut chance = Chance::new(11);
    for (disk, name) in [("alder", "wren"), ("beech", "robin"), ("cedar", "owl")] {
        let folder = lab.disk(disk).join("dawn");
        fs::create_dir(&folder).unwrap();
        for number in 0..3 {
            let path = folder.join(format!("{name}-{number}.flac"));
            fs::write(&path, chance.bytes(200_000 + number)).unwrap();
            fs::set_permissions(&path, PermissionsExt::from_mode(0o640)).unwrap();
        }
    }
    for folder in ["card", "new", "larger"] {
        fs::create_dir(lab.root().join(folder)).unwrap();
    }
    fs::write(lab.root().join("card/late.flac"), chance.bytes(90_000)).unwrap();
    give_all(lab.root(), ANOTHER);
    lab
}

fn owner(path: &Path) -> u32 {
    fs::symlink_metadata(path).unwrap_or_else(|e| panic!("{}: {e}", path.display())).uid()
}

#[test]
fn who_is_not_root_does_all_the_work_with_files_of_its_own() {
    if !may_become_another_user() {
        return;
    }
    let lab = lab_of_another();
    let before = fs::read(lab.disk("cedar").join("dawn/owl-1.flac")).unwrap();
    for line in [
        "create --yes",
        "put card/late.flac . --yes",
        "sync --yes",
        "rm dawn/wren-0.flac --yes",
        "restore dawn/wren-0.flac --yes",
        "move dawn/robin-0.flac --to alder --yes",
        "sync --yes",
        "verify",
        "drill --lose cedar",
        "replace oak --onto larger --yes",
        "sync --yes",
    ] {
        does(&lab, line, &[0]);
    }
    fs::remove_dir_all(lab.disk("cedar")).unwrap();
    does(&lab, "rebuild cedar --onto new --yes", &[0]);
    for line in ["sync --yes", "vacate beech --yes", "drill --lose cedar", "verify"] {
        does(&lab, line, &[0]);
    }
    let back = lab.root().join("new/dawn/owl-1.flac");
    assert_eq!(fs::read(&back).unwrap(), before);
    let looks = fs::metadata(&back).unwrap();
    assert_eq!((looks.uid(), looks.permissions().mode() & 0o7777), (ANOTHER, 0o640));
    let is_of_another = |name: &str| owner(&lab.root().join(name)) == ANOTHER;
    assert!(
        ["alder/.zinc-sieve", "new/.zinc-sieve", "alder/dawn", "pool.toml"].into_iter().all(is_of_another)
    );
}

#[test]
fn a_file_of_somebody_else_keeps_its_owner() {
    if !may_become_another_user() {
        return;
    }
    let lab = lab_of_another();
    let of_root = lab.disk("alder").join("dawn/wren-1.flac");
    chown(&of_root, Some(0), Some(0)).unwrap();
    fs::set_permissions(&of_root, PermissionsExt::from_mode(0o644)).unwrap();
    does(&lab, "create --yes", &[0]);
    does(&lab, "sync --yes", &[0]);

    for (line, code) in [
        ("move dawn/wren-1.flac --to beech --yes", 1),
        ("vacate alder --yes", 1),
        ("replace alder --onto larger --yes", 4),
    ] {
        does(&lab, line, &[code]);
        assert_eq!(owner(&of_root), 0, "{line}");
    }
    let refused = does(&lab, "replace alder --onto larger --yes", &[4]);
    assert!(refused.contains("1 file of another user") && refused.contains("as root"), "{refused}");

    // Root moves it, and it stays whose it was.
    does(&lab, "sync --yes", &[0]);
    lab.run(&["move", "dawn/wren-1.flac", "--to", "beech", "--yes"]).expect(&[0]);
    assert_eq!(owner(&lab.disk("beech").join("dawn/wren-1.flac")), 0);
    lab.run(&["sync", "--yes"]).expect(&[0]);

    // What is lost comes back all the same, and it is said before whose it will be.
    fs::remove_dir_all(lab.disk("beech")).unwrap();
    give_all(&lab.root().join("new"), ANOTHER);
    for folder in ["alder", "cedar", "oak"] {
        chown(lab.disk(folder).join(".zinc-sieve"), Some(ANOTHER), Some(ANOTHER)).unwrap();
    }
    give_all(&lab.root().join(".zinc-sieve"), ANOTHER);
    let (_, plan, _) = told_another_user(&lab, &["rebuild", "beech", "--onto", "new", "--dry-run"]);
    assert!(plan.contains("1 file of other users would come back as your own"), "{plan}");
}

#[test]
fn a_copy_of_somebody_elses_file_in_a_mirror_waits_for_root() {
    if !may_become_another_user() {
        return;
    }
    let disks = [("alder", 40), ("beech", 40)];
    let lab = Lab::of(PROGRAM, &disks, "kind = \"mirrored\"\ndata = [\"alder\", \"beech\"]");
    for (name, uid) in [("mine.flac", ANOTHER), ("roots.flac", 0)] {
        fs::write(lab.disk("alder").join(name), Chance::new(3).bytes(50_000)).unwrap();
        give_all(lab.root(), ANOTHER);
        chown(lab.disk("alder").join(name), Some(uid), Some(uid)).unwrap();
        fs::set_permissions(lab.disk("alder").join(name), PermissionsExt::from_mode(0o644)).unwrap();
    }
    does(&lab, "create --yes", &[0]);
    let (_, told, _) = told_another_user(&lab, &["sync", "--yes"]);
    let copy = |name: &str| lab.disk("beech").join(name);
    assert!(copy("mine.flac").exists() && !copy("roots.flac").exists(), "{told}");
    assert!(told.contains("only root copies them") && told.contains("alder/roots.flac"), "{told}");
    does(&lab, "sync --yes", &[1]);

    lab.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!((owner(&copy("roots.flac")), owner(&copy("mine.flac"))), (0, ANOTHER));
}

/// What comes while a disk is copied to another is looked at like what was there before.
#[test]
fn a_file_of_somebody_else_that_comes_during_a_handover_ends_it() {
    if !may_become_another_user() {
        return;
    }
    let lab = lab_of_another();
    fs::write(lab.disk("alder").join("long.flac"), Chance::new(8).bytes(4_000_000)).unwrap();
    give_all(lab.root(), ANOTHER);
    does(&lab, "create --yes", &[0]);
    does(&lab, "sync --yes", &[0]);
    let arrives = || {
        let begun = lab.root().join("larger/.zinc-sieve");
        while !begun.exists() {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        let late = lab.disk("alder").join("late.flac");
        fs::write(&late, b"late").unwrap();
        fs::set_permissions(&late, PermissionsExt::from_mode(0o644)).unwrap();
    };
    let (code, told, _) = std::thread::scope(|scope| {
        scope.spawn(arrives);
        told_another_user(&lab, &["replace", "alder", "--onto", "larger", "--limit", "2 MB/s", "--yes"])
    });
    assert!(code != 0 && told.contains("late.flac") && told.contains("another user"), "{code}: {told}");
    assert_eq!(owner(&lab.disk("alder").join("late.flac")), 0);
    assert!(!lab.root().join("larger/late.flac").exists(), "no copy of it belongs to who ran it");
    does(&lab, "status", &[5]);
}
