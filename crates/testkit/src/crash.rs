//! A machine whose power can fail.
//!
//! Every disk is a real folder; what is changed on it is remembered until it is made durable. When the power
//! fails, everything that was not durable is undone: the worst that a real disk may do.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard};

use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_disk::{Attributes, Disk, Filesystem, Flow, Lease, LockGuard, ReadFile, RealDisk, Stat, WriteFile};
use sieve_disk::{Error, Kind, Result};

/// When the power fails.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum CrashPlan {
    /// Never: the durable steps are counted.
    Never,
    /// Right before this durable step, counted from 0.
    Before(u64),
}

/// One change that may be undone.
enum Change {
    Created(RelPath),
    Renamed { from: RelPath, to: RelPath, replaced: Option<PathBuf> },
    Linked(RelPath),
    Exchanged(RelPath, RelPath),
    Removed { path: RelPath, kept: PathBuf },
    MadeFolder(RelPath),
    RemovedFolder(RelPath),
}

#[derive(Default)]
struct Pending {
    changes: Vec<Change>,
    /// Bytes that were overwritten in files, by the real path, until the file is synced.
    overwritten: HashMap<PathBuf, Vec<u8>>,
    /// Created files that never were synced: on a crash they are empty.
    unsynced: HashSet<RelPath>,
}

struct Power {
    plan: CrashPlan,
    steps: AtomicU64,
    off: AtomicI64,
    kept: AtomicU64,
    disks: Mutex<HashMap<PathBuf, Arc<Mutex<Pending>>>>,
    attic: PathBuf,
}

/// A machine whose power fails at a chosen durable step.
pub struct CrashMachine {
    real: RealMachine,
    power: Arc<Power>,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

impl Power {
    /// One durable step: counted, or the moment of the crash.
    fn step(&self) -> Result<()> {
        self.check()?;
        let step = self.steps.fetch_add(1, Ordering::SeqCst);
        if self.plan == CrashPlan::Before(step) {
            self.off.store(1, Ordering::SeqCst);
        }
        self.check()
    }

    fn check(&self) -> Result<()> {
        if self.off.load(Ordering::SeqCst) == 0 {
            return Ok(());
        }
        Err(Error::new(Kind::Io, "simulated.power", "the power is off"))
    }

    fn keep(&self) -> PathBuf {
        self.attic.join(self.kept.fetch_add(1, Ordering::SeqCst).to_string())
    }
}

#[expect(clippy::disallowed_methods, reason = "undoing what a crash undoes, behind the back of the program")]
impl CrashMachine {
    /// A machine with its power plan; `attic` is an empty folder on the filesystem of the disks.
    pub fn new(plan: CrashPlan, attic: &Path) -> Arc<Self> {
        let power = Power {
            plan,
            steps: AtomicU64::new(0),
            off: AtomicI64::new(0),
            kept: AtomicU64::new(0),
            disks: Mutex::default(),
            attic: attic.into(),
        };
        Arc::new(Self { real: RealMachine { clock: Clock::Real }, power: Arc::new(power) })
    }

    /// The durable steps so far.
    pub fn steps(&self) -> u64 {
        self.power.steps.load(Ordering::SeqCst)
    }

    /// Whether the power failed.
    pub fn is_off(&self) -> bool {
        self.power.off.load(Ordering::SeqCst) != 0
    }

    /// Leaves on every disk what was durable when the power failed.
    pub fn lose_what_was_not_durable(&self) {
        for (root, pending) in locked(&self.power.disks).iter() {
            let mut pending = locked(pending);
            let at = |path: &RelPath| {
                use std::os::unix::ffi::OsStrExt;
                root.join(std::ffi::OsStr::from_bytes(path.as_bytes()))
            };
            for (path, bytes) in pending.overwritten.drain() {
                if path.exists() {
                    std::fs::write(&path, bytes).expect("a file can be put back");
                }
            }
            for path in pending.unsynced.drain() {
                if at(&path).is_file() {
                    std::fs::write(at(&path), []).expect("a file can be emptied");
                }
            }
            let changes = std::mem::take(&mut pending.changes);
            for change in changes.into_iter().rev() {
                // What a later step took away again cannot be undone twice.
                let _ = match change {
                    Change::Created(path) | Change::Linked(path) => std::fs::remove_file(at(&path)),
                    Change::Renamed { from, to, replaced } => std::fs::rename(at(&to), at(&from))
                        .and_then(|()| replaced.map_or(Ok(()), |kept| std::fs::rename(kept, at(&to)))),
                    Change::Exchanged(one, other) => exchange(&at(&one), &at(&other)),
                    Change::Removed { path, kept } => std::fs::rename(kept, at(&path)),
                    Change::MadeFolder(path) => std::fs::remove_dir(at(&path)),
                    Change::RemovedFolder(path) => std::fs::create_dir(at(&path)),
                };
            }
        }
    }
}

fn exchange(one: &Path, other: &Path) -> std::io::Result<()> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    Ok(renameat_with(CWD, one, CWD, other, RenameFlags::EXCHANGE)?)
}

