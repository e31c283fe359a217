//! A machine with a neighbour: right before a chosen call of the program somebody else acts on the same disks, or the call
//! fails. The calls of an operation are counted once; then it is run again for each of them.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_disk::machine::{Clock, Machine, RealMachine};
use sieve_disk::{Attributes, Disk, Filesystem, Flow, Lease, LockGuard, ReadFile, RealDisk, Stat, WriteFile};
use sieve_disk::{Error, Result};

/// What the call that the neighbour came before answers.
pub enum Answer {
    /// What it would have.
    AsEver,
    /// This error, once.
    Fails(std::io::ErrorKind),
    /// This error, and so do all later calls on that disk.
    Vanishes,
    /// The next write ends in its middle, for want of room.
    Short,
    /// The process is killed: neither this call nor any later one is made, and nothing more is committed.
    Dies,
}

/// What the neighbour does.
pub type Act = Box<dyn FnOnce() -> Answer + Send>;

struct State {
    calls: AtomicU64,
    at: u64,
    act: Mutex<Option<Act>>,
    vanished: Mutex<Option<PathBuf>>,
    is_short: AtomicBool,
    is_dead: AtomicBool,
    has_leases: bool,
}

/// A machine with a neighbour.
pub struct NeighbourMachine {
    real: RealMachine,
    state: Arc<State>,
}

impl NeighbourMachine {
    /// A machine whose calls are counted, and nothing else.
    pub fn counting() -> Arc<Self> {
        Self::new(u64::MAX, Box::new(|| Answer::AsEver))
    }

    /// A machine whose filesystems know no leases.
    pub fn without_leases(at: u64, act: Act) -> Arc<Self> {
        Self::with(at, act, false)
    }

    /// A machine with a neighbour who acts right before this call, counted from 0.
    pub fn new(at: u64, act: Act) -> Arc<Self> {
        Self::with(at, act, true)
    }

    fn with(at: u64, act: Act, has_leases: bool) -> Arc<Self> {
        let act = Mutex::new(Some(act));
        let state = State {
            calls: AtomicU64::new(0),
            at,
            act,
            vanished: Mutex::default(),
            is_short: AtomicBool::new(false),
            is_dead: AtomicBool::new(false),
            has_leases,
        };
        Arc::new(Self { real: RealMachine { clock: Clock::Real }, state: Arc::new(state) })
    }

    /// The calls so far.
    pub fn calls(&self) -> u64 {
        self.state.calls.load(Ordering::SeqCst)
    }
}

fn locked<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

fn failure(root: &Path, kind: std::io::ErrorKind) -> Error {
    Error::io("simulated.neighbour", root, std::io::Error::from(kind))
}

fn death(root: &Path) -> Error {
    Error::io("simulated.death", root, std::io::Error::from(std::io::ErrorKind::Other))
}

impl State {
    /// One call on a disk.
    fn call(&self, root: &Path) -> Result<()> {
        let number = self.calls.fetch_add(1, Ordering::SeqCst);
        if self.is_dead.load(Ordering::SeqCst) {
            return Err(death(root));
        }
        if locked(&self.vanished).as_deref() == Some(root) {
            return Err(failure(root, std::io::ErrorKind::Other));
        }
        if number != self.at {
            return Ok(());
        }
        let act = locked(&self.act).take();
        match act.map_or(Answer::AsEver, |act| act()) {
            Answer::AsEver => Ok(()),
            Answer::Fails(kind) => Err(failure(root, kind)),
            Answer::Vanishes => {
                *locked(&self.vanished) = Some(root.into());
                Err(failure(root, std::io::ErrorKind::Other))
            }
            Answer::Short => {
                self.is_short.store(true, Ordering::SeqCst);
                Ok(())
            }
            Answer::Dies => {
                self.is_dead.store(true, Ordering::SeqCst);
                Err(death(root))
            }
        }
    }
}

impl Machine for NeighbourMachine {
    fn open_disk(&self, path: &Path) -> Result<Arc<dyn Disk>> {
        let real = Arc::new(RealDisk::open(path)?);
        Ok(Arc::new(NeighbourDisk { real, state: Arc::clone(&self.state) }))
    }

    fn now(&self) -> i64 {
        self.real.now()
    }

    fn random(&self) -> u64 {
        self.real.random()
    }

    fn before_commit(&self) -> Result<()> {
        // Between two steps of the catalogue somebody may act as well; a commit itself does not fail here.
        match self.state.call(Path::new("catalogue")) {
            Err(error) if error.code == "simulated.neighbour" => Ok(()),
            other => other,
        }
    }
}

