//! One disk as a folder of files: the only way in which the program touches it.

use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, GRANULE};

use crate::{Attributes, Flow, Result};

/// What kind of thing a path is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EntryKind {
    /// An ordinary file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Symlink,
    /// A socket, device or pipe: listed and left alone.
    Special,
}

/// What the filesystem says about a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stat {
    /// What it is.
    pub kind: EntryKind,
    /// The number of the filesystem's device.
    pub device: u64,
    /// Its inode.
    pub inode: u64,
    /// Its length.
    pub size: ByteLength,
    /// Modification time, nanoseconds since 1970.
    pub mtime: i64,
    /// Change time, nanoseconds since 1970.
    pub ctime: i64,
    /// Access time, nanoseconds since 1970: as exact as the mount keeps it.
    pub accessed: i64,
    /// Permission bits.
    pub mode: u32,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// How many names it has.
    pub links: u64,
    /// Bytes that it takes on the disk.
    pub allocated: ByteLength,
}

/// What tells that a file is still the one that was seen: every change that a filesystem knows of moves it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stamp {
    /// Its inode.
    pub inode: u64,
    /// Its length.
    pub size: ByteLength,
    /// Modification time, nanoseconds since 1970.
    pub mtime: i64,
    /// Change time, nanoseconds since 1970.
    pub ctime: i64,
}

impl Stamp {
    /// Whether a stat shows the same file, unchanged.
    pub fn is_of(&self, stat: &Stat) -> bool {
        stat.kind == EntryKind::File
            && (self.inode, self.size, self.mtime, self.ctime)
                == (stat.inode, stat.size, stat.mtime, stat.ctime)
    }
}

/// What a filesystem is known by, "uuid:…"; "fsid:…" where it has no uuid that can be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct FilesystemId(pub String);

/// What is known of a filesystem.
#[derive(Clone, Debug)]
pub struct Filesystem {
    /// What it is known by.
    pub id: FilesystemId,
    /// The number of its device.
    pub device: u64,
    /// All its space.
    pub total: ByteLength,
    /// What may still be written.
    pub available: ByteLength,
    /// It takes no writes.
    pub read_only: bool,
    /// The folder is where it is mounted.
    pub is_mount_point: bool,
}

/// The answer to the question whether anybody may be writing to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Lease {
    /// Nobody has it open or mapped for writing, and who wants to waits.
    Granted,
    /// Somebody has it open or mapped for writing.
    Refused,
    /// The filesystem, or the process's rights, do not allow to ask.
    Unsupported,
}

/// A file opened for reading.
pub trait ReadFile: Send {
    /// Reads into `buffer` from `offset` on; fewer bytes only at the end of the file.
    ///
    /// # Errors
    /// What the operating system says.
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize>;

    /// What the filesystem says about the open file.
    ///
    /// # Errors
    /// What the operating system says.
    fn stat(&self) -> Result<Stat>;

    /// The granules that are not holes, in order.
    ///
    /// # Errors
    /// What the operating system says.
    fn data_ranges(&self) -> Result<Vec<Rows>>;

    /// Asks to be told when somebody opens the file for writing; as long as the file stays open, whoever does so waits.
    ///
    /// # Errors
    /// What the operating system says.
    fn lease(&self) -> Result<Lease> {
        Ok(Lease::Unsupported)
    }

    /// Whether nobody has asked to open it for writing since the lease was granted.
    fn lease_holds(&self) -> bool {
        true
    }

    /// These bytes (with a length of 0 all from there on) will not be read again soon: what is durable of them the
    /// system need not keep in memory.
    fn let_go(&self, _offset: u64, _length: u64) {}
}

/// A file opened for reading and writing.
pub trait WriteFile: ReadFile {
    /// Writes all of `bytes` at `offset`.
    ///
    /// # Errors
    /// What the operating system says.
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()>;

    /// Sets the length of the file.
    ///
    /// # Errors
    /// What the operating system says.
    fn set_length(&mut self, length: u64) -> Result<()>;

    /// Sets mode, owner, times and extended attributes, as far as the process may.
    ///
    /// # Errors
    /// What the operating system says.
    fn set_attributes(&mut self, attributes: &Attributes) -> Result<()>;

    /// Makes the content, length and attributes durable.
    ///
    /// # Errors
    /// What the operating system says.
    fn sync(&mut self) -> Result<()>;
}

/// A lock that is held until it is dropped.
pub trait LockGuard: Send {}

