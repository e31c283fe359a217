//! A machine whose disks fail in chosen ways: bad sectors, wrong bytes, short reads, a full disk, one that vanishes, one
//! that is slow. The program uses them through the same interface as real ones.

use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

use sieve_core::path::RelPath;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_disk::{
    Attributes, Disk, Filesystem, Flow, Lease, LockGuard, ReadFile, RealDisk, Stat, WriteFile, full_path,
};
use sieve_disk::{Error, Result};

use crate::drive::Drive;

/// What is wrong with a disk.
#[derive(Default)]
pub struct Faults {
    /// Reading any of these bytes fails.
    pub unreadable: Vec<(RelPath, Range<u64>)>,
    /// Reading this byte gives another one.
    pub flipped: Vec<(RelPath, u64)>,
    /// Reads of this file end here, whatever its length.
    pub ends_early: Option<(RelPath, u64)>,
    /// After so many more reads and writes of content the disk is gone.
    pub vanishes_after: Option<u64>,
    /// So many more bytes can be written.
    pub room: Option<u64>,
    /// How it moves: what is read and written takes time on its clock.
    pub drive: Option<Drive>,
    /// Its filesystem knows no hard links.
    pub has_no_links: bool,
    /// It really takes that time.
    pub is_slow: bool,
    /// What is written into segments of parity in this folder is not stored: only where the head goes counts.
    pub hollow: Option<RelPath>,
}

type Shared = Arc<Mutex<Faults>>;

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// A machine with faulty disks.
#[derive(Default)]
pub struct FaultyMachine {
    disks: Mutex<HashMap<PathBuf, Shared>>,
}

impl FaultyMachine {
    /// A machine on which nothing is wrong yet.
    pub fn new() -> Arc<Self> {
        Arc::default()
    }

    /// Changes what is wrong with the disk at `root`, from now on.
    pub fn set(&self, root: &Path, change: impl FnOnce(&mut Faults)) {
        change(&mut locked(&self.faults(root)));
    }

    /// What the clock of the disk at `root` says, in seconds.
    pub fn clock(&self, root: &Path) -> f64 {
        locked(&self.faults(root)).drive.as_ref().map_or(0.0, Drive::clock)
    }

    fn faults(&self, root: &Path) -> Shared {
        Arc::clone(locked(&self.disks).entry(root.into()).or_default())
    }
}

impl Machine for FaultyMachine {
    fn open_disk(&self, path: &Path) -> Result<Arc<dyn Disk>> {
        let faults = self.faults(path);
        alive(&faults, path)?;
        Ok(Arc::new(FaultyDisk { real: Arc::new(RealDisk::open(path)?), faults }))
    }

    fn now(&self) -> i64 {
        RealMachine { clock: Clock::Real }.now()
    }

    fn random(&self) -> u64 {
        RealMachine { clock: Clock::Real }.random()
    }

    fn before_commit(&self) -> Result<()> {
        Ok(())
    }
}

fn failure(place: &Path, kind: std::io::ErrorKind) -> Error {
    Error::io("simulated.fault", place, std::io::Error::from(kind))
}

fn alive(faults: &Shared, place: &Path) -> Result<()> {
    let is_gone = locked(faults).vanishes_after == Some(0);
    if is_gone { Err(failure(place, std::io::ErrorKind::NotFound)) } else { Ok(()) }
}

/// One read or write of content: the disk may vanish with it.
fn touch(faults: &Shared, place: &Path) -> Result<()> {
    alive(faults, place)?;
    let mut faults = locked(faults);
    faults.vanishes_after = faults.vanishes_after.map(|left| left - 1);
    Ok(())
}

fn move_head(faults: &Shared, flow: &Flow, path: &RelPath, offset: u64, length: usize) {
    let begun = std::time::Instant::now();
    let mut faults = locked(faults);
    let is_slow = faults.is_slow;
    let Some(drive) = faults.drive.as_mut() else { return };
    let before = drive.clock();
    drive.pass(path, offset, length as u64);
    let took = drive.clock() - before;
    if is_slow {
        std::thread::sleep(std::time::Duration::from_secs_f64(took));
        flow.add_busy(begun);
    }
}

/// What a faulty disk makes of what was read.
fn spoil(faults: &Shared, path: &RelPath, place: &Path, offset: u64, read: &mut [u8]) -> Result<usize> {
    let faults = locked(faults);
    let end = offset + read.len() as u64;
    let is_hit =
        |(bad, range): &(RelPath, Range<u64>)| bad == path && range.start < end && offset < range.end;
    if faults.unreadable.iter().any(is_hit) {
        return Err(failure(place, std::io::ErrorKind::Other));
    }
    for (_, at) in faults.flipped.iter().filter(|(bad, at)| bad == path && (offset..end).contains(at)) {
        read[usize::try_from(at - offset).expect("it is in the buffer")] ^= 0x40;
    }
    let early = faults.ends_early.as_ref().filter(|(bad, _)| bad == path);
    let most = early.map_or(u64::MAX, |(_, at)| at.saturating_sub(offset));
    Ok(read.len().min(usize::try_from(most).unwrap_or(usize::MAX)))
}

struct FaultyDisk {
    real: Arc<RealDisk>,
    faults: Shared,
}

impl FaultyDisk {
    fn check(&self) -> Result<()> {
        alive(&self.faults, self.real.root())
    }

