//! What is put is read from a source: a place outside of the pool, or another volume of it.

use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use sieve_core::path::RelPath;
use sieve_disk::{Attributes, Disk, EntryKind, ReadFile, RealDisk, Stat};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

/// Where files come from; paths are relative to its root. Every call can fail with what the system says.
pub trait Source: Send + Sync {
    /// What is at a path; nothing if there is nothing.
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>>;
    /// The names in a folder, in no order.
    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>>;
    /// Opens a file for reading.
    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>>;
    /// Where a symlink points.
    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>>;
    /// The extended attributes.
    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>>;
    /// A path as its owner knows it, for messages.
    fn shown(&self, path: &RelPath) -> String;
    /// The BLAKE3 that a file with this stat is known to have, where it is known.
    fn known(&self, _pool: &Pool, _path: &RelPath, _stat: &Stat) -> Result<Option<[u8; 32]>> {
        Ok(None)
    }
}

impl Source for RealDisk {
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>> {
        Disk::stat(self, path)
    }

    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>> {
        Disk::list(self, folder)
    }

    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>> {
        Disk::open(self, path)
    }

    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>> {
        Disk::read_link(self, path)
    }

    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        Disk::extended_attributes(self, path)
    }

    fn shown(&self, path: &RelPath) -> String {
        sieve_disk::full_path(self, path).display()
    }
}

/// How a folder of a source looks, if it is one.
pub(super) fn looks_of(source: &dyn Source, folder: &RelPath) -> Result<Option<Attributes>> {
    match source.stat(folder)? {
        Some(stat) if stat.kind == EntryKind::Folder => {
            Ok(Some(Attributes::of(&stat, source.extended_attributes(folder)?)))
        }
        _ => Ok(None),
    }
}

/// Something that is to be put: where it comes from, and its path there.
pub struct Origin {
    /// Where it comes from.
    pub source: Box<dyn Source>,
    /// Its path there; it has the same below the folder that it goes to.
    pub path: RelPath,
}

impl Origin {
    /// A file or folder somewhere on this machine, in the folder that it lies in.
    ///
    /// # Errors
    /// When it is not there, has a name that no disk would take, or lies on a member of the pool.
    pub fn outside(pool: &Pool, place: &Path) -> Result<Self> {
        let whole = with_its_name(place).map_err(|e| Error::io("put.source", place, e))?;
        let open = RealDisk::open(whole.parent().unwrap_or(Path::new("/")))?;
        let name = whole.file_name().map(OsStrExt::as_bytes).unwrap_or_default();
        let path = RelPath::new(name).map_err(|e| bad_name(&place.display().to_string(), &e.to_string()))?;
        if Disk::stat(&open, &path)?.is_none() {
            let message = format!("{}: there is no such file or folder", place.display());
            return Err(Error::new(Kind::Usage, "put.source", message));
        }
        for member in &pool.members {
            if member.disk.as_ref().is_some_and(|disk| whole.starts_with(disk.root())) {
                let message =
                    format!("{} lies on disk {}, a member of this pool", place.display(), member.row.name);
                return Err(Error::new(Kind::Usage, "put.member", message).remedy(
                    "files on a member belong to its volume already; `move --volume` takes them to another",
                ));
            }
        }
        Ok(Self { source: Box::new(open), path })
    }
}

/// The full path of a source, which ends with its own name even where it was given as `.` or `..`.
fn with_its_name(source: &Path) -> std::io::Result<PathBuf> {
    match source.file_name() {
        Some(_) => std::path::absolute(source),
        None => source.canonicalize(),
    }
}

pub(super) fn bad_name(place: &str, why: &str) -> Error {
    Error::new(Kind::Usage, "put.name", format!("{place}: {why}"))
}