impl Machine for CrashMachine {
    fn open_disk(&self, path: &Path) -> Result<Arc<dyn Disk>> {
        self.power.check()?;
        let real = RealDisk::open(path)?;
        let pending = Arc::clone(locked(&self.power.disks).entry(path.into()).or_default());
        Ok(Arc::new(CrashDisk { real, power: Arc::clone(&self.power), pending }))
    }

    fn now(&self) -> i64 {
        self.real.now()
    }

    fn random(&self) -> u64 {
        self.real.random()
    }

    fn before_commit(&self) -> Result<()> {
        self.power.step()
    }
}

struct CrashDisk {
    real: RealDisk,
    power: Arc<Power>,
    pending: Arc<Mutex<Pending>>,
}

impl CrashDisk {
    fn changed(&self, change: Change) {
        locked(&self.pending).changes.push(change);
    }

    fn kept_copy(&self, path: &RelPath) -> Option<PathBuf> {
        let place = sieve_disk::full_path(&self.real, path);
        let kept = self.power.keep();
        std::fs::hard_link(&place, &kept).ok().map(|()| kept)
    }
}

impl Disk for CrashDisk {
    fn root(&self) -> &Path {
        self.real.root()
    }
    fn flow(&self) -> &Flow {
        self.real.flow()
    }
    fn filesystem(&self) -> Result<Filesystem> {
        self.power.check()?;
        self.real.filesystem()
    }
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>> {
        self.power.check()?;
        self.real.stat(path)
    }
    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>> {
        self.power.check()?;
        self.real.list(folder)
    }
    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>> {
        self.power.check()?;
        self.real.read_link(path)
    }
    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        self.power.check()?;
        self.real.extended_attributes(path)
    }
    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>> {
        self.power.check()?;
        self.real.open(path)
    }
    fn create(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        self.power.check()?;
        let file = self.real.create(path)?;
        self.changed(Change::Created(path.clone()));
        locked(&self.pending).unsynced.insert(path.clone());
        Ok(self.wrap(file, path))
    }
    fn modify(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        self.power.check()?;
        let is_new = self.real.stat(path)?.is_none();
        let file = self.real.modify(path)?;
        if is_new {
            self.changed(Change::Created(path.clone()));
            locked(&self.pending).unsynced.insert(path.clone());
        }
        Ok(self.wrap(file, path))
    }
    fn make_folder(&self, path: &RelPath, mode: u32) -> Result<bool> {
        self.power.check()?;
        let made = self.real.make_folder(path, mode)?;
        if made {
            self.changed(Change::MadeFolder(path.clone()));
        }
        Ok(made)
    }
    fn make_symlink(&self, target: &[u8], path: &RelPath) -> Result<()> {
        self.power.check()?;
        self.real.make_symlink(target, path)?;
        self.changed(Change::Created(path.clone()));
        Ok(())
    }
    fn link(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.power.check()?;
        self.real.link(from, to)?;
        self.changed(Change::Linked(to.clone()));
        Ok(())
    }
    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.power.check()?;
        self.real.rename(from, to)?;
        self.renamed(from, to, None);
        Ok(())
    }
    fn replace(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.power.check()?;
        let replaced = self.kept_copy(to);
        self.real.replace(from, to)?;
        self.renamed(from, to, replaced);
        Ok(())
    }
    fn exchange(&self, one: &RelPath, other: &RelPath) -> Result<bool> {
        self.power.check()?;
        let is_done = self.real.exchange(one, other)?;
        if is_done {
            self.changed(Change::Exchanged(one.clone(), other.clone()));
        }
        Ok(is_done)
    }
    fn set_time(&self, path: &RelPath, mtime: i64) -> Result<()> {
        self.power.check()?;
        self.real.set_time(path, mtime)
    }
    fn remove_file(&self, path: &RelPath) -> Result<()> {
        self.power.check()?;
        let kept = self.kept_copy(path);
        self.real.remove_file(path)?;
        if let Some(kept) = kept {
            self.changed(Change::Removed { path: path.clone(), kept });
        }
        Ok(())
    }
    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.power.check()?;
        self.real.remove_folder(path)?;
        self.changed(Change::RemovedFolder(path.clone()));
        Ok(())
    }
    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        self.power.check()?;
        self.real.set_attributes(path, attributes)
    }
    fn sync_folder(&self, path: &RelPath) -> Result<()> {
        self.power.step()?;
        self.real.sync_folder(path)?;
        let in_folder = |p: &RelPath| p.parent().as_ref() == Some(path);
        // A rename is one entry in the filesystem's log: durable with either of its folders.
        locked(&self.pending).changes.retain(|change| match change {
            Change::Created(p) | Change::Linked(p) | Change::MadeFolder(p) | Change::RemovedFolder(p) => {
                !in_folder(p)
            }
            Change::Exchanged(one, other) => !in_folder(one) && !in_folder(other),
            Change::Removed { path, .. } => !in_folder(path),
            Change::Renamed { from, to, .. } => !in_folder(to) && !in_folder(from),
        });
        Ok(())
    }
    fn sync_all(&self) -> Result<()> {
        self.power.step()?;
        self.real.sync_all()?;
        *locked(&self.pending) = Pending::default();
        Ok(())
    }
    fn lock(&self, path: &RelPath) -> Result<Option<Box<dyn LockGuard>>> {
        self.power.check()?;
        self.real.lock(path)
    }
}

