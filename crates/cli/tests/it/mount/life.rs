//! Random lives of a mounted volume: thousands of operations through the kernel, held against a model in memory, with syncs
//! at random moments; then each disk is lost in turn. What `fate` predicts is what `drill` proves, and what can be read through
//! the mount with the disk away. MOUNT_LIVES=FROM..TO runs others.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::{Seek, SeekFrom, Write};

use rstest::rstest;
use sieve_testkit::{Chance, Lab};

use super::{Drive, PROGRAM, may_mount};

const OPERATIONS: usize = 500;

/// What should be there.
#[derive(Default)]
struct Model {
    files: BTreeMap<String, Vec<u8>>,
    folders: BTreeSet<String>,
}

impl Model {
    fn is_free(&self, path: &str) -> bool {
        !self.files.contains_key(path) && !self.folders.contains(path)
    }

    fn moved(&mut self, from: &str, to: &str) {
        let is_in = |path: &String| *path == from || path.starts_with(&format!("{from}/"));
        let rename = |path: &String| format!("{to}{}", &path[from.len()..]);
        let folders = std::mem::take(&mut self.folders);
        self.folders = folders.iter().map(|p| if is_in(p) { rename(p) } else { p.clone() }).collect();
        let files = std::mem::take(&mut self.files);
        self.files = files.into_iter().map(|(p, b)| (if is_in(&p) { rename(&p) } else { p }, b)).collect();
    }

    fn is_empty(&self, folder: &str) -> bool {
        let inside = format!("{folder}/");
        !self.files.keys().chain(&self.folders).any(|path| path.starts_with(&inside))
    }
}

struct Life<'l> {
    chance: Chance,
    drive: Drive<'l>,
    lab: &'l Lab,
    model: Model,
    members: Vec<&'l str>,
}

