//! A disk of the machine the program runs on.

use super::real_file::RealFile;
use super::real_stat::{give_to, set_attributes, stat_of, times_of};
use std::collections::VecDeque;
use std::ffi::OsStr;
use std::fs::File;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

use rustix::fs::{self as sys, AtFlags, FileType, Mode, OFlags, RenameFlags, ResolveFlags};
use rustix::io::{Errno, retry_on_intr};
use sieve_core::path::RelPath;

use crate::write_back::WriteBack;
use crate::{
    Attributes, Disk, EntryKind, Filesystem, Flow, LockGuard, ReadFile, Stat, WriteFile, filesystem,
};
use crate::{Error, Result};

/// A folder that was opened once: if something else is mounted over its path later, it stays what it was.
pub struct RealDisk {
    root: PathBuf,
    folder: OwnedFd,
    flow: Arc<Flow>,
    /// The folders used last, the newest first, since neighbours are used together.
    last_folders: Mutex<VecDeque<(RelPath, Arc<OwnedFd>)>>,
}

/// So many folders stay open.
const FOLDERS_AT_HAND: usize = 8;

const FOLDER: OFlags = OFlags::DIRECTORY.union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

impl RealDisk {
    /// Opens the folder at `path`.
    ///
    /// # Errors
    /// When there is no folder there.
    pub fn open(path: &Path) -> Result<Self> {
        let flags = OFlags::DIRECTORY | OFlags::CLOEXEC;
        let folder = sys::open(path, flags, Mode::empty())
            .map_err(|errno| Error::io("disk.open", path, errno.into()))?;
        Ok(Self { root: path.into(), folder, flow: Arc::default(), last_folders: Mutex::default() })
    }

    fn error(&self, code: &'static str, path: &RelPath) -> impl FnOnce(Errno) -> Error {
        let path = crate::full_path(self, path);
        move |errno| Error::io(code, path.as_ref(), errno.into())
    }

    /// An open folder that is there.
    fn folder(&self, path: &RelPath) -> std::result::Result<Arc<OwnedFd>, Errno> {
        match self.folder_at_hand(path) {
            Some(fd) if !is_taken_away(&fd) => Ok(fd),
            _ => self.folder_anew(path),
        }
    }

    /// One that was opened before. It may have been taken away since: then nothing is found in it, nor made.
    fn folder_at_hand(&self, path: &RelPath) -> Option<Arc<OwnedFd>> {
        self.last_folders().iter().find(|(known, _)| known == path).map(|(_, fd)| Arc::clone(fd))
    }

    /// Opens a folder so that no symlink on the way leads out of the disk.
    fn folder_anew(&self, path: &RelPath) -> std::result::Result<Arc<OwnedFd>, Errno> {
        let current = Arc::new(self.open_folder(path)?);
        let mut last = self.last_folders();
        last.retain(|(known, _)| known != path);
        last.truncate(FOLDERS_AT_HAND - 1);
        last.push_front((path.clone(), Arc::clone(&current)));
        Ok(current)
    }

    /// In one call where the kernel can promise that no symlink is followed, else component by component.
    fn open_folder(&self, path: &RelPath) -> std::result::Result<OwnedFd, Errno> {
        if path.is_root() {
            return sys::openat(&self.folder, c".", FOLDER, Mode::empty());
        }
        let resolve = ResolveFlags::NO_SYMLINKS | ResolveFlags::BENEATH;
        let name = OsStr::from_bytes(path.as_bytes());
        match sys::openat2(&self.folder, name, FOLDER, Mode::empty(), resolve) {
            Err(Errno::NOSYS | Errno::PERM | Errno::AGAIN | Errno::INVAL | Errno::NAMETOOLONG) => {}
            other => return other,
        }
        let mut current: OwnedFd = sys::openat(&self.folder, c".", FOLDER, Mode::empty())?;
        for name in path.components() {
            current = sys::openat(&current, OsStr::from_bytes(name), FOLDER, Mode::empty())?;
        }
        Ok(current)
    }

