//! One member of the volume, as its calls are answered from it: everything by way of one descriptor that was opened on its
//! root after its label was looked at. Whatever is mounted over its path later, or whatever the path leads to when the disk
//! is gone, is never written to.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rustix::fs::{self as sys, AtFlags, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::Errno;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::Disk;
use sieve_pool::member::Member;

use crate::guarded;

/// So long a folder is used by the descriptor that was opened for it. Somebody may give its name to another one meanwhile.
const FOLDER_HOLDS: Duration = Duration::from_millis(500);
/// So many folders of a disk are kept open.
const FOLDERS_AT_HAND: usize = 256;

type Folders = HashMap<Vec<u8>, (Instant, Arc<OwnedFd>)>;

/// A member that files of the volume lie on.
pub(crate) struct Branch {
    pub(crate) id: DiskId,
    pub(crate) name: String,
    pub(crate) role: Role,
    /// What may be used of it in all, where the pool file limits it.
    pub(crate) capacity: Option<ByteLength>,
    below: Arc<dyn Disk>,
    root: OwnedFd,
    folders: Mutex<Folders>,
    is_dead: AtomicBool,
}

impl Branch {
    /// Opens the root of a member whose label was recognised, and looks at the label once more by that descriptor.
    pub(crate) fn open(member: &Member) -> sieve_disk::Result<Self> {
        let disk = Arc::clone(member.usable()?);
        let failed =
            |errno: Errno| sieve_disk::Error::io("disk.open", disk.root(), std::io::Error::from(errno));
        let flags = OFlags::DIRECTORY | OFlags::CLOEXEC;
        let root = sys::open(disk.root(), flags, Mode::empty()).map_err(failed)?;
        let here = sys::fstat(&root).map_err(failed)?;
        let recognised = disk.stat(&RelPath::ROOT)?;
        if recognised.is_none_or(|stat| (stat.device, stat.inode) != (here.st_dev, here.st_ino)) {
            return Err(member.refusal());
        }
        Ok(Self {
            id: member.row.id,
            name: member.row.name.clone(),
            role: member.row.role,
            capacity: member.spec.as_ref().and_then(|spec| spec.capacity),
            below: disk,
            root,
            folders: Mutex::default(),
            is_dead: AtomicBool::new(false),
        })
    }

    /// Whether it answers.
    pub(crate) fn lives(&self) -> bool {
        !self.is_dead.load(Ordering::Relaxed)
    }

    /// The same disk, for what the floors below do with it. They keep folders open by their paths, which are renamed here
    /// without them.
    pub(crate) fn disk(&self) -> &Arc<dyn Disk> {
        self.below.look_anew();
        &self.below
    }

    pub(crate) const fn root(&self) -> &OwnedFd {
        &self.root
    }

    /// What a call on it came to. After an error of the device the label decides whether the disk is there still: it may be
    /// one bad sector.
    pub(crate) fn judged<T>(&self, done: Result<T, Errno>) -> Result<T, Errno> {
        if let Err(Errno::IO | Errno::NODEV | Errno::NXIO | Errno::SHUTDOWN | Errno::UCLEAN) = done
            && self.lives()
            && !matches!(label::read(&*self.below), Ok(Some(_)))
        {
            self.is_dead.store(true, Ordering::Relaxed);
        }
        done
    }

    /// A folder of it, open.
    pub(crate) fn folder(&self, path: &RelPath) -> Result<Arc<OwnedFd>, Errno> {
        let now = Instant::now();
        {
            let folders = guarded(&self.folders);
            if let Some((since, folder)) = folders.get(path.as_bytes())
                && now.duration_since(*since) < FOLDER_HOLDS
            {
                return Ok(Arc::clone(folder));
            }
        }
        let opened = Arc::new(self.judged(self.open_folder(path))?);
        let mut folders = guarded(&self.folders);
        if folders.len() >= FOLDERS_AT_HAND {
            folders.clear();
        }
        folders.insert(path.as_bytes().to_vec(), (now, Arc::clone(&opened)));
        Ok(opened)
    }

