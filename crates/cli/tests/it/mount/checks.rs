//! What programs expect of a filesystem, one by one, beside what the suite for the standard asks.

use std::fs;
use std::io::{Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt};
use std::path::Path;
use std::time::Duration;

use rustix::fs::{self as sys, OFlags, SeekFrom as Seeks};
use sieve_testkit::Lab;

use super::{Drive, PROGRAM, lab, may_mount, quietly, within};

#[test]
fn files_are_what_they_are_on_their_disks() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    fs::create_dir_all(drive.path("dawn/2031")).unwrap();
    fs::write(drive.path("dawn/2031/wren.flac"), b"song").unwrap();
    // A hard link has one number, and the number of links.
    fs::hard_link(drive.path("dawn/2031/wren.flac"), drive.path("also")).unwrap();
    let (one, other) =
        (fs::metadata(drive.path("also")).unwrap(), fs::metadata(drive.path("dawn/2031/wren.flac")).unwrap());
    assert_eq!((one.ino(), one.nlink()), (other.ino(), 2));
    // A symlink is one.
    std::os::unix::fs::symlink("dawn/2031/wren.flac", drive.path("link")).unwrap();
    assert_eq!(fs::read(drive.path("link")).unwrap(), b"song");
    assert_eq!(fs::read_link(drive.path("link")).unwrap(), Path::new("dawn/2031/wren.flac"));
    // What lies where is told.
    let mut disk = [0_u8; 32];
    let length = sys::getxattr(drive.path("also"), "user.zinc-sieve.disk", &mut disk[..]).unwrap();
    let disk = std::str::from_utf8(&disk[..length]).unwrap();
    assert_eq!(fs::read(lab.disk(disk).join("also")).unwrap(), b"song");
    // So is how well a file is guarded: as the command line has it, and at once when it changes.
    let told = |name: &str, file: &str| {
        let mut value = [0_u8; 64];
        let length = sys::getxattr(drive.path(file), format!("user.zinc-sieve.{name}"), &mut value[..]);
        String::from_utf8_lossy(&value[..length.unwrap()]).into_owned()
    };
    assert_eq!([told("guard", "also"), told("fate", "also")], ["0", "untouched, unguarded: new"]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let listed = lab.run(&["where", "also", "--json"]).expect(&[0]).list();
    assert_eq!(
        [told("guard", "also"), told("fate", "also")],
        [listed[0]["guard"].to_string(), "untouched".into()]
    );
    assert_eq!(listed[0]["guard"], 1, "{listed}");
    fs::write(drive.path("also"), b"another song").unwrap();
    assert_eq!(told("fate", "also"), "untouched, unguarded: changed");
    fs::write(drive.path("also"), b"song").unwrap();
    let set = sys::setxattr(drive.path("also"), "user.zinc-sieve.guard", b"8", sys::XattrFlags::empty());
    assert!(
        set.is_err()
            && sys::getxattr(drive.path("dawn"), "user.zinc-sieve.guard", &mut [0_u8; 8][..]).is_err()
    );
    // Our own folder is not there, and cannot be made.
    assert!(!drive.path(".zinc-sieve").exists());
    assert!(fs::create_dir(drive.path(".zinc-sieve")).is_err());
    let number = one.ino();
    drive.unmount();
    let drive = Drive::mount(&lab, &[]);
    assert_eq!(fs::metadata(drive.path("also")).unwrap().ino(), number, "it is the same after a new mount");
}

#[test]
fn times_before_1970_and_their_nanoseconds_are_kept() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let path = drive.path("old");
    fs::write(&path, b"x").unwrap();
    for (seconds, nanoseconds) in [(-1, 999_999_999), (-315_532_800, 123_456_789), (0, 1), (4_000_000_000, 5)]
    {
        let time = sys::Timespec { tv_sec: seconds, tv_nsec: nanoseconds };
        let times = sys::Timestamps { last_access: time, last_modification: time };
        sys::utimensat(sys::CWD, &path, &times, sys::AtFlags::empty()).unwrap();
        std::thread::sleep(Duration::from_millis(5));
        let stat = fs::metadata(&path).unwrap();
        assert_eq!((stat.mtime(), stat.mtime_nsec()), (seconds, nanoseconds));
    }
}

