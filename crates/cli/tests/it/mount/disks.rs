//! Disks that go away, fill up, or come back while a volume is mounted.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{FileExt, MetadataExt};

use rustix::io::Errno;
use sieve_testkit::{Chance, Lab};

use super::{Drive, PROGRAM, lab, may_mount};

/// The disk that a file lies on.
fn disk_of(lab: &Lab, name: &str) -> String {
    lab.data.iter().find(|disk| lab.disk(disk).join(name).exists()).unwrap().clone()
}

#[test]
fn with_a_disk_away_its_files_are_listed_and_read_and_not_written() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let mut chance = Chance::new(4);
    let drive = Drive::mount(&lab, &[]);
    fs::create_dir(drive.path("songs")).unwrap();
    let contents: Vec<Vec<u8>> = (0..9).map(|_| chance.bytes(2_500_000)).collect();
    for (number, bytes) in contents.iter().enumerate() {
        fs::write(drive.path(&format!("songs/{number}")), bytes).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let lost = disk_of(&lab, "songs/0");
    let numbers: Vec<u64> =
        (0..9).map(|n| fs::metadata(drive.path(&format!("songs/{n}"))).unwrap().ino()).collect();
    drive.unmount();
    fs::rename(lab.disk(&lost), lab.root().join("aside")).unwrap();
    fs::create_dir(lab.disk(&lost)).unwrap();
    let drive = Drive::mount(&lab, &[]);
    assert_eq!(fs::read_dir(drive.path("songs")).unwrap().count(), 9, "the listing is complete");
    for (number, bytes) in contents.iter().enumerate() {
        let path = drive.path(&format!("songs/{number}"));
        assert!(fs::read(&path).unwrap() == *bytes, "{number}");
        assert_eq!(fs::metadata(&path).unwrap().ino(), numbers[number], "a file keeps its number");
    }
    // What becomes of each is told as the command line has it.
    let rebuilt = lab.run(&["fate", "--only", "rebuilt", "--json"]).expect(&[0, 1, 5]).stdout;
    let places = lab.run(&["where", "songs/*", "--json"]).expect(&[0, 1, 5]).list();
    for file in places.as_array().unwrap() {
        let path = file["path"].as_str().unwrap();
        let told = |name: &str| {
            let mut value = [0_u8; 64];
            let name = format!("user.zinc-sieve.{name}");
            let length = rustix::fs::getxattr(drive.path(path), name, &mut value[..]).unwrap();
            String::from_utf8_lossy(&value[..length]).into_owned()
        };
        let fate = if rebuilt.contains(&format!("{path:?}")) { "rebuilt" } else { "untouched" };
        assert_eq!(fate == "rebuilt", file["disks"][0] == *lost, "{file} {rebuilt}");
        assert!(told("fate").starts_with(fate), "{file}: {}", told("fate"));
        assert_eq!(told("guard"), file["guard"].to_string(), "{file}");
    }
    assert_eq!(places.as_array().unwrap().len(), 9);
    let refused = fs::OpenOptions::new().append(true).open(drive.path("songs/0")).unwrap_err();
    assert_eq!(refused.raw_os_error(), Some(Errno::ROFS.raw_os_error()));
    let taken = fs::File::create_new(drive.path("songs/0")).unwrap_err();
    assert_eq!(
        taken.raw_os_error(),
        Some(Errno::EXIST.raw_os_error()),
        "a name of the disk that is away is taken"
    );
    fs::write(drive.path("songs/new"), b"new").unwrap();
    assert_eq!(
        fs::read_dir(lab.disk(&lost)).unwrap().count(),
        0,
        "nothing is written where it would be mounted"
    );
    let told = lab.run(&["mount", "--status"]).expect(&[1]).stdout;
    assert!(told.contains(&lost), "{told}");
}

#[test]
fn what_parity_does_not_have_is_an_error_and_never_the_past() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let drive = Drive::mount(&lab, &[]);
    fs::write(drive.path("notes"), vec![1; 300_000]).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let lost = disk_of(&lab, "notes");
    fs::write(drive.path("notes"), vec![2; 300_000]).unwrap();
    lab.run(&["status", "--scan"]).expect(&[0, 1, 5]);
    drive.unmount();
    fs::rename(lab.disk(&lost), lab.root().join("aside")).unwrap();
    let drive = Drive::mount(&lab, &[]);
    let error = fs::read(drive.path("notes")).unwrap_err();
    assert_eq!(
        error.raw_os_error(),
        Some(Errno::IO.raw_os_error()),
        "its content of yesterday is not its content"
    );
}