struct NeighbourDisk {
    real: Arc<RealDisk>,
    state: Arc<State>,
}

impl NeighbourDisk {
    fn call(&self) -> Result<&RealDisk> {
        self.state.call(self.real.root())?;
        Ok(&self.real)
    }

    fn watched<F: ?Sized>(&self, file: Box<F>) -> Box<NeighbourFile<F>> {
        Box::new(NeighbourFile { file, disk: Arc::clone(&self.real), state: Arc::clone(&self.state) })
    }
}

impl Disk for NeighbourDisk {
    fn root(&self) -> &Path {
        self.real.root()
    }
    fn flow(&self) -> &Flow {
        self.real.flow()
    }
    fn filesystem(&self) -> Result<Filesystem> {
        self.call()?.filesystem()
    }
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>> {
        self.call()?.stat(path)
    }
    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>> {
        self.call()?.list(folder)
    }
    fn read_folder(&self, folder: &RelPath) -> Result<Vec<(Vec<u8>, Stat)>> {
        self.call()?.read_folder(folder)
    }
    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>> {
        self.call()?.read_link(path)
    }
    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        self.call()?.extended_attributes(path)
    }
    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>> {
        Ok(self.watched(self.call()?.open(path)?))
    }
    fn create(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        Ok(self.watched(self.call()?.create(path)?))
    }
    fn modify(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        Ok(self.watched(self.call()?.modify(path)?))
    }
    fn make_folder(&self, path: &RelPath, mode: u32) -> Result<bool> {
        self.call()?.make_folder(path, mode)
    }
    fn make_symlink(&self, target: &[u8], path: &RelPath) -> Result<()> {
        self.call()?.make_symlink(target, path)
    }
    fn link(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.call()?.link(from, to)
    }
    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.call()?.rename(from, to)
    }
    fn replace(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.call()?.replace(from, to)
    }
    fn exchange(&self, one: &RelPath, other: &RelPath) -> Result<bool> {
        self.call()?.exchange(one, other)
    }
    fn remove_file(&self, path: &RelPath) -> Result<()> {
        self.call()?.remove_file(path)
    }
    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.call()?.remove_folder(path)
    }
    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        self.call()?.set_attributes(path, attributes)
    }
    fn set_time(&self, path: &RelPath, mtime: i64) -> Result<()> {
        self.call()?.set_time(path, mtime)
    }
    fn sync_folder(&self, path: &RelPath) -> Result<()> {
        self.call()?.sync_folder(path)
    }
    fn sync_all(&self) -> Result<()> {
        self.call()?.sync_all()
    }
    fn lock(&self, path: &RelPath) -> Result<Option<Box<dyn LockGuard>>> {
        self.call()?.lock(path)
    }
}

/// A file, open for reading or for writing.
struct NeighbourFile<F: ?Sized> {
    disk: Arc<RealDisk>,
    state: Arc<State>,
    file: Box<F>,
}

impl<F: ReadFile + ?Sized> ReadFile for NeighbourFile<F> {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        self.state.call(self.disk.root())?;
        self.file.read_at(buffer, offset)
    }
    fn stat(&self) -> Result<Stat> {
        self.state.call(self.disk.root())?;
        self.file.stat()
    }
    fn data_ranges(&self) -> Result<Vec<Rows>> {
        self.state.call(self.disk.root())?;
        self.file.data_ranges()
    }
    fn lease(&self) -> Result<Lease> {
        self.state.call(self.disk.root())?;
        if self.state.has_leases { self.file.lease() } else { Ok(Lease::Unsupported) }
    }
    fn lease_holds(&self) -> bool {
        self.file.lease_holds()
    }
}

impl WriteFile for NeighbourFile<dyn WriteFile> {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        self.state.call(self.disk.root())?;
        if self.state.is_short.swap(false, Ordering::SeqCst) {
            self.file.write_at(&bytes[..bytes.len() / 2], offset)?;
            return Err(failure(self.disk.root(), std::io::ErrorKind::StorageFull));
        }
        self.file.write_at(bytes, offset)
    }
    fn set_length(&mut self, length: u64) -> Result<()> {
        self.state.call(self.disk.root())?;
        self.file.set_length(length)
    }
    fn set_attributes(&mut self, attributes: &Attributes) -> Result<()> {
        self.state.call(self.disk.root())?;
        self.file.set_attributes(attributes)
    }
    fn sync(&mut self) -> Result<()> {
        self.state.call(self.disk.root())?;
        self.file.sync()
    }
}