#[test]
fn holes_are_found_also_before_anything_is_synced() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let file = fs::File::create(drive.path("sparse")).unwrap();
    file.write_all_at(&[7; 4000], 1 << 20).unwrap();
    assert_eq!(sys::seek(&file, Seeks::Data(0)).unwrap(), 1 << 20);
    let end = (1 << 20) + 4000;
    assert_eq!(sys::seek(&file, Seeks::Hole(1 << 20)).unwrap(), end);
    assert_eq!(file.metadata().unwrap().len(), end);
}

#[test]
fn who_is_not_root_takes_the_set_id_bits_of_what_he_changes() {
    if !may_mount() || !Path::new("/usr/bin/setpriv").exists() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let path = drive.path("tool");
    let shown = path.display().to_string();
    for change in [format!("printf x >> '{shown}'"), format!("truncate -s 1 '{shown}'")] {
        fs::write(&path, b"#!/bin/sh\n").unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o6777)).unwrap();
        let stranger = ["--reuid=1234", "--regid=1234", "--clear-groups", "sh", "-c", &change];
        // The temporary folder is root's alone: the way to the drive is opened for this.
        fs::set_permissions(lab.root(), fs::Permissions::from_mode(0o755)).unwrap();
        assert!(quietly("setpriv", &stranger), "{change}");
        let mode = fs::metadata(&path).unwrap().permissions().mode() & 0o7777;
        assert_eq!(mode & 0o6000, 0, "after {change}: {mode:o}");
    }
}

#[test]
fn what_is_removed_while_it_is_open_can_be_read_and_written_on() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let mut file =
        fs::OpenOptions::new().read(true).write(true).create_new(true).open(drive.path("gone")).unwrap();
    file.write_all(b"abc").unwrap();
    fs::remove_file(drive.path("gone")).unwrap();
    file.write_all(b"def").unwrap();
    file.seek(SeekFrom::Start(0)).unwrap();
    let mut text = String::new();
    file.read_to_string(&mut text).unwrap();
    assert_eq!((text.as_str(), file.metadata().unwrap().nlink()), ("abcdef", 0));
}

#[test]
fn a_listing_while_files_are_removed_shows_each_that_stays_once() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    fs::create_dir(drive.path("many")).unwrap();
    for number in 0..2000 {
        fs::File::create(drive.path(&format!("many/{number:05}"))).unwrap();
    }
    let mut seen = Vec::new();
    for (position, entry) in fs::read_dir(drive.path("many")).unwrap().enumerate() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        if position % 2 == 0 {
            fs::remove_file(drive.path(&format!("many/{name}"))).unwrap();
        }
        seen.push(name);
    }
    seen.sort();
    let before = seen.len();
    seen.dedup();
    assert_eq!((before, seen.len()), (2000, 2000));
    assert_eq!(fs::read_dir(drive.path("many")).unwrap().count(), 1000);
}

#[test]
fn a_shared_mapping_shows_what_is_written_and_writes_what_is_changed() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let path = drive.path("mapped");
    fs::write(&path, vec![1; 8192]).unwrap();
    let script = "import mmap,sys; f=open(sys.argv[1],'r+b'); m=mmap.mmap(f.fileno(),8192); m[100:104]=b'zinc'; m.flush()";
    if !quietly("python3", &["--version"]) {
        eprintln!("no python3 here, which maps the file: not tested");
        return;
    }
    assert!(quietly("python3", &["-c", script, &path.display().to_string()]), "it maps and writes");
    assert_eq!(&fs::read(&path).unwrap()[100..104], b"zinc");
}

#[test]
fn writing_past_the_page_cache_works() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let path = drive.path("direct");
    let flags = OFlags::CREATE | OFlags::RDWR | OFlags::DIRECT;
    let file = sys::open(&path, flags, sys::Mode::from_raw_mode(0o644)).unwrap();
    let block = vec![5_u8; 8192];
    let aligned = block.as_ptr().align_offset(4096);
    assert_eq!(rustix::io::write(&file, &block[aligned..aligned + 4096]).unwrap(), 4096);
    assert_eq!(fs::read(&path).unwrap(), vec![5; 4096]);
}

