//! Guards against what only real filesystems do: clones, unmounted folders, read-only mounts, disks that are full or
//! die. Needs root and loop mounts; where mounting is not allowed, it says so and the simulated disks stand in.
//!
//! Holds I5.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::thread;
use std::time::Duration;

use rstest::rstest;
use serde_json::Value;
use sieve_testkit::{Chance, Run};
use tempfile::TempDir;

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");

/// A few loop-mounted filesystems; unmounted when dropped, also after a failure.
struct Shelf {
    folder: TempDir,
    mounted: Vec<PathBuf>,
}

fn quietly(command: &mut Command) -> bool {
    command.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|s| s.success())
}

impl Shelf {
    /// Three data disks and a larger parity disk; nothing where mounting is not allowed.
    fn build(inodes: &str) -> Option<Self> {
        let ext4 = ["mkfs.ext4", "-q", "-N", inodes];
        Self::with(&[
            ("alder", "40M", &ext4),
            ("beech", "40M", &ext4),
            ("cedar", "40M", &ext4),
            ("oak", "48M", &ext4),
            ("new", "44M", &ext4),
        ])
    }

    /// The same of disks that do not match: three kinds of filesystems, five sizes.
    fn mixed() -> Option<Self> {
        Self::with(&[
            ("alder", "120M", &["mkfs.ext4", "-q"]),
            ("beech", "340M", &["mkfs.xfs", "-q"]),
            ("cedar", "160M", &["mkfs.btrfs", "-q"]),
            ("oak", "380M", &["mkfs.xfs", "-q"]),
            ("new", "400M", &["mkfs.btrfs", "-q"]),
            ("new-spruce", "420M", &["mkfs.ext4", "-q", "-m", "0"]),
        ])
    }

    /// Filesystems by name, size and how they are made; those that are called new are in no volume.
    fn with(disks: &[(&str, &str, &[&str])]) -> Option<Self> {
        let mut shelf = Self { folder: TempDir::new().unwrap(), mounted: Vec::new() };
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for (name, size, make) in disks {
            let (image, place) = (shelf.image(name), shelf.path(name));
            fs::create_dir(&place).unwrap();
            let made = quietly(Command::new("truncate").args(["-s", size]).arg(&image))
                && quietly(Command::new(make[0]).args(&make[1..]).arg(&image));
            if !made || !shelf.mount(name, name) {
                eprintln!(
                    "loop mounts are not allowed here: the simulated disks of the other tests stand in"
                );
                return None;
            }
            if !name.starts_with("new") {
                text += &format!("[[disk]]\nname = \"{name}\"\npath = \"{}\"\n", place.display());
            }
        }
        text += "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\n";
        fs::write(shelf.path("pool.toml"), text).unwrap();
        Some(shelf)
    }