/// What went from one disk to another is held where it was until a sync has passed it: from there it is read, also by parity.
#[test]
fn what_moved_before_its_new_disk_went_away_is_read_from_where_it_was() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    let bytes = Chance::new(9).bytes(700_000);
    fs::write(lab.disk("alder").join("owl.flac"), &bytes).unwrap();
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["move", "owl.flac", "--to", "beech", "--yes"]).expect(&[0]);
    fs::rename(lab.disk("beech"), lab.root().join("aside")).unwrap();
    let drive = Drive::mount(&lab, &[]);
    assert!(fs::read(drive.path("owl.flac")).unwrap() == bytes, "from where it is held");
    drive.unmount();
    fs::rename(lab.disk("alder"), lab.root().join("aside too")).unwrap();
    let fate = lab.run(&["fate", "--lose", "alder,beech", "--json"]).json();
    let comes_back = fate["totals"]["rebuilt"]["files"] == 1;
    let drive = Drive::mount(&lab, &[]);
    match fs::read(drive.path("owl.flac")) {
        Ok(read) => assert!(comes_back && read == bytes, "from parity"),
        Err(error) => assert!(!comes_back, "{error}"),
    }
}

/// Also of a folder whose past nobody wants: its disk's rebuild needs what shares rows with it.
#[test]
fn with_a_disk_away_everything_that_goes_is_held() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    lab.write_pool_file(&(lab.pool_text() + "\n[[volume.folder]]\npath = \"images\"\nhold = \"never\"\n"));
    for disk in ["alder", "beech"] {
        fs::create_dir(lab.disk(disk).join("images")).unwrap();
        fs::write(lab.disk(disk).join("images").join(disk), vec![9; 300_000]).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    fs::rename(lab.disk("alder"), lab.root().join("aside")).unwrap();
    let drive = Drive::mount(&lab, &[]);
    fs::remove_file(drive.path("images/beech")).unwrap();
    assert_eq!(fs::read(drive.path("images/alder")).unwrap(), vec![9; 300_000], "it still comes back");
}

#[test]
fn with_more_disks_away_than_parity_bears_nothing_is_changed() {
    if !may_mount() {
        return;
    }
    let lab = lab();
    for (disk, name) in [("alder", "a"), ("beech", "b"), ("cedar", "c")] {
        fs::write(lab.disk(disk).join(name), vec![7; 100_000]).unwrap();
    }
    lab.run(&["sync", "--yes"]).expect(&[0]);
    for disk in ["alder", "beech"] {
        fs::rename(lab.disk(disk), lab.root().join(format!("{disk}-aside"))).unwrap();
    }
    let drive = Drive::mount(&lab, &[]);
    assert_eq!(fs::read_dir(&drive.at).unwrap().count(), 3);
    assert_eq!(fs::read(drive.path("c")).unwrap().len(), 100_000);
    assert!(fs::read(drive.path("a")).is_err());
    let refused = fs::write(drive.path("new"), b"x").unwrap_err();
    assert_eq!(refused.raw_os_error(), Some(Errno::ROFS.raw_os_error()));
}