    fn last_folders(&self) -> MutexGuard<'_, VecDeque<(RelPath, Arc<OwnedFd>)>> {
        self.last_folders.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// What is renamed or removed may have been a folder: it, and what lies in it, is opened anew.
    fn forget_folders(&self, within: &[&RelPath]) {
        self.last_folders().retain(|(folder, _)| within.iter().all(|path| !folder.is_within(path)));
    }

    /// Runs `call` with the open parent and the name.
    fn at<T>(
        &self,
        code: &'static str,
        path: &RelPath,
        call: impl Fn(&OwnedFd, &OsStr) -> std::result::Result<T, Errno>,
    ) -> Result<T> {
        self.try_at(path, call).map_err(self.error(code, path))
    }

    fn try_at<T>(
        &self,
        path: &RelPath,
        call: impl Fn(&OwnedFd, &OsStr) -> std::result::Result<T, Errno>,
    ) -> std::result::Result<T, Errno> {
        let Some(parent) = path.parent() else { return call(&self.folder, OsStr::new(".")) };
        let name = OsStr::from_bytes(path.file_name());
        if let Some(folder) = self.folder_at_hand(&parent) {
            match call(&folder, name) {
                Err(Errno::NOENT) if is_taken_away(&folder) => {}
                outcome => return outcome,
            }
        }
        call(&*self.folder_anew(&parent)?, name)
    }

    fn open_file(&self, path: &RelPath, flags: OFlags) -> Result<RealFile> {
        let flags = flags | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let fd = self.at("file.open", path, |folder, name| {
            if flags.intersects(OFlags::RDWR) {
                return sys::openat(folder, name, flags, Mode::from(0o600));
            }
            match sys::openat(folder, name, flags | OFlags::NOATIME, Mode::empty()) {
                Err(Errno::PERM) => sys::openat(folder, name, flags, Mode::empty()),
                other => other,
            }
        })?;
        Ok(RealFile {
            write_back: WriteBack::default(),
            file: File::from(fd),
            path: crate::full_path(self, path).as_ref().into(),
            flow: Arc::clone(&self.flow),
        })
    }
}

/// Whether a folder that is open has no name any more.
fn is_taken_away(folder: &OwnedFd) -> bool {
    sys::fstat(folder).map_or(true, |stat| stat.st_nlink == 0)
}

impl Disk for RealDisk {
    fn root(&self) -> &Path {
        &self.root
    }

    fn flow(&self) -> &Flow {
        &self.flow
    }

    fn filesystem(&self) -> Result<Filesystem> {
        filesystem::describe(&self.folder, &self.root).map_err(self.error("disk.filesystem", &RelPath::ROOT))
    }

    fn look_anew(&self) {
        self.last_folders().clear();
    }

    fn covered(&self) -> Vec<RelPath> {
        filesystem::mounts_below(&self.root)
    }