    fn faulty<F: ?Sized>(&self, file: Box<F>, path: &RelPath) -> Box<FaultyFile<F>> {
        Box::new(FaultyFile {
            file,
            path: path.clone(),
            place: full_path(&*self.real, path).as_ref().into(),
            disk: Arc::clone(&self.real),
            faults: Arc::clone(&self.faults),
        })
    }
}

impl Disk for FaultyDisk {
    fn root(&self) -> &Path {
        self.real.root()
    }
    fn flow(&self) -> &Flow {
        self.real.flow()
    }
    fn filesystem(&self) -> Result<Filesystem> {
        self.check()?;
        self.real.filesystem()
    }
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>> {
        self.check()?;
        self.real.stat(path)
    }
    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>> {
        self.check()?;
        self.real.list(folder)
    }
    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>> {
        self.check()?;
        self.real.read_link(path)
    }
    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        self.check()?;
        self.real.extended_attributes(path)
    }
    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>> {
        self.check()?;
        Ok(self.faulty(self.real.open(path)?, path))
    }
    fn create(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        self.check()?;
        Ok(self.faulty(self.real.create(path)?, path))
    }
    fn modify(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        self.check()?;
        Ok(self.faulty(self.real.modify(path)?, path))
    }
    fn make_folder(&self, path: &RelPath, mode: u32) -> Result<bool> {
        self.check()?;
        self.real.make_folder(path, mode)
    }
    fn make_symlink(&self, target: &[u8], path: &RelPath) -> Result<()> {
        self.check()?;
        self.real.make_symlink(target, path)
    }
    fn link(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.check()?;
        if locked(&self.faults).has_no_links {
            return Err(failure(self.real.root(), std::io::ErrorKind::PermissionDenied));
        }
        self.real.link(from, to)
    }
    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.check()?;
        self.real.rename(from, to)
    }
    fn replace(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.check()?;
        self.real.replace(from, to)
    }
    fn exchange(&self, one: &RelPath, other: &RelPath) -> Result<bool> {
        self.check()?;
        self.real.exchange(one, other)
    }
    fn set_time(&self, path: &RelPath, mtime: i64) -> Result<()> {
        self.check()?;
        self.real.set_time(path, mtime)
    }
    fn remove_file(&self, path: &RelPath) -> Result<()> {
        self.check()?;
        self.real.remove_file(path)
    }
    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.check()?;
        self.real.remove_folder(path)
    }
    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        self.check()?;
        self.real.set_attributes(path, attributes)
    }
    fn sync_folder(&self, path: &RelPath) -> Result<()> {
        self.check()?;
        self.real.sync_folder(path)
    }
    fn sync_all(&self) -> Result<()> {
        self.check()?;
        self.real.sync_all()
    }
    fn lock(&self, path: &RelPath) -> Result<Option<Box<dyn LockGuard>>> {
        self.check()?;
        self.real.lock(path)
    }
}

/// A file of a faulty disk, open for reading or for writing.
struct FaultyFile<F: ?Sized> {
    path: RelPath,
    place: PathBuf,
    disk: Arc<RealDisk>,
    faults: Shared,
    file: Box<F>,
}

impl<F: ReadFile + ?Sized> ReadFile for FaultyFile<F> {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        touch(&self.faults, &self.place)?;
        let length = self.file.read_at(buffer, offset)?;
        move_head(&self.faults, self.disk.flow(), &self.path, offset, length);
        spoil(&self.faults, &self.path, &self.place, offset, &mut buffer[..length])
    }
    fn stat(&self) -> Result<Stat> {
        alive(&self.faults, &self.place)?;
        self.file.stat()
    }
    fn data_ranges(&self) -> Result<Vec<sieve_core::lane::Rows>> {
        alive(&self.faults, &self.place)?;
        self.file.data_ranges()
    }
    fn lease(&self) -> Result<Lease> {
        self.file.lease()
    }
    fn lease_holds(&self) -> bool {
        self.file.lease_holds()
    }
}

impl WriteFile for FaultyFile<dyn WriteFile> {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        touch(&self.faults, &self.place)?;
        {
            let mut faults = locked(&self.faults);
            if faults.room.is_some_and(|room| room < bytes.len() as u64) {
                return Err(failure(&self.place, std::io::ErrorKind::StorageFull));
            }
            faults.room = faults.room.map(|room| room - bytes.len() as u64);
        }
        move_head(&self.faults, self.disk.flow(), &self.path, offset, bytes.len());
        let is_hollow = |folder| locked(&self.faults).hollow.as_ref() == Some(&folder);
        let is_segment = self.path.as_bytes().windows(8).any(|part| part == b"segment-");
        if is_segment && self.path.parent().is_some_and(is_hollow) {
            return Ok(());
        }
        self.file.write_at(bytes, offset)
    }
    fn set_length(&mut self, length: u64) -> Result<()> {
        alive(&self.faults, &self.place)?;
        self.file.set_length(length)
    }
    fn set_attributes(&mut self, attributes: &Attributes) -> Result<()> {
        alive(&self.faults, &self.place)?;
        self.file.set_attributes(attributes)
    }
    fn sync(&mut self) -> Result<()> {
        alive(&self.faults, &self.place)?;
        self.file.sync()
    }
}