impl Life<'_> {
    fn name(&mut self) -> String {
        let folders: Vec<String> =
            self.model.folders.iter().filter(|f| f.matches('/').count() < 4).cloned().collect();
        let name = format!("n{}", self.chance.below(10));
        if folders.is_empty() || self.chance.once_in(3) {
            return name;
        }
        format!("{}/{name}", self.chance.pick(&folders))
    }

    fn file(&mut self) -> Option<String> {
        let files: Vec<String> = self.model.files.keys().cloned().collect();
        (!files.is_empty()).then(|| self.chance.pick(&files).clone())
    }

    fn folder(&mut self) -> Option<String> {
        let folders: Vec<String> = self.model.folders.iter().cloned().collect();
        (!folders.is_empty()).then(|| self.chance.pick(&folders).clone())
    }

    fn step(&mut self) {
        match self.chance.below(24) {
            0..6 => self.write_whole(),
            6..10 => self.write_part(),
            10..13 => self.remove_file(),
            13..16 => self.rename_file(),
            16..19 => self.make_folder(),
            19 => self.rename_folder(),
            20 => self.remove_folder(),
            21 => self.look_into_folder(),
            22 => self.set_length(),
            _ => self.read_back(),
        }
    }

    fn write_whole(&mut self) {
        let path = self.name();
        if self.model.folders.contains(&path) {
            return;
        }
        let length = *self.chance.pick(&[0, 10, 4096, 5000, 70_000, 300_000]);
        let bytes = self.chance.bytes(length);
        fs::File::create(self.drive.path(&path)).unwrap().write_all(&bytes).unwrap();
        self.model.files.insert(path, bytes);
    }

    fn write_part(&mut self) {
        let Some(path) = self.file() else { return };
        let known = &self.model.files[&path];
        let (at, appends) = (self.chance.below(known.len() + 1), self.chance.once_in(2));
        let bytes = self.chance.bytes(200);
        let mut file =
            fs::OpenOptions::new().append(appends).write(true).open(self.drive.path(&path)).unwrap();
        file.seek(SeekFrom::Start(at as u64)).unwrap();
        file.write_all(&bytes).unwrap();
        let known = self.model.files.get_mut(&path).unwrap();
        let at = if appends { known.len() } else { at };
        known.resize(known.len().max(at + bytes.len()), 0);
        known[at..at + bytes.len()].copy_from_slice(&bytes);
    }

    fn set_length(&mut self) {
        let Some(path) = self.file() else { return };
        let length = self.chance.below(self.model.files[&path].len() + 5000);
        let file = fs::OpenOptions::new().write(true).open(self.drive.path(&path)).unwrap();
        file.set_len(length as u64).unwrap();
        self.model.files.get_mut(&path).unwrap().resize(length, 0);
    }

    fn remove_file(&mut self) {
        let Some(path) = self.file() else { return };
        fs::remove_file(self.drive.path(&path)).unwrap();
        self.model.files.remove(&path);
    }

    fn rename_file(&mut self) {
        let (Some(from), to) = (self.file(), self.name()) else { return };
        if self.model.folders.contains(&to) {
            return;
        }
        fs::rename(self.drive.path(&from), self.drive.path(&to)).unwrap();
        let bytes = self.model.files.remove(&from).unwrap();
        self.model.files.insert(to, bytes);
    }

    fn make_folder(&mut self) {
        let path = self.name();
        if self.model.is_free(&path) {
            fs::create_dir(self.drive.path(&path)).unwrap();
            self.model.folders.insert(path);
        }
    }

    fn rename_folder(&mut self) {
        let (Some(from), to) = (self.folder(), self.name()) else { return };
        let is_inside = to == from || to.starts_with(&format!("{from}/"));
        if !is_inside && self.model.is_free(&to) {
            fs::rename(self.drive.path(&from), self.drive.path(&to)).unwrap();
            self.model.moved(&from, &to);
        }
    }

    fn remove_folder(&mut self) {
        let Some(path) = self.folder() else { return };
        let removed = fs::remove_dir(self.drive.path(&path));
        assert_eq!(removed.is_ok(), self.model.is_empty(&path), "{path}: {removed:?}");
        if removed.is_ok() {
            self.model.folders.remove(&path);
        }
    }

    fn look_into_folder(&mut self) {
        let Some(folder) = self.folder() else { return };
        let inside = format!("{folder}/");
        let direct = |path: &&String| path.starts_with(&inside) && !path[inside.len()..].contains('/');
        let expected: BTreeSet<String> = self
            .model
            .files
            .keys()
            .chain(&self.model.folders)
            .filter(direct)
            .map(|p| p[inside.len()..].into())
            .collect();
        let listed = fs::read_dir(self.drive.path(&folder)).unwrap();
        let found: BTreeSet<String> =
            listed.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
        assert_eq!(found, expected, "{folder}");
    }

    fn read_back(&mut self) {
        let Some(path) = self.file() else { return };
        assert!(fs::read(self.drive.path(&path)).unwrap() == self.model.files[&path], "{path}");
    }

    fn sync(&self) {
        let all = self.members.join(",");
        self.lab.run(&["sync", "--yes", "--accept", &all]).expect(&[0]);
    }

    fn all_is_as_in_the_model(&self) {
        for (path, bytes) in &self.model.files {
            assert!(fs::read(self.drive.path(path)).unwrap() == *bytes, "{path}");
        }
    }
}