#[test]
fn a_file_that_outgrows_its_disk_goes_on_on_another_and_its_writer_does_not_notice() {
    if !may_mount() {
        return;
    }
    let disks = [("alder", 12), ("beech", 60), ("oak", 64)];
    let volume = "placement = \"in-order\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]";
    let lab = Lab::of(PROGRAM, &disks, volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let drive = Drive::mount(&lab, &[]);
    fs::write(drive.path("first"), vec![1; 4_000_000]).unwrap();
    let mut chance = Chance::new(9);
    let (mut file, mut expected) = (fs::File::create(drive.path("grows")).unwrap(), Vec::new());
    let reader = fs::File::open(drive.path("grows")).unwrap();
    let number = reader.metadata().unwrap().ino();
    for _ in 0..30 {
        let bytes = chance.bytes(500_000);
        file.write_all(&bytes).unwrap();
        expected.extend_from_slice(&bytes);
    }
    assert_eq!(reader.metadata().unwrap().ino(), number, "it is the same file to whoever has it open");
    assert_eq!(fs::metadata(drive.path("grows")).unwrap().ino(), number);
    assert!(fs::read(drive.path("grows")).unwrap() == expected);
    assert!(!lab.disk("alder").join("grows").exists() && lab.disk("beech").join("grows").exists());
    // What fits nowhere is refused, and leaves what was there.
    let mut large = fs::File::create(drive.path("large")).unwrap();
    let refused = (0..300).find_map(|_| large.write_all(&vec![3; 500_000]).err()).unwrap();
    assert_eq!(refused.raw_os_error(), Some(Errno::NOSPC.raw_os_error()));
    drop((file, reader, large));
    fs::remove_file(drive.path("large")).unwrap();
    assert!(fs::read(drive.path("grows")).unwrap() == expected);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    lab.run(&["verify"]).expect(&[0]);
}

/// Each with a descriptor of its own, while the file goes to another disk.
#[test]
fn two_writers_of_a_file_that_moves_lose_nothing() {
    if !may_mount() {
        return;
    }
    let volume = "placement = \"in-order\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]";
    for seed in 0..6 {
        let lab = Lab::of(PROGRAM, &[("alder", 8), ("beech", 60), ("oak", 64)], volume);
        lab.run(&["create", "--yes"]).expect(&[0]);
        let drive = Drive::mount(&lab, &[]);
        let path = drive.path("shared");
        fs::File::create(&path).unwrap();
        let block = 100_000;
        let written: Vec<Vec<u8>> = (0..2).map(|w| Chance::new(seed * 2 + w).bytes(60 * block)).collect();
        std::thread::scope(|scope| {
            for (writer, bytes) in written.iter().enumerate() {
                let path = &path;
                scope.spawn(move || {
                    for (number, part) in bytes.chunks(block).enumerate() {
                        // Now and then by a new descriptor, which may be opened in the middle of the move.
                        let file = fs::OpenOptions::new().write(true).open(path).unwrap();
                        let at = (number * 2 + writer) * block;
                        file.write_all_at(part, at as u64).unwrap();
                    }
                });
            }
        });
        assert!(lab.disk("beech").join("shared").exists(), "it has moved");
        let found = fs::read(&path).unwrap();
        for (number, part) in found.chunks(block).enumerate() {
            let expected = &written[number % 2][number / 2 * block..][..block];
            assert!(part == expected, "block {number} of life {seed}");
        }
    }
}

#[test]
fn a_file_in_pieces_is_read_and_removed_as_one_and_its_pieces_come_back() {
    if !may_mount() {
        return;
    }
    let volume = "kind = \"spanned\"\ndata = [\"alder\", \"beech\"]\nparity = [\"oak\"]";
    let lab = Lab::of(PROGRAM, &[("alder", 12), ("beech", 12), ("oak", 16)], volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let night = Chance::new(5).bytes(15_000_000);
    fs::write(lab.root().join("night"), &night).unwrap();
    lab.run(&["put", "night", ".", "--yes"]).expect(&[0]);
    lab.run(&["sync", "--yes"]).expect(&[0]);
    let drive = Drive::mount(&lab, &[]);
    assert!(fs::read(drive.path("night")).unwrap() == night);
    assert_eq!(fs::read_dir(&drive.at).unwrap().count(), 1);
    let refused = fs::OpenOptions::new().append(true).open(drive.path("night")).unwrap_err();
    assert_eq!(refused.raw_os_error(), Some(Errno::ROFS.raw_os_error()));
    drive.unmount();
    // One of its disks is away: that piece comes from parity.
    fs::rename(lab.disk("beech"), lab.root().join("aside")).unwrap();
    let drive = Drive::mount(&lab, &[]);
    assert!(fs::read(drive.path("night")).unwrap() == night);
    let kept = fs::remove_file(drive.path("night")).unwrap_err();
    assert_eq!(kept.raw_os_error(), Some(Errno::ROFS.raw_os_error()));
    drive.unmount();
    fs::rename(lab.root().join("aside"), lab.disk("beech")).unwrap();
    let drive = Drive::mount(&lab, &[]);
    fs::remove_file(drive.path("night")).unwrap();
    assert!(!drive.path("night").exists());
    lab.run(&["restore", "night", "--yes"]).expect(&[0]);
    assert!(fs::read(drive.path("night")).unwrap() == night);
}

#[test]
fn a_copy_of_a_mirrored_file_that_is_away_is_not_missed() {
    if !may_mount() {
        return;
    }
    let volume = "kind = \"mirrored\"\ndata = [\"alder\", \"beech\", \"cedar\"]\ncopies = 2";
    let lab = Lab::of(PROGRAM, &[("alder", 40), ("beech", 40), ("cedar", 40)], volume);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let drive = Drive::mount(&lab, &[]);
    for number in 0..6_u8 {
        fs::write(drive.path(&format!("f{number}")), vec![number; 200_000]).unwrap();
    }
    let copies =
        |name: &str| ["alder", "beech", "cedar"].iter().filter(|d| lab.disk(d).join(name).exists()).count();
    assert!((0..6).all(|n| copies(&format!("f{n}")) == 2), "every file lies on two disks at once");
    lab.run(&["sync", "--yes"]).expect(&[0]);
    drive.unmount();
    fs::rename(lab.disk("alder"), lab.root().join("aside")).unwrap();
    let drive = Drive::mount(&lab, &[]);
    for number in 0..6_u8 {
        assert_eq!(fs::read(drive.path(&format!("f{number}"))).unwrap(), vec![number; 200_000]);
    }
}
