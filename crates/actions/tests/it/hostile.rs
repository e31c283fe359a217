//! Guards against a disk that says wrong or hostile things: labels, parity tables and replicas of any bytes end in
//! words, never in a panic, and never lead out of the disk (I6).
//!
//! Holds I6.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;

use proptest::prelude::*;
use sieve_actions::disks::create;
use sieve_catalogue::label;
use sieve_core::path::RelPath;
use sieve_core::pool::parse;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, ParityIndex};
use sieve_disk::Kind;
use sieve_disk::event::Silent;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_disk::{Disk, RealDisk};
use sieve_foresight::status;
use sieve_pool::pool::Pool;
use sieve_rows::image::{ImageLimits, ParityImage, Part, PartPlace};
use sieve_testkit::{Chance, scratch};
use tempfile::TempDir;
use uuid::Uuid;

fn machine() -> Arc<dyn Machine> {
    Arc::new(RealMachine { clock: Clock::Real })
}

fn disk_with(path: &str, bytes: &[u8]) -> (TempDir, Arc<dyn Disk>) {
    let folder = scratch();
    let place = folder.path().join(path);
    fs::create_dir_all(place.parent().unwrap()).unwrap();
    fs::write(place, bytes).unwrap();
    let disk = RealDisk::open(folder.path()).unwrap();
    (folder, Arc::new(disk))
}

const GOOD_LABEL: &str = "format = 1\npool = \"8a2f6a2e-31f5-4a57-9d0e-0d2b7e1c9f10\"\npool_name = \"fernhollow\"\n\
volume = \"recordings\"\ndisk_name = \"alder\"\ndisk = \"1b7c2f0a-6d1e-4c35-8c2b-5f5f3a9d7e21\"\nrole = \"data\"\nslot = 3\n";

fn geometry() -> CellGeometry {
    CellGeometry::with_cell(1 << 20).unwrap()
}

fn open_image(disk: &Arc<dyn Disk>, knows: impl Fn(CheckpointId) -> bool) -> sieve_disk::Result<ParityImage> {
    let limits = ImageLimits::for_bytes(ByteLength::new(20 << 20), geometry());
    let (member, index) = (DiskId::new(1), ParityIndex::new(1));
    let place = PartPlace { member, cells: 0..u32::MAX, limits };
    let part = Part::open(Arc::clone(disk), place, (Uuid::nil(), index, geometry()), |id| Ok(knows(id)))?;
    Ok(ParityImage::new(index, vec![part]))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_label_of_any_bytes_is_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        let (_folder, disk) = disk_with(".zinc-sieve/label.toml", &bytes);
        if let Err(error) = label::read(&*disk) {
            prop_assert!(error.message.contains("label.toml"), "{}", error);
        }
    }

    #[test]
    fn a_label_with_any_change_is_read_or_refused(at in 0..GOOD_LABEL.len(), byte in any::<u8>()) {
        let mut bytes = GOOD_LABEL.as_bytes().to_vec();
        bytes[at] = byte;
        let (_folder, disk) = disk_with(".zinc-sieve/label.toml", &bytes);
        if let Ok(Some(read)) = label::read(&*disk) {
            prop_assert!(usize::from(read.slot) < 248);
        }
    }

    #[test]
    fn a_parity_table_of_any_bytes_has_no_valid_cell(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
        let (_folder, disk) = disk_with(".zinc-sieve/parity/table", &bytes);
        match open_image(&disk, |_| true) {
            Ok(image) => {
                prop_assert!(image.parts()[0].damage().is_some_and(|why| why.contains("table")));
                prop_assert!(image.read(CellIndex::new(0), CheckpointId::new(0)).is_none());
            }
            Err(error) => prop_assert!(error.message.contains("newer")),
        }
    }

    #[test]
    fn a_pool_file_of_any_text_is_read_or_refused(text in "[a-z\\[\\]=\"\n #.,0-9{}']{0,200}") {
        let parsed = parse(&text);
        prop_assert!(parsed.spec.is_some() || !parsed.mistakes.is_empty());
        prop_assert!(parsed.mistakes.iter().all(|m| m.line(&text) <= text.lines().count() + 1));
    }
}