    /// Disks that do not match, and an SSD before them, in a volume of another kind.
    fn of_kind(kind: &str) -> Option<Self> {
        let ext4 = ["mkfs.ext4", "-q", "-m", "0"];
        let shelf = Self::with(&[
            ("alder", "120M", &ext4),
            ("beech", "340M", &["mkfs.xfs", "-q"]),
            ("cedar", "160M", &["mkfs.btrfs", "-q"]),
            ("oak", "380M", &["mkfs.xfs", "-q"]),
            ("flint", "300M", &ext4),
            ("new", "400M", &["mkfs.btrfs", "-q"]),
        ])?;
        let pool = fs::read_to_string(shelf.path("pool.toml")).unwrap();
        let kind = format!("{kind}\ncache = [\"flint\"]\nsettle_after = \"0.00001 minutes\"");
        fs::write(shelf.path("pool.toml"), pool.replace("kind = \"unstriped\"", &kind)).unwrap();
        Some(shelf)
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn image(&self, name: &str) -> PathBuf {
        self.path(&format!("{name}.img"))
    }

    fn mount(&mut self, image: &str, place: &str) -> bool {
        let (image, place) = (self.image(image), self.path(place));
        let done = quietly(Command::new("mount").args(["-o", "loop"]).arg(image).arg(&place));
        if done {
            self.mounted.push(place);
        }
        done
    }

    /// Tests beside this one look at what is mounted on the machine: for a moment they hold what is not theirs.
    fn unmount(&mut self, place: &str) {
        let gone = self.path(place);
        let is_done = || quietly(Command::new("umount").arg(&gone));
        assert!(
            (0..100).any(|_| is_done() || {
                thread::sleep(Duration::from_millis(100));
                false
            }),
            "{place} is busy"
        );
        self.mounted.retain(|m| *m != gone);
    }

    fn remount(&self, place: &str, how: &str) {
        assert!(quietly(Command::new("mount").args(["-o", how]).arg(self.path(place))));
    }

    fn run(&self, arguments: &[&str]) -> Run {
        let mut command = Command::new("timeout");
        command.args(["60", PROGRAM]).args(arguments).env_clear().env("PATH", "/usr/bin:/bin");
        Run::of(&command.current_dir(self.folder.path()).stdin(Stdio::null()).output().unwrap())
    }

    fn fill(&self) {
        self.run(&["create", "--yes"]).expect(&[0]);
        let mut chance = Chance::new(9);
        for disk in ["alder", "beech", "cedar"] {
            for number in 0..3 {
                fs::write(self.path(disk).join(format!("{disk}-{number}.flac")), chance.bytes(2_000_000))
                    .unwrap();
            }
        }
        self.run(&["sync", "--yes"]).expect(&[0]);
    }

    fn refused(&self, arguments: &[&str], words: &str) {
        let run = self.run(arguments).expect(&[4]);
        assert!(run.stderr.contains(words), "{words}: {}", run.stderr);
    }
}

impl Drop for Shelf {
    fn drop(&mut self) {
        for place in &self.mounted {
            quietly(Command::new("umount").arg("-l").arg(place));
        }
    }
}

/// Somebody else writes until the disk is full, to the last block.
fn fill_up(file: &Path) {
    for step in ["bs=1M", "bs=4k"] {
        let to = format!("of={}", file.display());
        let ended =
            quietly(Command::new("dd").args(["if=/dev/zero", &to, step, "oflag=append", "conv=notrunc"]));
        assert!(!ended, "the disk is full");
    }
}

fn copy_all(from: &Path, to: &Path) {
    assert!(quietly(Command::new("cp").arg("-a").arg(from.join(".")).arg(to)));
}

#[test]
fn a_clone_an_unmounted_and_a_read_only_member_are_told_apart() {
    let Some(mut shelf) = Shelf::build("256") else { return };
    shelf.fill();
    let status = shelf.run(&["check"]).expect(&[0]);
    assert!(!status.stdout.contains("not a mount point"), "{}", status.stdout);

    copy_all(&shelf.path("alder"), &shelf.path("new"));
    shelf.unmount("alder");
    shelf.refused(&["sync", "--yes"], "alder is missing");
    shelf.unmount("new");
    assert!(shelf.mount("new", "alder"));
    shelf.refused(&["sync", "--yes"], "is a copy of disk alder");
    shelf.unmount("alder");
    assert!(shelf.mount("alder", "alder"));

    shelf.remount("beech", "remount,ro");
    fs::write(shelf.path("cedar").join("late"), b"late").unwrap();
    shelf.refused(&["sync", "--yes"], "beech");
    shelf.refused(&["rm", "beech-0.flac", "--yes"], "read-only");
    shelf.run(&["fate", "--lose", "alder"]).expect(&[0]);
    shelf.remount("beech", "remount,rw");
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    shelf.run(&["verify"]).expect(&[0]);
}

#[test]
fn a_disk_that_is_full_in_the_middle_of_a_put_loses_nothing() {
    let Some(shelf) = Shelf::build("40") else { return };
    shelf.fill();
    fs::create_dir(shelf.path("card")).unwrap();
    for number in 0..120 {
        fs::write(shelf.path("card").join(format!("{number}")), format!("clip {number}")).unwrap();
    }
    // There are bytes enough, and not inodes enough: the disk says so in the middle.
    let run = shelf.run(&["put", "card", ".", "--yes"]).expect(&[3]);
    assert!(run.stderr.contains("No space left on device"), "{}", run.stderr);
    let listed = shelf.run(&["ls", "card", "--json"]).expect(&[0]);
    let entries: Value = serde_json::from_str(&listed.stdout).unwrap();
    let files = entries["entries"].as_array().unwrap().iter().filter(|e| e["kind"] == "file");
    for file in files {
        let (disk, path) = (file["disks"][0].as_str().unwrap(), file["path"].as_str().unwrap());
        let number = path.strip_prefix("card/").unwrap();
        assert_eq!(
            fs::read_to_string(shelf.path(disk).join(path)).unwrap(),
            format!("clip {number}"),
            "no half file"
        );
    }
    assert_eq!(fs::read_dir(shelf.path("card")).unwrap().count(), 120, "the sources are untouched");
    shelf.run(&["verify"]).expect(&[0]);
}

#[test]
fn bit_rot_on_the_medium_is_found_and_does_not_reach_parity() {
    let Some(mut shelf) = Shelf::build("256") else { return };
    shelf.fill();
    let original = fs::read(shelf.path("alder").join("alder-1.flac")).unwrap();
    shelf.unmount("alder");
    let mut image = fs::read(shelf.image("alder")).unwrap();
    let needle = &original[500_000 / 4096 * 4096..][..64];
    let at = image.windows(64).step_by(1024).position(|w| w == needle).unwrap() * 1024;
    image[at + 7] ^= 1;
    fs::write(shelf.image("alder"), image).unwrap();
    assert!(shelf.mount("alder", "alder"));
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    let run = shelf.run(&["verify", "--json"]).expect(&[1]);
    let report: Value = serde_json::from_str(&run.stdout).unwrap();
    assert_eq!(report["damaged"][0]["path"], "alder-1.flac");
    let run = shelf.run(&["get", "alder-1.flac", "."]).expect(&[1]);
    assert!(run.stdout.contains("damaged on its disk"), "{}", run.stdout);
    assert_eq!(fs::read(shelf.path("alder-1.flac")).unwrap(), original);
    fs::remove_file(shelf.path("alder").join("alder-0.flac")).unwrap();
    shelf.run(&["sync", "--yes"]).expect(&[1]);
    shelf.unmount("alder");
    shelf.run(&["rebuild", "alder", "--onto", "new", "--yes"]).expect(&[0]);
    assert_eq!(fs::read(shelf.path("new").join("alder-1.flac")).unwrap(), original);
}

#[test]
fn a_disk_that_dies_under_a_sync_costs_nothing_that_was_guarded() {
    let Some(mut shelf) = Shelf::build("256") else { return };
    shelf.fill();
    let before = fs::read(shelf.path("beech").join("beech-2.flac")).unwrap();
    fs::write(shelf.path("cedar").join("late"), Chance::new(2).bytes(3_000_000)).unwrap();
    // The filesystem shuts down: from now on its reads and writes fail.
    let die = "use Fcntl; sysopen(D, $ARGV[0], O_RDONLY|O_DIRECTORY) or die; $how = pack('L', 2); ioctl(D, 0x8004587d, $how) or die";
    assert!(quietly(Command::new("perl").args(["-e", die]).arg(shelf.path("beech"))));
    let run = shelf.run(&["sync", "--yes"]);
    assert!([1, 3, 4].contains(&run.code), "exit {}: {}{}", run.code, run.stdout, run.stderr);
    assert!(!run.stderr.contains("panicked"), "{}", run.stderr);
    shelf.unmount("beech");
    shelf.run(&["rebuild", "beech", "--onto", "new", "--yes"]).expect(&[0, 1]);
    assert_eq!(fs::read(shelf.path("new").join("beech-2.flac")).unwrap(), before);
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    shelf.run(&["verify"]).expect(&[0]);
}

/// Everything below a folder but what is ours: path and content.
fn everything(root: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root.to_path_buf()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap();
            if path.is_dir() && name != ".zinc-sieve" && name != "lost+found" {
                folders.push(path);
            } else if path.is_file() {
                found.insert(path.strip_prefix(root).unwrap().to_path_buf(), fs::read(&path).unwrap());
            }
        }
    }
    found
}

