//! The operations of a volume without a kernel: what the kernel would ask, asked by hand. So they are tested where nothing may
//! be mounted.

use std::path::Path;
use std::sync::Arc;

use rstest::{fixture, rstest};
use rustix::fs::{OFlags, RenameFlags};
use rustix::io::Errno;
use sieve_actions::disks::create;
use sieve_core::pool::parse;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};

use crate::tree::number::Number;
use crate::tree::volume::{Caller, Volume};

struct Bed {
    folder: tempfile::TempDir,
    volume: Volume,
}

fn open(folder: &Path, volume: &str) -> Volume {
    let machine: Arc<dyn Machine> = Arc::new(RealMachine { clock: Clock::Real });
    let file = folder.join("pool.toml");
    let disks: String = ["alder", "beech", "oak"]
        .iter()
        .map(|name| {
            let at = folder.join(name).display().to_string();
            format!("[[disk]]\nname = \"{name}\"\npath = \"{at}\"\ncapacity = \"20 MB\"\nsimulated = true\n")
        })
        .collect();
    let text = format!("[pool]\nname = \"fernhollow\"\n{disks}[[volume]]\nname = \"v\"\n{volume}\n");
    let spec = parse(&text).spec.unwrap();
    if !file.exists() {
        ["alder", "beech", "oak"].iter().for_each(|name| std::fs::create_dir(folder.join(name)).unwrap());
        #[expect(clippy::disallowed_methods, reason = "a test's own file")]
        std::fs::write(&file, &text).unwrap();
        let plan = create::plan(&*machine, &file, &spec).unwrap();
        create::execute(&machine, &file, &spec, &plan, &Silent).unwrap();
    }
    Volume::open(sieve_pool::open(machine, &file, spec).unwrap(), "v", false).unwrap()
}

#[fixture]
fn bed() -> Bed {
    let folder = tempfile::tempdir().unwrap();
    let volume =
        open(folder.path(), "data = [\"alder\", \"beech\"]\nparity = [\"oak\"]\nplacement = \"in-order\"");
    Bed { folder, volume }
}

fn me() -> Caller {
    Caller { uid: rustix::process::geteuid().as_raw(), gid: rustix::process::getegid().as_raw() }
}

impl Bed {
    fn create(&self, parent: Number, name: &str, bytes: &[u8]) -> Number {
        let (file, look) = self.volume.create_file(parent, name.as_bytes(), 0o644, 0o022, 0, me()).unwrap();
        self.volume.write(&file, bytes, 0).unwrap();
        look.number
    }

    fn read(&self, number: Number) -> Result<Vec<u8>, Errno> {
        let file = self.volume.open_file(number, OFlags::RDONLY.bits().cast_signed())?;
        let mut buffer = vec![0; 100];
        let length = self.volume.read(&file, &mut buffer, 0)?;
        buffer.truncate(length);
        Ok(buffer)
    }

    fn names(&self, folder: Number) -> Vec<String> {
        let entries = self.volume.list(folder).unwrap();
        let mut names: Vec<String> =
            entries.into_iter().map(|entry| String::from_utf8(entry.name).unwrap()).collect();
        names.sort();
        names
    }

    fn folder(&self, parent: Number, name: &str) -> Number {
        self.volume.make_folder(parent, name.as_bytes(), 0o755, 0, me()).unwrap().number
    }
}

#[rstest]
fn folders_of_several_disks_are_one(bed: Bed) {
    for disk in ["alder", "beech"] {
        std::fs::create_dir_all(bed.folder.path().join(disk).join("dawn")).unwrap();
        std::fs::File::create(bed.folder.path().join(disk).join("dawn").join(disk)).unwrap();
    }
    let dawn = bed.volume.lookup(Number::ROOT, b"dawn").unwrap();
    assert_eq!(bed.names(dawn.number), ["alder", "beech"]);
    assert_eq!(bed.names(Number::ROOT), ["dawn"], "our own folder is not shown");
    bed.volume.rename((Number::ROOT, b"dawn"), (Number::ROOT, b"dusk"), RenameFlags::empty()).unwrap();
    for disk in ["alder", "beech"] {
        assert!(bed.folder.path().join(disk).join("dusk").join(disk).exists(), "it is renamed on every disk");
    }
    assert_eq!(bed.volume.remove_folder(Number::ROOT, b"dusk"), Err(Errno::NOTEMPTY));
}

#[rstest]
fn a_name_is_one_of_the_whole_volume(bed: Bed) {
    std::fs::create_dir(bed.folder.path().join("beech/taken")).unwrap();
    let made = bed.volume.make_folder(Number::ROOT, b"taken", 0o755, 0, me());
    assert_eq!(made.unwrap_err(), Errno::EXIST);
    let exclusive = OFlags::EXCL.bits().cast_signed();
    std::fs::File::create(bed.folder.path().join("beech/file")).unwrap();
    let made = bed.volume.create_file(Number::ROOT, b"file", 0o644, 0, exclusive, me());
    assert_eq!(made.err(), Some(Errno::EXIST));
    let moved = bed.create(Number::ROOT, "other", b"new");
    let refused =
        bed.volume.rename((Number::ROOT, b"other"), (Number::ROOT, b"file"), RenameFlags::NOREPLACE);
    assert_eq!(refused, Err(Errno::EXIST));
    bed.volume.rename((Number::ROOT, b"other"), (Number::ROOT, b"file"), RenameFlags::empty()).unwrap();
    assert!(!bed.folder.path().join("beech/file").exists(), "what had the name on another disk is gone");
    assert_eq!(bed.read(moved).unwrap(), b"new");
}