/// Loses a disk for real, and reads everything through the mount: as many files as were predicted, and each as it was.
fn lose(lab: &Lab, model: &Model, disk: &str) {
    let predicted = lab.run(&["fate", "--lose", disk, "--scan", "--json"]).expect(&[0, 1]).json();
    let files = |fate: &str| predicted["totals"][fate]["files"].as_u64().unwrap();
    let (survive, lost) =
        (files("untouched") + files("rebuilt"), files("older") + files("torn") + files("gone"));
    assert_eq!(survive + lost, model.files.len() as u64, "{predicted}");
    let drilled = lab.run(&["drill", "--lose", disk, "--json"]).expect(&[0, 1]).json();
    // A disk of which parity has nothing proves nothing.
    assert_eq!(
        (&drilled["predicted"], &drilled["surprises"]),
        (&drilled["obtained"], &serde_json::json!([]))
    );
    assert_eq!(drilled["parity_cells_wrong"], 0, "{drilled}");
    let (place, aside) = (lab.disk(disk), lab.root().join("aside"));
    fs::rename(&place, &aside).unwrap();
    fs::create_dir(&place).unwrap();
    {
        let drive = Drive::mount(lab, &[]);
        let mut read = 0;
        for (path, bytes) in &model.files {
            match fs::read(drive.path(path)) {
                Ok(found) => {
                    assert!(found == *bytes, "{path} is not its present content");
                    read += 1;
                }
                Err(error) => {
                    assert_eq!(
                        error.raw_os_error(),
                        Some(rustix::io::Errno::IO.raw_os_error()),
                        "{path}: {error}"
                    );
                }
            }
        }
        assert_eq!(read, survive, "with {disk} away: {predicted}");
        drive.unmount();
    }
    assert_eq!(fs::read_dir(&place).unwrap().count(), 0, "nothing is written below an empty mount point");
    fs::remove_dir(&place).unwrap();
    fs::rename(&aside, &place).unwrap();
}

const UNSTRIPED: &str = "data = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]";
const SPANNED: &str = "kind = \"spanned\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nparity = [\"oak\"]";
const MIRRORED: &str = "kind = \"mirrored\"\ndata = [\"alder\", \"beech\", \"cedar\"]\ncopies = 2";
const TIERED: &str = "kind = \"tiered\"\ndata = [\"alder\", \"beech\", \"cedar\"]\nfast = [\"alder\"]\nparity = [\"oak\"]\nreserve = \"4 MB\"";
const CACHED: &str =
    "data = [\"alder\", \"beech\"]\ncache = [\"cedar\"]\nparity = [\"oak\"]\nreserve = \"4 MB\"";

fn play(volume: &str, seed: u64) {
    let small = if volume.contains("spanned") || volume.contains("tiered") { 12 } else { 40 };
    let disks = [("alder", small), ("beech", 40), ("cedar", 40), ("oak", 44)];
    let lab = Lab::of(PROGRAM, &disks, volume);
    if volume.contains("mirrored") {
        lab.write_pool_file(
            &lab.pool_text().replace("\n[[disk]]\nname = \"oak\"", "\n[[disk]]\nname = \"oak\"\n#"),
        );
    }
    lab.run(&["create", "--yes"]).expect(&[0]);
    let members = vec!["alder", "beech", "cedar"];
    let drive = Drive::mount(&lab, &[]);
    let mut life = Life { chance: Chance::new(seed), drive, lab: &lab, model: Model::default(), members };
    for step in 0..OPERATIONS {
        life.step();
        if step % 150 == 149 {
            life.sync();
        }
        if volume.contains("cache") && step % 200 == 199 {
            life.lab.run(&["settle", "--yes"]).expect(&[0, 1]);
        }
    }
    life.all_is_as_in_the_model();
    if volume.contains("mirrored") {
        // Until a sync has seen that they are, two new files of one path are not known to be copies.
        life.sync();
    }
    let Life { drive, model, .. } = life;
    drive.unmount();
    for disk in ["alder", "beech", "cedar"] {
        lose(&lab, &model, disk);
    }
}

#[rstest]
#[case(UNSTRIPED)]
#[case(SPANNED)]
#[case(MIRRORED)]
#[case(TIERED)]
#[case(CACHED)]
fn what_is_predicted_of_a_used_drive_is_what_can_be_read(#[case] volume: &str) {
    if !may_mount() {
        return;
    }
    let wanted = std::env::var("MOUNT_LIVES").unwrap_or_default();
    let range = wanted.split_once("..").and_then(|(from, to)| Some(from.parse().ok()?..to.parse().ok()?));
    for seed in range.unwrap_or(1..3) {
        play(volume, seed);
    }
}