#[test]
fn the_main_story_on_disks_with_three_kinds_of_filesystems() {
    let Some(mut shelf) = Shelf::mixed() else { return };
    let mut chance = Chance::new(31);
    fs::create_dir_all(shelf.path("card/dawn")).unwrap();
    for number in 0..40 {
        let length = 1 + chance.below(4_000_000);
        fs::write(shelf.path("card/dawn").join(format!("take-{number}.flac")), chance.bytes(length)).unwrap();
    }
    let card = everything(&shelf.path("card"));
    shelf.run(&["create", "--yes"]).expect(&[0]);
    shelf.run(&["put", "card/dawn", ".", "--yes"]).expect(&[0]);
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    shelf.run(&["status"]).expect(&[0]);

    // One more parity disk, with another filesystem, and any two may die.
    let spruce = shelf.path("new-spruce").display().to_string();
    shelf.run(&["grow", "spruce", "--as", "parity", "--at", &spruce, "--yes"]).expect(&[0]);
    shelf.run(&["drill", "--lose", "beech,cedar"]).expect(&[0]);

    // A file that fits on no disk is refused before anything is copied; what fits on one goes there.
    fs::create_dir(shelf.path("big")).unwrap();
    fs::write(shelf.path("big/all-night.wav"), chance.bytes(310_000_000)).unwrap();
    let full = shelf.run(&["put", "big", ".", "--yes"]);
    assert!(full.code != 0 && !full.stderr.contains("panicked"), "{}{}", full.stdout, full.stderr);
    fs::write(shelf.path("big/all-night.wav"), chance.bytes(185_000_000)).unwrap();
    shelf.run(&["put", "big", ".", "--yes"]).expect(&[0]);
    shelf.run(&["sync", "--yes"]).expect(&[0]);

    // An unmounted member and one that takes no writes.
    shelf.unmount("cedar");
    shelf.refused(&["sync", "--yes"], "cedar is missing");
    assert!(shelf.mount("cedar", "cedar"));
    shelf.remount("beech", "remount,ro");
    shelf.refused(&["rm", "dawn/take-1.flac", "--yes"], "read-only");
    shelf.remount("beech", "remount,rw");

    // The disk with xfs dies, and comes back on one with btrfs.
    let before = everything(&shelf.path("beech"));
    shelf.unmount("beech");
    let run = shelf.run(&["rebuild", "beech", "--onto", "new", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(run["predicted"], run["obtained"]);
    assert_eq!(everything(&shelf.path("new")), before);
    shelf.run(&["verify"]).expect(&[0]);

    // All of it is carried to another desk, under other paths, and ends there.
    let desk = shelf.path("desk");
    fs::create_dir(&desk).unwrap();
    for (image, place) in
        [("alder", "m1"), ("new", "m2"), ("cedar", "m3"), ("oak", "m4"), ("new-spruce", "m5")]
    {
        shelf.unmount(image);
        fs::create_dir(shelf.path(place)).unwrap();
        assert!(shelf.mount(image, place));
    }
    let pool = desk.join("pool.toml").display().to_string();
    shelf.run(&["--pool", &pool, "adopt", "m1", "m2", "m3", "m4", "m5", "--yes"]).expect(&[0]);
    shelf.run(&["--pool", &pool, "verify"]).expect(&[0]);
    shelf.run(&["--pool", &pool, "dissolve", "recordings", "--yes"]).expect(&[0]);
    let mut left = BTreeMap::new();
    for place in ["m1", "m2", "m3", "m4", "m5"] {
        assert!(!shelf.path(place).join(".zinc-sieve").exists(), "{place}");
        left.extend(everything(&shelf.path(place)));
    }
    for (path, bytes) in card {
        assert_eq!(left.get(&path), Some(&bytes), "{}", path.display());
    }
}

/// A real disk that is full: what was being copied leaves nothing behind, and there is room again.
#[test]
fn a_parity_disk_that_really_is_full_stops_the_sync_and_nothing_is_lost() {
    let Some(shelf) = Shelf::mixed() else { return };
    shelf.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(32);
    fs::write(shelf.path("alder").join("wren.flac"), chance.bytes(30_000_000)).unwrap();
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    // Somebody else fills the parity disk.
    let filler = shelf.path("oak").join("filler");
    fill_up(&filler);
    fs::write(shelf.path("beech").join("owl.flac"), chance.bytes(60_000_000)).unwrap();
    let run = shelf.run(&["sync", "--yes"]);
    assert!(
        [1, 3, 4].contains(&run.code) && !run.stderr.contains("panicked"),
        "{}{}",
        run.stdout,
        run.stderr
    );
    shelf.run(&["drill", "--lose", "alder"]).expect(&[0]);
    fs::remove_file(filler).unwrap();
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    shelf.run(&["verify"]).expect(&[0]);
    shelf.run(&["drill", "--lose", "beech"]).expect(&[0]);
}

/// The cache fills, overflows and settles; a member is unmounted and one takes no writes; a disk dies; the volume ends.
#[rstest]
#[case::spanned("kind = \"spanned\"")]
#[case::mirrored("kind = \"mirrored\"")]
#[case::tiered("kind = \"tiered\"\nfast = [\"alder\"]")]
fn other_kinds_and_a_cache_on_disks_with_three_kinds_of_filesystems(#[case] kind: &str) {
    let Some(mut shelf) = Shelf::of_kind(kind) else { return };
    let mut chance = Chance::new(33);
    fs::create_dir_all(shelf.path("card/dawn")).unwrap();
    for number in 0..20 {
        let length = 1 + chance.below(3_000_000);
        fs::write(shelf.path("card/dawn").join(format!("take-{number}.flac")), chance.bytes(length)).unwrap();
    }
    // Of a span, larger than what the first disk has room for.
    let length = if kind.contains("spanned") { 130_000_000 } else { 60_000_000 };
    fs::write(shelf.path("card/dawn/all-night.wav"), chance.bytes(length)).unwrap();
    let card = everything(&shelf.path("card"));
    shelf.run(&["create", "--yes"]).expect(&[0]);
    shelf.run(&["put", "card/dawn", ".", "--yes"]).expect(&[0]);
    assert!(shelf.path("flint/dawn/all-night.wav").exists(), "it lands on the cache");

    // A member that takes no writes, and one that is not mounted: nothing moves to where it should not.
    shelf.remount("flint", "remount,ro");
    shelf.refused(&["settle", "--yes"], "flint");
    shelf.remount("flint", "remount,rw");
    shelf.unmount("flint");
    shelf.refused(&["settle", "--yes"], "flint is missing");
    assert!(shelf.mount("flint", "flint"));
    shelf.run(&["settle", "--then-sync", "--yes"]).expect(&[0]);
    assert!(!shelf.path("flint/dawn").exists() || everything(&shelf.path("flint")).is_empty());
    shelf.run(&["drill", "--lose", "beech"]).expect(&[0]);
    let got = |shelf: &Shelf| {
        fs::create_dir(shelf.path("out")).unwrap();
        shelf.run(&["get", "dawn", "out"]).expect(&[0]);
        assert!(everything(&shelf.path("out")) == card, "what comes out is what went in");
        fs::remove_dir_all(shelf.path("out")).unwrap();
    };
    got(&shelf);

    // The cache is really full: what comes goes to the disks by itself.
    let filler = shelf.path("flint/filler.bin");
    fill_up(&filler);
    fs::write(shelf.path("card/late.flac"), chance.bytes(9_000_000)).unwrap();
    shelf.run(&["put", "card/late.flac", "evening", "--yes"]).expect(&[0]);
    assert!(!shelf.path("flint/evening").exists());
    fs::remove_file(filler).unwrap();

    // The disk with xfs dies, is read all the same, and comes back on one with btrfs.
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    shelf.unmount("beech");
    got(&shelf);
    let run = shelf.run(&["rebuild", "beech", "--onto", "new", "--yes", "--json"]).expect(&[0]).json();
    assert_eq!(run["predicted"], run["obtained"]);
    shelf.run(&["verify"]).expect(&[0]);
    got(&shelf);
    shelf.run(&["dissolve", "recordings", "--yes"]).expect(&[0]);
    let mut left = BTreeMap::new();
    for disk in ["alder", "new", "cedar", "oak", "flint"] {
        assert!(!shelf.path(disk).join(".zinc-sieve").exists(), "{disk}");
        left.extend(everything(&shelf.path(disk)));
    }
    for (path, bytes) in card {
        assert!(left.get(&path) == Some(&bytes), "{}", path.display());
    }
}

/// What settles meets a disk that somebody else filled: the file stays where it was, whole.
#[test]
fn a_disk_that_fills_up_under_a_settle_loses_nothing() {
    let Some(shelf) = Shelf::of_kind("kind = \"unstriped\"\nplacement = \"in-order\"") else { return };
    shelf.run(&["create", "--yes"]).expect(&[0]);
    fs::create_dir(shelf.path("card")).unwrap();
    let bytes = Chance::new(34).bytes(70_000_000);
    fs::write(shelf.path("card/owl.flac"), &bytes).unwrap();
    shelf.run(&["put", "card/owl.flac", ".", "--yes"]).expect(&[0]);
    let plan = shelf.run(&["settle", "--dry-run", "--json"]).expect(&[0]).json();
    assert_eq!(plan["files"][0]["to"][0], "alder", "{plan}");
    // The disk fills once the file is on its way: the pace leaves the time for it.
    let mut settling = Command::new(PROGRAM)
        .args(["settle", "--limit", "20MB/s", "--yes"])
        .current_dir(shelf.folder.path())
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let has_begun = || {
        let entries = |folder: PathBuf| fs::read_dir(folder).into_iter().flatten().flatten();
        let files = entries(shelf.path("alder/.zinc-sieve/tmp")).flat_map(|folder| entries(folder.path()));
        files.into_iter().any(|file| file.metadata().is_ok_and(|metadata| metadata.len() > 1_000_000))
    };
    while !has_begun() {
        assert!(settling.try_wait().unwrap().is_none(), "it ended before the disk was full");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let filler = shelf.path("alder/filler.bin");
    fill_up(&filler);
    let ended = settling.wait().unwrap();
    assert_eq!(ended.code(), Some(3), "the disk says that it is full");
    assert!(fs::read(shelf.path("flint/owl.flac")).unwrap() == bytes, "it is where it was");
    assert!(!shelf.path("alder/owl.flac").exists(), "no half file has its name");
    fs::remove_file(filler).unwrap();
    shelf.run(&["settle", "--then-sync", "--yes"]).expect(&[0]);
    shelf.run(&["verify"]).expect(&[0]);
    assert!(fs::read(shelf.path("alder/owl.flac")).unwrap() == bytes);
}

/// Somebody copies files to a disk until it is full: a sync guards them all the same, and says what it could not do.
#[test]
fn a_data_disk_without_room_for_a_replica_is_guarded_all_the_same() {
    let Some(shelf) = Shelf::mixed() else { return };
    shelf.run(&["create", "--yes"]).expect(&[0]);
    fill_up(&shelf.path("alder/meadow.wav"));
    for number in 0..2 {
        fs::write(shelf.path("beech").join(format!("late-{number}.flac")), b"one more to sync").unwrap();
        let report = shelf.run(&["sync", "--yes", "--json"]).expect(&[1]).json();
        assert_eq!(report["no_replica"], serde_json::json!(["alder"]), "{report}");
        assert!(!shelf.path("alder/.zinc-sieve/replica.new").exists());
    }
    let fate = shelf.run(&["fate", "--lose", "alder", "--json"]).expect(&[0]).json();
    assert_eq!(fate["totals"]["rebuilt"]["files"], 1, "{fate}");
    shelf.run(&["drill", "--lose", "alder"]).expect(&[0]);
    shelf.run(&["put", "pool.toml", "notes", "--yes"]).expect(&[0]);
    assert!(!shelf.path("alder/notes").exists(), "what is put goes to a disk with room for it");
    fs::remove_file(shelf.path("alder/meadow.wav")).unwrap();
    shelf.run(&["sync", "--yes", "--accept", "alder"]).expect(&[0]);
}

/// A lease of the kernel tells who writes on every filesystem that people use; by descriptor and by mapping.
#[rstest]
fn writers_by_descriptor_and_by_mapping_lose_nothing_on_real_filesystems(
    #[values(&["mkfs.ext4", "-q"], &["mkfs.xfs", "-q"], &["mkfs.btrfs", "-q"])] make: &[&str],
) {
    let ext4 = ["mkfs.ext4", "-q", "-m", "0"];
    let disks = [("alder", "120M", &ext4[..]), ("oak", "400M", &ext4[..]), ("flint", "340M", make)];
    let Some(shelf) = Shelf::with(&disks) else { return };
    let pool = fs::read_to_string(shelf.path("pool.toml")).unwrap();
    let pool = pool.split("[[volume]]").next().unwrap().to_string();
    let volume = "[[volume]]\nname = \"recordings\"\ndata = [\"alder\"]\nparity = [\"oak\"]\ncache = [\"flint\"]\nsettle_after = \"0.00001 minutes\"\n";
    fs::write(shelf.path("pool.toml"), pool + volume).unwrap();
    shelf.run(&["create", "--yes"]).expect(&[0]);
    let place = |name: &str| shelf.path("flint").join(name);
    for name in ["open.flac", "mapped.flac", "still.flac"] {
        fs::write(place(name), Chance::new(5).bytes(100_000)).unwrap();
    }
    let open = |name: &str| fs::OpenOptions::new().read(true).write(true).open(place(name)).unwrap();
    let writer = open("open.flac");
    let mut mapping = sieve_testkit::Mapping::of(&open("mapped.flac")).unwrap();
    let report: Value =
        serde_json::from_str(&shelf.run(&["settle", "--yes", "--json"]).expect(&[0]).stdout).unwrap();
    let mut left: Vec<&str> = report["settle"]["left_alone"]
        .as_array()
        .unwrap()
        .iter()
        .map(|l| l["path"].as_str().unwrap())
        .collect();
    left.sort_unstable();
    assert_eq!(left, ["mapped.flac", "open.flac"], "{report}");
    assert!(shelf.path("alder").join("still.flac").exists());
    std::os::unix::fs::FileExt::write_all_at(&writer, b"by descriptor", 10).unwrap();
    mapping.store(20, b"by mapping");
    drop((writer, mapping));
    shelf.run(&["settle", "--yes"]).expect(&[0]);
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    assert_eq!(&fs::read(shelf.path("alder").join("open.flac")).unwrap()[10..23], b"by descriptor");
    assert_eq!(&fs::read(shelf.path("alder").join("mapped.flac")).unwrap()[20..30], b"by mapping");
    shelf.run(&["status"]).expect(&[0]);
}

/// A filesystem without hard links gives its files other inodes at each mount: it is refused before anything is begun.
#[test]
fn a_filesystem_that_cannot_do_what_a_member_has_to_is_refused() {
    let ext4 = ["mkfs.ext4", "-q"];
    let disks: [(&str, &str, &[&str]); 4] = [
        ("alder", "40M", &ext4),
        ("beech", "40M", &["mkfs.vfat"]),
        ("cedar", "40M", &ext4),
        ("oak", "48M", &ext4),
    ];
    let Some(shelf) = Shelf::with(&disks) else { return };
    let run = shelf.run(&["create", "--yes"]).expect(&[4]);
    assert!(run.stderr.contains("no hard links"), "{}", run.stderr);
    for disk in ["alder", "beech", "cedar", "oak"] {
        assert!(!shelf.path(disk).join(".zinc-sieve").exists(), "{disk}: nothing of ours stays");
    }
}

/// The bytes that the files below a folder take on their disk.
fn written(folder: &Path) -> u64 {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let bytes = |entry: fs::DirEntry| match entry.metadata() {
        Ok(metadata) if metadata.is_dir() => written(&entry.path()),
        Ok(metadata) => metadata.blocks() * 512,
        Err(_) => 0,
    };
    entries.map(bytes).sum()
}

/// A disk that is filled to its end fits onto its equal, also where an earlier try has written most of it already.
#[test]
fn a_full_disk_is_rebuilt_onto_its_equal_also_at_the_second_try() {
    let ext4 = ["mkfs.ext4", "-q", "-m", "0"];
    let disks = [("alder", "40M"), ("beech", "40M"), ("cedar", "40M"), ("oak", "48M"), ("new", "40M")];
    let Some(shelf) = Shelf::with(&disks.map(|(name, size)| (name, size, &ext4[..]))) else { return };
    let pool = fs::read_to_string(shelf.path("pool.toml")).unwrap();
    fs::write(shelf.path("pool.toml"), pool.replace("\"unstriped\"", "\"spanned\"")).unwrap();
    shelf.run(&["create", "--yes"]).expect(&[0]);
    let mut chance = Chance::new(61);
    for number in 0..120 {
        let length = 400_000 + chance.below(90_000);
        let bytes = chance.bytes(length);
        fs::create_dir_all(shelf.path("card")).unwrap();
        fs::write(shelf.path("card").join(format!("{number:03}.flac")), bytes).unwrap();
    }
    shelf.run(&["put", "card", ".", "--yes"]).expect(&[0]);
    let on = |disk: &str| fs::read_dir(shelf.path(disk).join("card")).map_or(0, Iterator::count);
    assert!(on("alder") > 60 && on("beech") > 0, "the first is full: {} {}", on("alder"), on("beech"));
    shelf.run(&["sync", "--yes"]).expect(&[0]);
    let before = everything(&shelf.path("alder"));
    let mut shelf = shelf;
    shelf.unmount("alder");
    let new = shelf.path("new").display().to_string();
    let arguments = ["rebuild", "alder", "--onto", &new, "--yes"];
    // The first try ends when most of it is there.
    let mut first = Command::new(PROGRAM)
        .args(arguments)
        .args(["--limit", "15MB/s"])
        .current_dir(shelf.folder.path())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    while written(&shelf.path("new")) < 18_000_000 && first.try_wait().unwrap().is_none() {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let _ = first.kill();
    assert!(!first.wait().unwrap().success(), "it was killed before its end");
    shelf.run(&arguments).expect(&[0]);
    let after = everything(&shelf.path("new"));
    assert!(before == after, "{} {}", before.len(), after.len());
    shelf.run(&["verify"]).expect(&[0]);
}

/// exFAT, by a driver outside the kernel: it has no hard links, inodes that change, and no id.
#[test]
fn a_filesystem_that_nothing_is_known_by_is_refused_before_anything_is_made() {
    let folder = TempDir::new().unwrap();
    let (image, place, oak) =
        (folder.path().join("alder.img"), folder.path().join("alder"), folder.path().join("oak"));
    fs::create_dir(&place).unwrap();
    fs::create_dir(&oak).unwrap();
    let made = quietly(Command::new("truncate").args(["-s", "80M"]).arg(&image))
        && quietly(Command::new("mkfs.exfat").arg(&image));
    let device = Command::new("losetup").args(["--find", "--show"]).arg(&image).output();
    let device = device.ok().filter(|output| made && output.status.success());
    let Some(device) = device.map(|output| String::from_utf8(output.stdout).unwrap().trim().to_string())
    else {
        eprintln!("there is no exFAT here");
        return;
    };
    let mounted = quietly(Command::new("mount.exfat-fuse").arg(&device).arg(&place));
    let text = format!(
        "[pool]\nname = \"fernhollow\"\n[[disk]]\nname = \"alder\"\npath = \"{}\"\n\
         [[disk]]\nname = \"oak\"\npath = \"{}\"\nsimulated = true\n\
         [[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\"]\nparity = [\"oak\"]\n",
        place.display(),
        oak.display()
    );
    fs::write(folder.path().join("pool.toml"), text).unwrap();
    let run = |arguments: &[&str]| {
        Run::of(&Command::new(PROGRAM).args(arguments).current_dir(folder.path()).output().unwrap())
    };
    let (check, create) = (run(&["check"]), run(&["create", "--yes"]));
    let left = [&place, &oak].map(|at| fs::read_dir(at).unwrap().count());
    if mounted {
        quietly(Command::new("umount").arg(&place));
    }
    quietly(Command::new("losetup").arg("--detach").arg(&device));
    if !mounted {
        eprintln!("exFAT cannot be mounted here");
        return;
    }
    assert!(check.stdout.contains("has no id by which it could be recognised"), "{}", check.stdout);
    assert_eq!((create.code, check.code), (4, 1), "{}{}", create.stderr, check.stdout);
    assert!(create.stderr.contains("use a filesystem with a uuid"), "{}", create.stderr);
    assert_eq!(left, [0, 0], "nothing was made on either disk");
}