#[test]
fn a_table_with_any_byte_changed_or_cut_gives_no_wrong_cell() {
    let folder = scratch();
    let disk: Arc<dyn Disk> = Arc::new(RealDisk::open(folder.path()).unwrap());
    fs::create_dir(folder.path().join(".zinc-sieve")).unwrap();
    let first = CheckpointId::new(5);
    let mut image = open_image(&disk, |_| true).unwrap();
    let cells: Vec<Vec<u8>> = (0..3u8).map(|n| vec![n + 1; 1 << 20]).collect();
    for (number, bytes) in (0..).zip(&cells) {
        image.write(CellIndex::new(number), bytes).unwrap();
    }
    image.prepare(first).unwrap();
    drop(image);
    let table = folder.path().join(".zinc-sieve/parity/table");
    let good = fs::read(&table).unwrap();
    let changed = (0..good.len()).map(|at| {
        let mut bytes = good.clone();
        bytes[at] ^= 0x20;
        bytes
    });
    let cut = (0..good.len()).map(|length| good[..length].to_vec());
    for bytes in changed.chain(cut) {
        fs::write(&table, &bytes).unwrap();
        let Ok(image) = open_image(&disk, |_| true) else { continue };
        for (number, cell) in (0..).zip(&cells) {
            let read = image.read(CellIndex::new(number), first);
            assert!(read.is_none_or(|r| r == *cell), "a changed table hands out a wrong cell");
        }
    }
}

#[test]
fn what_a_checkpoint_wrote_is_there_until_the_next_is_known() {
    let folder = scratch();
    let disk: Arc<dyn Disk> = Arc::new(RealDisk::open(folder.path()).unwrap());
    fs::create_dir(folder.path().join(".zinc-sieve")).unwrap();
    let known = |limit: u64| open_image(&disk, move |id| id.get() <= limit).unwrap();
    let (old, new) = (vec![1; 1 << 20], vec![2; 1 << 20]);
    let cell = CellIndex::new(7);
    let mut image = known(9);
    image.write(cell, &old).unwrap();
    image.prepare(CheckpointId::new(1)).unwrap();
    image.committed();
    image.release();
    image.write(cell, &new).unwrap();
    image.prepare(CheckpointId::new(2)).unwrap();
    // The power fails before the catalogue knows the second checkpoint.
    drop(image);
    assert_eq!(known(1).read(cell, CheckpointId::new(1)), Some(old));
    assert_eq!(known(2).read(cell, CheckpointId::new(2)), Some(new));
    assert_eq!(known(2).read(cell, CheckpointId::new(1)), None, "what was given up is not handed out");
}

/// A pool of one data and one parity disk, synced by `create` alone.
fn created() -> TempDir {
    let folder = scratch();
    let mut text = String::from("[pool]\nname = \"fernhollow\"\n");
    for name in ["alder", "oak"] {
        fs::create_dir(folder.path().join(name)).unwrap();
        let path = folder.path().join(name).display().to_string();
        text += &format!(
            "[[disk]]\nname = \"{name}\"\npath = \"{path}\"\ncapacity = \"20 MB\"\nsimulated = true\n"
        );
    }
    text +=
        "[[volume]]\nname = \"recordings\"\nkind = \"unstriped\"\ndata = [\"alder\"]\nparity = [\"oak\"]\n";
    fs::write(folder.path().join("alder/wren.flac"), b"a song").unwrap();
    fs::write(folder.path().join("pool.toml"), &text).unwrap();
    let (file, spec) = (folder.path().join("pool.toml"), parse(&text).spec.unwrap());
    let plan = create::plan(&*machine(), &file, &spec).unwrap();
    create::execute(&machine(), &file, &spec, &plan, &Silent).unwrap();
    folder
}

fn open(folder: &Path) -> sieve_disk::Result<Pool> {
    let file = folder.join("pool.toml");
    let spec = parse(&fs::read_to_string(&file).unwrap()).spec.unwrap();
    sieve_pool::open(machine(), &file, spec)
}

fn replica_of(folder: &Path, disk: &str) -> std::path::PathBuf {
    let entries = fs::read_dir(folder.join(disk).join(".zinc-sieve")).unwrap();
    let mut paths = entries.map(|e| e.unwrap().path());
    paths.find(|p| p.file_name().unwrap().as_bytes().starts_with(b"replica-")).unwrap()
}