#[test]
fn what_others_change_on_a_disk_shows_within_a_second_and_what_commands_change_at_once() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    assert!(!drive.path("direct").exists());
    fs::write(lab.disk("alder").join("direct"), b"came behind").unwrap();
    within(Duration::from_secs(2), "what came behind", || {
        fs::read(drive.path("direct")).is_ok_and(|b| b == b"came behind")
    });
    fs::write(lab.disk("alder").join("direct"), b"changed behind").unwrap();
    within(Duration::from_secs(2), "the change", || {
        fs::read(drive.path("direct")).is_ok_and(|b| b == b"changed behind")
    });
    fs::remove_file(lab.disk("alder").join("direct")).unwrap();
    within(Duration::from_secs(2), "its end", || !drive.path("direct").exists());
    fs::write(lab.root().join("source"), b"put").unwrap();
    assert!(!drive.path("source").exists());
    lab.run(&["put", "source", ".", "--yes"]).expect(&[0]);
    within(Duration::from_secs(2), "what was put", || {
        fs::read(drive.path("source")).is_ok_and(|b| b == b"put")
    });
    lab.run(&["rm", "source", "--yes"]).expect(&[0]);
    within(Duration::from_secs(2), "what was removed", || !drive.path("source").exists());
}

#[test]
fn what_is_removed_or_written_over_through_it_is_held_and_weakens_nobody() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    for number in 0..12 {
        fs::write(drive.path(&format!("f{number}")), vec![number; 100_000]).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_file(drive.path("f0")).unwrap();
    fs::rename(drive.path("f1"), drive.path("f2")).unwrap();
    fs::write(drive.path("f3"), b"written over").unwrap();
    fs::rename(drive.path("f4"), drive.path("renamed")).unwrap();
    fs::remove_file(drive.path("renamed")).unwrap();
    fs::create_dir(drive.path("folder")).unwrap();
    fs::rename(drive.path("f5"), drive.path("folder/f5")).unwrap();
    fs::rename(drive.path("folder"), drive.path("other")).unwrap();
    fs::remove_file(drive.path("other/f5")).unwrap();
    fs::set_permissions(drive.path("f6"), fs::Permissions::from_mode(0o600)).unwrap();
    let held = lab.run(&["restore", "--list", "--json"]).expect(&[0]).json();
    assert_eq!(held.as_array().or_else(|| held["files"].as_array()).map(Vec::len), Some(5), "{held}");
    // Only what was written over is not guarded now: nobody else lost anything.
    let worst = lab.run(&["fate", "--any", "1", "--json"]).expect(&[0, 1]).json();
    let status = lab.run(&["status", "--json"]).expect(&[0, 1, 5]).json();
    for disk in ["alder", "beech", "cedar"] {
        let fate = lab.run(&["fate", "--lose", disk, "--json"]).expect(&[0, 1]).json();
        let lost =
            ["older", "torn", "gone"].map(|fate_word| fate["totals"][fate_word]["files"].as_u64().unwrap());
        assert!(lost.iter().sum::<u64>() <= 1, "{disk}: {fate}\n{worst}\n{status}");
    }
    lab.run(&["restore", "f0", "--yes"]).expect(&[0]);
    within(Duration::from_secs(2), "what was restored", || {
        fs::read(drive.path("f0")).is_ok_and(|b| b == [0; 100_000])
    });
}

#[test]
fn a_folder_whose_past_is_not_wanted_keeps_none() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let text = lab.pool_text() + "\n[[volume.folder]]\npath = \"images\"\nhold = \"never\"\n";
    lab.write_pool_file(&text);
    let drive = Drive::mount(&lab, &[]);
    fs::create_dir(drive.path("images")).unwrap();
    fs::write(drive.path("images/disk.img"), vec![1; 50_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_file(drive.path("images/disk.img")).unwrap();
    let status = lab.run(&["status"]).stdout;
    assert!(!status.contains("Held until"), "{status}");
}

#[test]
fn it_is_told_what_is_in_the_way() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    let twice = lab.run(&["mount", "drive"]).expect(&[2]);
    assert!(twice.stderr.contains("mounted on it already"), "{}", twice.stderr);
    fs::create_dir(lab.root().join("second")).unwrap();
    let again = lab.run(&["mount", "second"]).expect(&[3, 4]);
    assert!(again.stderr.contains("mounted already at"), "{}", again.stderr);
    let file = fs::File::create(drive.path("open")).unwrap();
    let status = lab.run(&["status", "--json"]).expect(&[0, 5]).json();
    assert_eq!(status["mounts"][0]["now"]["open_for_writing"], 1, "{status}");
    let busy = lab.run(&["umount", "drive"]).expect(&[4]);
    assert!(busy.stderr.contains(&format!("process {}", std::process::id())), "{}", busy.stderr);
    drop(file);
    let on_disk = lab.run(&["mount", "alder"]).expect(&[2]);
    assert!(on_disk.stderr.contains("disk alder itself"), "{}", on_disk.stderr);
    fs::write(lab.root().join("second/x"), b"").unwrap();
    let full = lab.run(&["mount", "second"]).expect(&[2]);
    assert!(full.stderr.contains("is not empty"), "{}", full.stderr);
    drive.unmount();
    let none = lab.run(&["umount", "drive"]).expect(&[2]);
    assert!(none.stderr.contains("no volume of this pool is mounted"), "{}", none.stderr);
}

