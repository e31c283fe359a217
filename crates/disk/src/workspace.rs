//! Unfinished files: a folder of our own on a disk, locked while its command lives, tidied up after a crash.

use std::collections::HashMap;
use std::sync::Arc;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::Result;
use crate::durable;
use crate::machine::Machine;
use crate::{Disk, LockGuard};

fn root() -> RelPath {
    OurPlace::Unfinished.path()
}

/// A folder for unfinished files on one disk.
pub struct Workspace {
    disk: Arc<dyn Disk>,
    folder: RelPath,
    next: u64,
    _lock: Option<Box<dyn LockGuard>>,
}

impl Workspace {
    /// Makes a folder, after removing what crashed commands left behind.
    ///
    /// # Errors
    /// What the disk says.
    pub fn begin(disk: &Arc<dyn Disk>, random: u64) -> Result<Self> {
        durable::make_own_folder(&**disk, &root())?;
        tidy(&**disk)?;
        let folder = root().join(format!("{random:016x}").as_bytes()).expect("digits make a valid name");
        disk.make_folder(&folder, 0o700)?;
        let lock = disk.lock(&lock_of(&folder))?;
        Ok(Self { disk: Arc::clone(disk), folder, next: 0, _lock: lock })
    }

    /// A path for one more unfinished file.
    pub fn next_path(&mut self) -> RelPath {
        self.next += 1;
        self.folder.join(self.next.to_string().as_bytes()).expect("digits make a valid name")
    }

    /// The path of the unfinished file of that name; digits name those of [`Self::next_path`].
    pub fn path_of(&self, name: &str) -> RelPath {
        self.folder.join(name.as_bytes()).expect("names in the program are valid")
    }

    /// Removes the folder and what is left in it.
    ///
    /// # Errors
    /// What the disk says.
    pub fn finish(self) -> Result<()> {
        remove(&*self.disk, &self.folder)
    }
}

/// The folders for unfinished files of one command, on each disk that turns out to need one.
pub struct Workspaces<'a> {
    machine: &'a dyn Machine,
    on: HashMap<DiskId, Workspace>,
}

impl<'a> Workspaces<'a> {
    /// None so far.
    pub fn new(machine: &'a dyn Machine) -> Self {
        Self { machine, on: HashMap::new() }
    }

    /// A path for one more unfinished file on a disk.
    ///
    /// # Errors
    /// What the disk says.
    pub fn next_path(&mut self, id: DiskId, disk: &Arc<dyn Disk>) -> Result<RelPath> {
        if let Some(space) = self.on.get_mut(&id) {
            return Ok(space.next_path());
        }
        let space = Workspace::begin(disk, self.machine.random())?;
        Ok(self.on.entry(id).or_insert(space).next_path())
    }

    /// Removes them and what is left in them.
    ///
    /// # Errors
    /// What a disk says.
    pub fn finish(self) -> Result<()> {
        self.on.into_values().try_for_each(Workspace::finish)
    }
}

fn lock_of(folder: &RelPath) -> RelPath {
    folder.join(b"lock").expect("a valid name")
}

fn remove(disk: &dyn Disk, folder: &RelPath) -> Result<()> {
    for name in disk.list(folder)? {
        if let Ok(path) = folder.join(&name) {
            disk.remove_file(&path)?;
        }
    }
    disk.remove_folder(folder)
}

/// Removes the folders of commands that no longer live. There is nothing in them but copies that were never finished.
///
/// # Errors
/// What the disk says.
pub fn tidy(disk: &dyn Disk) -> Result<()> {
    if disk.stat(&root())?.is_none() {
        return Ok(());
    }
    for name in disk.list(&root())? {
        let Ok(folder) = root().join(&name) else { continue };
        if let Some(_abandoned) = disk.lock(&lock_of(&folder))? {
            remove(disk, &folder)?;
        }
    }
    Ok(())
}