#[rstest]
fn a_folder_comes_to_a_disk_with_the_first_file_that_needs_it(bed: Bed) {
    std::fs::create_dir_all(bed.folder.path().join("beech/a/b")).unwrap();
    let a = bed.volume.lookup(Number::ROOT, b"a").unwrap();
    let b = bed.volume.lookup(a.number, b"b").unwrap();
    let before = bed.volume.look_at(a.number).unwrap().modified;
    let file = bed.create(b.number, "song", b"wren");
    assert!(bed.folder.path().join("alder/a/b/song").exists(), "disks are filled in order");
    assert_eq!(bed.read(file).unwrap(), b"wren");
    assert_eq!(
        bed.volume.look_at(a.number).unwrap().modified,
        before,
        "no folder above becomes newer by that"
    );
    assert_eq!(bed.volume.look_at(b.number).unwrap().number, b.number, "it keeps its number");
}

#[rstest]
fn nothing_leads_out_of_a_disk_or_into_our_folder(bed: Bed) {
    std::os::unix::fs::symlink("/etc", bed.folder.path().join("alder/out")).unwrap();
    let out = bed.volume.lookup(Number::ROOT, b"out").unwrap();
    assert_eq!(bed.volume.lookup(out.number, b"passwd").unwrap_err(), Errno::NOENT);
    for name in [&b".zinc-sieve"[..], b"lost+found"] {
        assert_eq!(bed.volume.lookup(Number::ROOT, name).unwrap_err(), Errno::NOENT);
        assert_eq!(bed.volume.make_folder(Number::ROOT, name, 0o755, 0, me()).unwrap_err(), Errno::PERM);
        let own = bed.folder(Number::ROOT, &format!("f{}", name.len()));
        let moved = bed.volume.rename((Number::ROOT, name), (own, b"x"), RenameFlags::empty());
        assert_eq!(moved, Err(Errno::PERM));
    }
    for name in [&b".."[..], b"a/b", b""] {
        assert!(bed.volume.make_folder(Number::ROOT, name, 0o755, 0, me()).is_err(), "{name:?}");
    }
    assert_eq!(bed.volume.lookup(Number::ROOT, &[b'x'; 256]).unwrap_err(), Errno::NAMETOOLONG);
}

#[rstest]
fn what_is_limited_is_not_overrun_and_goes_on_elsewhere(bed: Bed) {
    let (file, look) = bed.volume.create_file(Number::ROOT, b"grows", 0o644, 0, 0, me()).unwrap();
    let file = Arc::new(file);
    bed.volume.files.add(Arc::clone(&file));
    std::fs::File::create(bed.folder.path().join("alder/filler")).unwrap();
    let block = vec![7; 1 << 20];
    let mut at = 0;
    let refused = loop {
        match bed.volume.write(&file, &block, at) {
            Ok(()) => at += block.len() as u64,
            Err(errno) => break errno,
        }
        assert!(at < 40 << 20);
    };
    assert_eq!(refused, Errno::NOSPC);
    let size = |disk: &str| {
        std::fs::metadata(bed.folder.path().join(disk).join("grows")).map_or(0, |stat| stat.len())
    };
    assert!(size("alder") + size("beech") >= at && size("alder").min(size("beech")) == 0);
    assert_eq!(bed.volume.look_at(look.number).unwrap().size, at);
}

#[rstest]
fn what_changes_nothing_says_so(bed: Bed) {
    bed.create(Number::ROOT, "a", b"a");
    let machine: Arc<dyn Machine> = Arc::new(RealMachine { clock: Clock::Real });
    let file = bed.folder.path().join("pool.toml");
    let spec = parse(&std::fs::read_to_string(&file).unwrap()).spec.unwrap();
    let volume = Volume::open(sieve_pool::open(machine, &file, spec).unwrap(), "v", true).unwrap();
    let look = volume.lookup(Number::ROOT, b"a").unwrap();
    assert_eq!(volume.unlink(Number::ROOT, b"a"), Err(Errno::ROFS));
    assert_eq!(volume.make_folder(Number::ROOT, b"b", 0o755, 0, me()).unwrap_err(), Errno::ROFS);
    let opened = volume.open_file(look.number, OFlags::WRONLY.bits().cast_signed());
    assert_eq!(opened.err(), Some(Errno::ROFS));
    assert_eq!(volume.set_extended(look.number, b"user.x", b"y", 0), Err(Errno::ROFS));
}

#[rstest]
fn who_went_behind_is_seen_and_a_number_never_means_another_file(bed: Bed) {
    let number = bed.create(Number::ROOT, "a", b"first");
    let path = bed.folder.path().join("alder/a");
    std::fs::rename(&path, bed.folder.path().join("alder/b")).unwrap();
    std::fs::File::create(&path).unwrap();
    // The kernel looks the name up again when it is told so.
    assert_eq!(bed.read(number), Err(Errno::STALE));
    let again = bed.volume.lookup(Number::ROOT, b"b").unwrap();
    assert_eq!(again.number, number, "the same file by its new name");
    assert_eq!(bed.read(number).unwrap(), b"first");
}