    fn stat(&self, path: &RelPath) -> Result<Option<Stat>> {
        match self.try_at(path, |folder, name| sys::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)) {
            Ok(raw) => Ok(Some(stat_of(&raw))),
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => Ok(None),
            Err(errno) => Err(self.error("file.stat", path)(errno)),
        }
    }

    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>> {
        let read = || {
            let open = self.folder(folder)?;
            let mut names = Vec::new();
            for entry in sys::Dir::read_from(&*open)? {
                let name = entry?.file_name().to_bytes().to_vec();
                if name != b"." && name != b".." {
                    names.push(name);
                }
            }
            Ok(names)
        };
        read().map_err(self.error("folder.list", folder))
    }

    fn read_folder(&self, folder: &RelPath) -> Result<Vec<(Vec<u8>, Stat)>> {
        let open = self.folder(folder).map_err(self.error("folder.list", folder))?;
        let entries = sys::Dir::read_from(&*open).map_err(self.error("folder.list", folder))?;
        let mut found = Vec::new();
        for entry in entries {
            let entry = entry.map_err(self.error("folder.list", folder))?;
            let name = entry.file_name();
            if name == c"." || name == c".." {
                continue;
            }
            match sys::statat(&*open, name, AtFlags::SYMLINK_NOFOLLOW) {
                Ok(raw) => found.push((name.to_bytes().to_vec(), stat_of(&raw))),
                Err(Errno::NOENT) => {}
                Err(errno) => {
                    let path = folder.join(name.to_bytes()).unwrap_or_else(|_| folder.clone());
                    return Err(self.error("file.stat", &path)(errno));
                }
            }
        }
        Ok(found)
    }

    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>> {
        self.at("symlink.read", path, |folder, name| {
            sys::readlinkat(folder, name, Vec::new()).map(|target| target.into_bytes())
        })
    }

    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        let flags = OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
        let read = |folder: &OwnedFd, name: &OsStr| {
            let file = sys::openat(folder, name, flags, Mode::empty())?;
            // Nearly all files have none, or few.
            let mut names = vec![0; 256];
            let length = match sys::flistxattr(&file, &mut names[..]) {
                Err(Errno::NOTSUP) => 0,
                Err(Errno::RANGE) => {
                    names.resize(65_536, 0);
                    sys::flistxattr(&file, &mut names[..])?
                }
                other => other?,
            };
            let mut pairs = Vec::new();
            for name in names[..length].split(|b| *b == 0).filter(|n| !n.is_empty()) {
                let mut value = vec![0; 65_536];
                let length = sys::fgetxattr(&file, OsStr::from_bytes(name), &mut value[..])?;
                value.truncate(length);
                pairs.push((name.to_vec(), value));
            }
            Ok(pairs)
        };
        self.at("attributes.read", path, read)
    }

    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>> {
        Ok(Box::new(self.open_file(path, OFlags::RDONLY)?))
    }

    fn create(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        Ok(Box::new(self.open_file(path, OFlags::RDWR | OFlags::CREATE | OFlags::EXCL)?))
    }

    fn modify(&self, path: &RelPath) -> Result<Box<dyn WriteFile>> {
        Ok(Box::new(self.open_file(path, OFlags::RDWR | OFlags::CREATE)?))
    }

    fn append(&self, path: &RelPath, bytes: &[u8]) -> Result<u64> {
        let mut file = self.open_file(path, OFlags::RDWR | OFlags::CREATE | OFlags::APPEND)?;
        let end = file.stat()?.size.exact();
        let mut last = [b'\n'];
        if end > 0 {
            file.read_at(&mut last, end - 1)?;
        }
        let joined = if last == *b"\n" { bytes } else { &[b"\n", bytes].concat() };
        // The system puts it behind what others have added since, wherever this says.
        file.write_at(joined, end)?;
        file.sync()?;
        Ok(file.stat()?.size.exact())
    }

    fn make_folder(&self, path: &RelPath, mode: u32) -> Result<bool> {
        match self.try_at(path, |folder, name| sys::mkdirat(folder, name, Mode::from(mode))) {
            Ok(()) => Ok(true),
            Err(Errno::EXIST) if self.stat(path)?.is_some_and(|s| s.kind == EntryKind::Folder) => Ok(false),
            Err(errno) => Err(self.error("folder.create", path)(errno)),
        }
    }

    fn make_symlink(&self, target: &[u8], path: &RelPath) -> Result<()> {
        self.at("symlink.create", path, |folder, name| {
            sys::symlinkat(OsStr::from_bytes(target), folder, name)
        })
    }

    fn link(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.at("file.link", to, |folder, name| {
            self.try_at(from, |old, old_name| sys::linkat(old, old_name, folder, name, AtFlags::empty()))
        })
    }

    fn rename(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.forget_folders(&[from, to]);
        self.at("file.rename", to, |folder, name| {
            self.try_at(from, |old, old_name| {
                match sys::renameat_with(old, old_name, folder, name, RenameFlags::NOREPLACE) {
                    // Filesystems without that flag: look first.
                    Err(Errno::INVAL) if sys::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW).is_ok() => {
                        Err(Errno::EXIST)
                    }
                    Err(Errno::INVAL) => sys::renameat(old, old_name, folder, name),
                    other => other,
                }
            })
        })
    }

    fn replace(&self, from: &RelPath, to: &RelPath) -> Result<()> {
        self.forget_folders(&[from, to]);
        self.at("file.rename", to, |folder, name| {
            self.try_at(from, |old, old_name| sys::renameat(old, old_name, folder, name))
        })
    }

    fn exchange(&self, one: &RelPath, other: &RelPath) -> Result<bool> {
        self.forget_folders(&[one, other]);
        let exchanged = self.try_at(other, |folder, name| {
            self.try_at(one, |first, first_name| {
                sys::renameat_with(first, first_name, folder, name, RenameFlags::EXCHANGE)
            })
        });
        match exchanged {
            Ok(()) => Ok(true),
            Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => Ok(false),
            Err(errno) => Err(self.error("file.exchange", other)(errno)),
        }
    }

    fn remove_file(&self, path: &RelPath) -> Result<()> {
        self.at("file.remove", path, |folder, name| sys::unlinkat(folder, name, AtFlags::empty()))
    }

    fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.forget_folders(&[path]);
        self.at("folder.remove", path, |folder, name| sys::unlinkat(folder, name, AtFlags::REMOVEDIR))
    }

    fn may_give_to(&self, uid: u32) -> bool {
        super::rights::may_give_to(uid)
    }

    fn set_attributes(&self, path: &RelPath, attributes: &Attributes) -> Result<()> {
        let set = |folder: &OwnedFd, name: &OsStr| {
            let now = sys::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
            if FileType::from_raw_mode(now.st_mode) != FileType::Symlink {
                let flags = OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::NONBLOCK;
                return set_attributes(&sys::openat(folder, name, flags, Mode::empty())?, attributes);
            }
            let flags = AtFlags::SYMLINK_NOFOLLOW;
            give_to(&now, attributes, |uid, gid| sys::chownat(folder, name, Some(uid), Some(gid), flags))?;
            sys::utimensat(folder, name, &times_of(attributes), flags)
        };
        self.at("attributes.set", path, set)
    }

    fn set_time(&self, path: &RelPath, mtime: i64) -> Result<()> {
        let times = times_of(&Attributes { mtime, ..Attributes::default() });
        self.at("attributes.set", path, |folder, name| {
            sys::utimensat(folder, name, &times, AtFlags::SYMLINK_NOFOLLOW)
        })
    }

    fn sync_folder(&self, path: &RelPath) -> Result<()> {
        let sync = || retry_on_intr(|| sys::fsync(&*self.folder(path)?));
        match sync() {
            Err(Errno::INVAL) => Ok(()), // filesystems that cannot sync a folder say so
            other => other.map_err(self.error("folder.sync", path)),
        }
    }

    fn sync_all(&self) -> Result<()> {
        // Through the descriptor that is open since before anything was written: what failed meanwhile is told here.
        retry_on_intr(|| sys::syncfs(&self.folder)).map_err(self.error("disk.sync", &RelPath::ROOT))
    }

    fn lock(&self, path: &RelPath) -> Result<Option<Box<dyn LockGuard>>> {
        let file = self.open_file(path, OFlags::RDWR | OFlags::CREATE)?;
        match retry_on_intr(|| sys::flock(&file.file, sys::FlockOperation::NonBlockingLockExclusive)) {
            Ok(()) => Ok(Some(Box::new(file))),
            Err(Errno::WOULDBLOCK) => Ok(None),
            Err(errno) => Err(self.error("disk.lock", path)(errno)),
        }
    }
}