#[test]
fn disks_are_not_taken_away_under_a_mounted_volume() {
    if !may_mount() {
        return;
    }
    let volume = "data = [\"alder\", \"beech\"]\ncache = [\"cedar\"]\nparity = [\"oak\"]";
    let lab = Lab::of(PROGRAM, &[("alder", 40), ("beech", 40), ("cedar", 40), ("oak", 44)], volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let drive = Drive::mount(&lab, &[]);
    for arguments in [&["vacate", "cedar", "--yes"][..], &["dissolve", "recordings", "--yes"]] {
        let refused = lab.run(arguments).expect(&[4]);
        assert!(refused.stderr.contains("is mounted on"), "{}", refused.stderr);
    }
    drive.unmount();
    lab.run(&["vacate", "cedar", "--yes"]).expect(&[0]);
}

/// The pool file gets another name while the volume is mounted, and a command follows it.
#[test]
fn a_volume_that_is_renamed_meanwhile_keeps_its_new_name() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    fs::write(drive.path("song"), vec![1; 10_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.write_pool_file(&lab.pool_text().replace("name = \"recordings\"", "name = \"songs\""));
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::remove_file(drive.path("song")).unwrap();
    let held = lab.run(&["restore", "--list", "--json"]).expect(&[0]).json();
    assert_eq!(held.as_array().or_else(|| held["files"].as_array()).map(Vec::len), Some(1), "{held}");
    let status = lab.run(&["status", "--json"]).expect(&[0, 1, 5]).stdout;
    assert!(status.contains("\"songs\""), "{status}");
}

#[test]
fn read_only_it_changes_nothing() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    fs::write(lab.disk("alder").join("a"), b"a").unwrap();
    let drive = Drive::mount(&lab, &["--read-only"]);
    assert_eq!(fs::read(drive.path("a")).unwrap(), b"a");
    for refused in [
        fs::write(drive.path("a"), b"b"),
        fs::write(drive.path("b"), b"b"),
        fs::remove_file(drive.path("a")),
        fs::create_dir(drive.path("c")),
    ] {
        let errno = refused.unwrap_err().raw_os_error();
        assert_eq!(errno, Some(rustix::io::Errno::ROFS.raw_os_error()));
    }
}

#[test]
fn what_mounts_it_at_boot_is_printed_and_names_every_disk() {
    let lab = Lab::new(PROGRAM, 3, 1, "40 MB");
    lab.run(&["create", "--yes"]).expect(&[0]);
    let unit = lab.run(&["mount", "recordings", "/srv/one drive", "--unit"]).expect(&[0]).stdout;
    for disk in ["alder", "beech", "cedar", "oak"] {
        assert!(unit.contains(&format!("-{disk}.mount")), "{unit}");
    }
    assert!(unit.contains("Type=notify") && unit.contains("\"/srv/one drive\""), "{unit}");
    if quietly("systemd-analyze", &["--version"]) {
        let file = lab.root().join("zinc-sieve-recordings.service");
        fs::write(&file, &unit).unwrap();
        let checked =
            std::process::Command::new("systemd-analyze").arg("verify").arg(&file).output().unwrap();
        let said = String::from_utf8_lossy(&checked.stderr).into_owned();
        assert!(!said.contains("Unknown") && !said.contains("Failed to parse"), "{said}");
    }
    let line = lab.run(&["mount", "/srv/one drive", "--fstab"]).expect(&[0]).stdout;
    let line = line.lines().find(|line| !line.starts_with('#')).unwrap();
    let fields: Vec<&str> = line.split(' ').collect();
    assert_eq!((fields.len(), fields[1], fields[2]), (6, "/srv/one\\040drive", "fuse.zinc-sieve"), "{line}");
}
