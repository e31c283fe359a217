//! Unfinished files: a folder of our own on a disk, locked while its command lives, tidied up after a crash.

use std::sync::Arc;

use sieve_core::path::RelPath;

use crate::disk::{Disk, LockGuard};
use crate::durable;
use crate::error::Result;

fn root() -> RelPath {
    RelPath::fixed(".zinc-sieve/tmp")
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
        durable::make_folders(&**disk, &root())?;
        tidy(&**disk)?;
        let folder = root().join(format!("{random:016x}").as_bytes()).expect("digits make a valid name");
        disk.make_folder(&folder)?;
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

/// Removes the folders of commands that no longer live.
fn tidy(disk: &dyn Disk) -> Result<()> {
    for name in disk.list(&root())? {
        let Ok(folder) = root().join(&name) else { continue };
        if let Some(_abandoned) = disk.lock(&lock_of(&folder))? {
            remove(disk, &folder)?;
        }
    }
    Ok(())
}