impl CrashDisk {
    fn wrap(&self, file: Box<dyn WriteFile>, path: &RelPath) -> Box<dyn WriteFile> {
        Box::new(CrashFile {
            file,
            path: path.clone(),
            place: sieve_disk::full_path(&self.real, path).as_ref().into(),
            power: Arc::clone(&self.power),
            pending: Arc::clone(&self.pending),
        })
    }

    fn renamed(&self, from: &RelPath, to: &RelPath, replaced: Option<PathBuf>) {
        let mut pending = locked(&self.pending);
        if pending.unsynced.remove(from) {
            pending.unsynced.insert(to.clone());
        }
        pending.changes.push(Change::Renamed { from: from.clone(), to: to.clone(), replaced });
    }
}

struct CrashFile {
    file: Box<dyn WriteFile>,
    path: RelPath,
    place: PathBuf,
    power: Arc<Power>,
    pending: Arc<Mutex<Pending>>,
}

impl CrashFile {
    fn remember(&self) {
        let mut pending = locked(&self.pending);
        if !pending.unsynced.contains(&self.path) && !pending.overwritten.contains_key(&self.place) {
            let bytes = std::fs::read(&self.place).unwrap_or_default();
            pending.overwritten.insert(self.place.clone(), bytes);
        }
    }
}

impl ReadFile for CrashFile {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        self.power.check()?;
        self.file.read_at(buffer, offset)
    }
    fn stat(&self) -> Result<Stat> {
        self.power.check()?;
        self.file.stat()
    }
    fn data_ranges(&self) -> Result<Vec<Rows>> {
        self.power.check()?;
        self.file.data_ranges()
    }
    fn lease(&self) -> Result<Lease> {
        self.file.lease()
    }
    fn lease_holds(&self) -> bool {
        self.file.lease_holds()
    }
}

impl WriteFile for CrashFile {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        self.power.check()?;
        self.remember();
        self.file.write_at(bytes, offset)
    }
    fn set_attributes(&mut self, attributes: &Attributes) -> Result<()> {
        self.power.check()?;
        self.file.set_attributes(attributes)
    }
    fn set_length(&mut self, length: u64) -> Result<()> {
        self.power.check()?;
        self.remember();
        self.file.set_length(length)
    }
    fn sync(&mut self) -> Result<()> {
        self.power.step()?;
        self.file.sync()?;
        let mut pending = locked(&self.pending);
        pending.unsynced.remove(&self.path);
        pending.overwritten.remove(&self.place);
        Ok(())
    }
}