    /// No symlink on the way is followed, so that nothing leads out of the disk.
    fn open_folder(&self, path: &RelPath) -> Result<OwnedFd, Errno> {
        let flags = OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        if path.is_root() {
            return sys::openat(&self.root, c".", flags, Mode::empty());
        }
        let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::BENEATH | ResolveFlags::NO_XDEV;
        match sys::openat2(&self.root, name_of(path.as_bytes()), flags, Mode::empty(), resolve) {
            // A symlink in the place of a folder, or another filesystem: not of this volume.
            Err(Errno::LOOP | Errno::XDEV) => Err(Errno::NOTDIR),
            other => other,
        }
    }

    /// Folders were renamed or removed: descriptors of them may be of others now.
    pub(crate) fn forget_folders(&self) {
        guarded(&self.folders).clear();
    }

    /// What is at a path; nothing where nothing is.
    pub(crate) fn stat(&self, path: &RelPath) -> Result<Option<Stat>, Errno> {
        match self.at(path, |folder, name| sys::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)) {
            Ok(stat) => Ok(Some(stat)),
            Err(Errno::NOENT | Errno::NOTDIR) => Ok(None),
            Err(errno) => Err(errno),
        }
    }

    /// Runs a call with the folder and the name of a path.
    pub(crate) fn at<T>(
        &self,
        path: &RelPath,
        call: impl Fn(&OwnedFd, &OsStr) -> Result<T, Errno>,
    ) -> Result<T, Errno> {
        let Some(folder) = path.parent() else { return self.judged(call(&self.root, OsStr::new("."))) };
        let name = name_of(path.file_name());
        let open = self.folder(&folder)?;
        match call(&open, name) {
            // Nothing is found in a folder that was taken away, nor made: another one may have its name by now.
            Err(Errno::NOENT) if sys::fstat(&*open).is_ok_and(|stat| stat.st_nlink == 0) => {
                guarded(&self.folders).remove(folder.as_bytes());
                self.judged(self.folder(&folder).and_then(|open| call(&open, name)))
            }
            done => self.judged(done),
        }
    }

    /// Opens something for its attributes alone, whatever it is.
    pub(crate) fn handle(&self, path: &RelPath) -> Result<OwnedFd, Errno> {
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        self.at(path, |folder, name| sys::openat(folder, name, flags, Mode::empty()))
    }

    /// Opens a file.
    pub(crate) fn open_file(&self, path: &RelPath, flags: OFlags) -> Result<OwnedFd, Errno> {
        let flags = flags | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        self.at(path, |folder, name| sys::openat(folder, name, flags, Mode::empty()))
    }

    /// The names in a folder with what they are, in no order; nothing where it has no such folder.
    pub(crate) fn list(&self, path: &RelPath) -> Result<Option<Vec<Listed>>, Errno> {
        let folder = match self.folder(path) {
            Ok(folder) => folder,
            Err(Errno::NOENT | Errno::NOTDIR) => return Ok(None),
            Err(errno) => return Err(errno),
        };
        let read = || {
            let mut found = Vec::new();
            for entry in sys::Dir::read_from(&*folder)? {
                let entry = entry?;
                let name = entry.file_name().to_bytes();
                let is_hidden = path.is_root() && is_never_shown(name);
                if name != b"." && name != b".." && !is_hidden {
                    found.push(Listed { name: name.to_vec(), kind: entry.file_type(), inode: entry.ino() });
                }
            }
            Ok(found)
        };
        self.judged(read()).map(Some)
    }

    /// What is free on it, and in all, in bytes, and its files.
    pub(crate) fn room(&self) -> Result<sys::StatVfs, Errno> {
        self.judged(sys::fstatvfs(&self.root))
    }
}

/// What lies in a folder of a disk.
pub(crate) struct Listed {
    pub(crate) name: Vec<u8>,
    pub(crate) kind: sys::FileType,
    pub(crate) inode: u64,
}

/// A name as the operating system takes it.
pub(crate) fn name_of(bytes: &[u8]) -> &OsStr {
    OsStr::from_bytes(bytes)
}

/// What lies in the root of every member, or of every filesystem, and is no part of the volume.
pub(crate) fn is_never_shown(name: &[u8]) -> bool {
    name == b".zinc-sieve" || name == b"lost+found"
}

/// A path that leads to what a descriptor is open on, for calls that take none.
pub(crate) fn by_descriptor(descriptor: impl AsFd) -> String {
    format!("/proc/self/fd/{}", descriptor.as_fd().as_raw_fd())
}