#[test]
fn damaged_replicas_are_passed_over_for_whole_ones_and_never_believed() {
    let mut chance = Chance::new(4);
    for _ in 0..40 {
        let folder = created();
        let victim = replica_of(folder.path(), "alder");
        let mut bytes = fs::read(&victim).unwrap();
        let start = chance.below(bytes.len());
        let end = (start + 1 + chance.below(3000)).min(bytes.len());
        bytes[start..end].iter_mut().for_each(|b| *b ^= 0x5A);
        fs::write(&victim, bytes).unwrap();
        fs::remove_dir_all(folder.path().join(".zinc-sieve")).unwrap();
        // Oak's replica is whole, so there is always one to take.
        let mut pool = open(folder.path()).unwrap();
        assert_eq!(status::status(&mut pool, status::Look::Always, &Silent).unwrap().disks.len(), 2);
    }
}

#[test]
fn a_catalogue_whose_paths_lead_out_of_the_disk_is_refused() {
    let folder = created();
    let home = folder.path().join(".zinc-sieve/catalogue.sqlite");
    for hostile in [&b"..\0..\0etc\0passwd"[..], b"\0etc\0passwd", b"a\0\0b", b"", b".\0a"] {
        let database = rusqlite::Connection::open(&home).unwrap();
        database.execute("UPDATE name SET path = ?1", [hostile]).unwrap();
        drop(database);
        let outcome =
            open(folder.path()).and_then(|mut pool| status::status(&mut pool, status::Look::Always, &Silent));
        let error = outcome.expect_err("a path out of the disk is believed");
        assert!(error.kind == Kind::Corrupt && error.message.contains("path"), "{error}");
    }
}

#[test]
fn nothing_of_ours_follows_a_symlink_out_of_the_disk() {
    let folder = created();
    let outside = folder.path().join("outside");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("secret"), b"not of the pool").unwrap();
    std::os::unix::fs::symlink(&outside, folder.path().join("alder/way-out")).unwrap();
    let disk = RealDisk::open(&folder.path().join("alder")).unwrap();
    let inside = RelPath::new("way-out/secret").unwrap();
    assert!(disk.open(&inside).is_err());
    assert!(disk.create(&RelPath::new("way-out/new").unwrap()).is_err());
    assert!(disk.remove_file(&inside).is_err());
    assert_eq!(disk.stat(&inside).unwrap(), None);
    let mut pool = open(folder.path()).unwrap();
    let guard = status::status(&mut pool, status::Look::Always, &Silent).unwrap().guard;
    assert_eq!(guard.iter().map(|g| g.files).sum::<u64>(), 2, "the file and the symlink itself");
    // Our own folder may have been turned into a way out as well.
    fs::rename(folder.path().join("alder/.zinc-sieve"), outside.join("ours")).unwrap();
    std::os::unix::fs::symlink(outside.join("ours"), folder.path().join("alder/.zinc-sieve")).unwrap();
    let pool = open(folder.path()).unwrap();
    assert!(!pool.member_named("alder").unwrap().state.is_usable());
}

/// Open folders are kept at hand; one that somebody took away and made anew is another one.
#[test]
fn a_folder_that_was_made_anew_is_used_as_it_is_now() {
    let (folder, disk) = disk_with("dawn/chorus", b"a song");
    let (name, further) = (RelPath::new("dawn/chorus").unwrap(), RelPath::new("dawn/second").unwrap());
    assert!(disk.stat(&name).unwrap().is_some());
    fs::remove_dir_all(folder.path().join("dawn")).unwrap();
    assert_eq!(disk.stat(&name).unwrap(), None);
    assert!(disk.create(&further).is_err(), "a file was made in a folder that has no name");
    fs::create_dir(folder.path().join("dawn")).unwrap();
    fs::write(folder.path().join("dawn/chorus"), b"another song").unwrap();
    assert_eq!(disk.stat(&name).unwrap().unwrap().size, ByteLength::new(12));
    disk.create(&further).unwrap().write_at(b"new", 0).unwrap();
    assert_eq!(fs::read(folder.path().join("dawn/second")).unwrap(), b"new");
    assert_eq!(disk.list(&RelPath::new("dawn").unwrap()).unwrap().len(), 2);
}
