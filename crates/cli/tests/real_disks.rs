//! Guards against what only real filesystems do: clones, unmounted folders, read-only mounts, disks that are full or
//! die. Needs root and loop mounts; where mounting is not allowed, it says so and the simulated disks stand in.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

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
        let mut shelf = Self { folder: TempDir::new().unwrap(), mounted: Vec::new() };
        let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
        for (name, size) in
            [("alder", "40M"), ("beech", "40M"), ("cedar", "40M"), ("oak", "48M"), ("new", "44M")]
        {
            let (image, place) = (shelf.image(name), shelf.path(name));
            fs::create_dir(&place).unwrap();
            let made = quietly(Command::new("truncate").args(["-s", size]).arg(&image))
                && quietly(Command::new("mkfs.ext4").args(["-q", "-N", inodes]).arg(&image));
            if !made || !shelf.mount(name, name) {
                eprintln!(
                    "loop mounts are not allowed here: the simulated disks of the other tests stand in"
                );
                return None;
            }
            if name != "new" {
                text += &format!("[[disk]]\nname = \"{name}\"\npath = \"{}\"\n", place.display());
            }
        }
        text += "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]\n";
        fs::write(shelf.path("pool.toml"), text).unwrap();
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

    fn unmount(&mut self, place: &str) {
        assert!(quietly(Command::new("umount").arg(self.path(place))));
        let gone = self.path(place);
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
    shelf.refused(&["sync", "--yes"], "alder is not mounted");
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
    let files = entries.as_array().unwrap().iter().filter(|e| e["kind"] == "file");
    for file in files {
        let (disk, path) = (file["disk"].as_str().unwrap(), file["path"].as_str().unwrap());
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
    let run = shelf.run(&["get", "alder-1.flac", "."]).expect(&[3]);
    assert!(run.stderr.contains("damaged"), "{}", run.stderr);
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