/// A member disk. All paths are relative to its root, and no call follows a symlink.
pub trait Disk: Send + Sync {
    /// Where it is mounted, for messages.
    fn root(&self) -> &Path;
    /// What flows through it: counted, and held to a limit.
    fn flow(&self) -> &Flow;
    /// What filesystem it is.
    ///
    /// # Errors
    /// As all calls here: what the operating system says, with the path.
    fn filesystem(&self) -> Result<Filesystem>;
    /// Somebody else renames folders on it, and this process knows: what is open of them is opened anew.
    fn look_anew(&self) {}
    /// Folders below its root that something else is mounted over, as far as the system tells.
    fn covered(&self) -> Vec<RelPath> {
        Vec::new()
    }
    /// What is at `path`; nothing if there is nothing.
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>>;
    /// The names in a folder, in no order.
    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>>;
    /// What is in a folder, in no order; what vanishes meanwhile is left out.
    fn read_folder(&self, folder: &RelPath) -> Result<Vec<(Vec<u8>, Stat)>> {
        let mut found = Vec::new();
        for name in self.list(folder)? {
            if let Ok(path) = folder.join(&name)
                && let Some(stat) = self.stat(&path)?
            {
                found.push((name, stat));
            }
        }
        Ok(found)
    }
    /// Where a symlink points.
    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>>;
    /// The extended attributes.
    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>>;
    /// Opens a file for reading, without touching its access time where that is allowed.
    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>>;
    /// Creates a file that does not exist yet.
    fn create(&self, path: &RelPath) -> Result<Box<dyn WriteFile>>;
    /// Opens a file for writing, and creates it if need be.
    fn modify(&self, path: &RelPath) -> Result<Box<dyn WriteFile>>;
    /// Adds bytes behind the last one of a file of ours, durably, and tells where it ends then. A line that was cut off there is
    /// ended first. On a real disk the system sees to it that lines of several processes do not mix.
    fn append(&self, path: &RelPath, bytes: &[u8]) -> Result<u64> {
        let mut file = self.modify(path)?;
        let end = file.stat()?.size.exact();
        let mut last = [b'\n'];
        if end > 0 {
            file.read_at(&mut last, end - 1)?;
        }
        let joined = if last == *b"\n" { bytes.to_vec() } else { [b"\n", bytes].concat() };
        file.write_at(&joined, end)?;
        file.sync()?;
        Ok(end + joined.len() as u64)
    }
    /// Creates a folder with these permission bits, less those that the process masks; false if it exists.
    fn make_folder(&self, path: &RelPath, mode: u32) -> Result<bool>;
    /// Creates a symlink.
    fn make_symlink(&self, target: &[u8], path: &RelPath) -> Result<()>;
    /// Gives a file a second name.
    fn link(&self, from: &RelPath, to: &RelPath) -> Result<()>;
    /// Renames; an error if `to` exists.
    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()>;
    /// Renames over what is at `to`: only for what is ours.
    fn replace(&self, from: &RelPath, to: &RelPath) -> Result<()>;
    /// Exchanges two names in one step; false where the filesystem cannot.
    fn exchange(&self, one: &RelPath, other: &RelPath) -> Result<bool>;
    /// Removes a file or symlink.
    fn remove_file(&self, path: &RelPath) -> Result<()>;
    /// Removes an empty folder.
    fn remove_folder(&self, path: &RelPath) -> Result<()>;
    /// Sets mode, owner, times and extended attributes, as far as the process may.
    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Result<()>;
    /// Whether a file that is made here can become that user's: only the superuser gives files away.
    fn may_give_to(&self, _uid: u32) -> bool {
        true
    }
    /// Sets the modification time alone, nanoseconds since 1970.
    fn set_time(&self, path: &RelPath, mtime: i64) -> Result<()>;
    /// Makes the names in a folder durable.
    fn sync_folder(&self, path: &RelPath) -> Result<()>;
    /// Makes everything durable that was written to the disk so far, contents and names: one wait for many files.
    fn sync_all(&self) -> Result<()>;
    /// Locks a file (created if need be) for this process; nothing if somebody else holds it.
    fn lock(&self, path: &RelPath) -> Result<Option<Box<dyn LockGuard>>>;
}

/// Rounds byte ranges out to granules and joins what then touches.
pub(crate) fn whole_granules(ranges: impl Iterator<Item = (u64, u64)>) -> Vec<Rows> {
    let mut rows: Vec<Rows> = Vec::new();
    for (start, end) in ranges {
        let (start, end) = (start / GRANULE, end.div_ceil(GRANULE));
        match rows.last_mut() {
            Some(last) if last.end() >= start => *last = Rows::new(last.start(), end.max(last.end())),
            _ => rows.push(Rows::new(start, end)),
        }
    }
    rows.retain(|r| !r.is_empty());
    rows
}

/// Reads a whole small file.
///
/// # Errors
/// When it cannot be read, or is larger than `limit` bytes.
pub fn read_small(disk: &dyn Disk, path: &RelPath, limit: u64) -> Result<Vec<u8>> {
    let mut file = disk.open(path)?;
    let size = file.stat()?.size.exact();
    if size > limit {
        let message = format!("{}: {size} bytes are too many for this file", full_path(disk, path).display());
        return Err(crate::Error::new(crate::Kind::Corrupt, "file.too-large", message));
    }
    let mut bytes = vec![0; usize::try_from(size).unwrap_or(0)];
    let length = file.read_at(&mut bytes, 0)?;
    bytes.truncate(length);
    Ok(bytes)
}

/// The path of a folder as a pool file is to name it: absolute, and without steps back, which are resolved by the system.
///
/// # Errors
/// What the operating system says.
pub fn plain_path(path: &Path) -> std::io::Result<std::path::PathBuf> {
    let steps_back = path.components().any(|part| part == std::path::Component::ParentDir);
    if steps_back { path.canonicalize() } else { std::path::absolute(path) }
}

/// A path as the operating system knows it, for messages: names on a disk are shown escaped.
#[derive(Clone, Debug)]
pub struct FullPath(std::path::PathBuf);

impl FullPath {
    /// The path as it is shown.
    pub fn display(&self) -> String {
        use std::os::unix::ffi::OsStrExt;
        sieve_core::path::shown(self.0.as_os_str().as_bytes())
    }
}

impl AsRef<Path> for FullPath {
    fn as_ref(&self) -> &Path {
        &self.0
    }
}

/// The path as the operating system knows it.
pub fn full_path(disk: &dyn Disk, path: &RelPath) -> FullPath {
    use std::os::unix::ffi::OsStrExt;
    FullPath(disk.root().join(std::ffi::OsStr::from_bytes(path.as_bytes())))
}
