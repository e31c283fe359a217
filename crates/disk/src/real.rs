//! A disk of the machine the program runs on.

use std::collections::VecDeque;
use std::ffi::OsStr;
use std::fs::File;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Instant;

use rustix::fs::{
    self as sys, AtFlags, FileType, Gid, Mode, OFlags, RenameFlags, ResolveFlags, SeekFrom, Timespec,
    Timestamps, Uid,
};
use rustix::io::{Errno, retry_on_intr};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

use super::write_back::WriteBack;
use super::{
    Attributes, Disk, EntryKind, Filesystem, Flow, Lease, LockGuard, ReadFile, Stat, WriteFile, filesystem,
    lease, whole_granules,
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
        let path = super::full_path(self, path);
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
            path: super::full_path(self, path).as_ref().into(),
            flow: Arc::clone(&self.flow),
        })
    }
}

/// Whether a folder that is open has no name any more.
fn is_taken_away(folder: &OwnedFd) -> bool {
    sys::fstat(folder).map_or(true, |stat| stat.st_nlink == 0)
}

fn stat_of(raw: &sys::Stat) -> Stat {
    let nanoseconds = |seconds: i64, part: i64| seconds.saturating_mul(1_000_000_000).saturating_add(part);
    Stat {
        kind: match FileType::from_raw_mode(raw.st_mode) {
            FileType::RegularFile => EntryKind::File,
            FileType::Directory => EntryKind::Folder,
            FileType::Symlink => EntryKind::Symlink,
            _ => EntryKind::Special,
        },
        device: raw.st_dev,
        inode: raw.st_ino,
        size: ByteLength::new(u64::try_from(raw.st_size).unwrap_or(0)),
        mtime: nanoseconds(raw.st_mtime, raw.st_mtime_nsec.cast_signed()),
        ctime: nanoseconds(raw.st_ctime, raw.st_ctime_nsec.cast_signed()),
        accessed: nanoseconds(raw.st_atime, raw.st_atime_nsec.cast_signed()),
        mode: raw.st_mode & 0o7777,
        uid: raw.st_uid,
        gid: raw.st_gid,
        links: raw.st_nlink,
        allocated: ByteLength::new(u64::try_from(raw.st_blocks).unwrap_or(0) * 512),
    }
}

fn times_of(attributes: &Attributes) -> Timestamps {
    let time = |ns: i64| Timespec {
        tv_sec: ns.div_euclid(1_000_000_000),
        tv_nsec: ns.rem_euclid(1_000_000_000) as _,
    };
    let untouched = Timespec { tv_sec: 0, tv_nsec: sys::UTIME_OMIT };
    Timestamps { last_access: untouched, last_modification: time(attributes.mtime) }
}

/// Makes the owner the one that is wanted, where the process may; tells whether it is.
fn give_to(
    now: &sys::Stat,
    attributes: &Attributes,
    give: impl FnOnce(Uid, Gid) -> std::result::Result<(), Errno>,
) -> std::result::Result<bool, Errno> {
    if (now.st_uid, now.st_gid) == (attributes.uid, attributes.gid) {
        return Ok(true);
    }
    match give(Uid::from_raw(attributes.uid), Gid::from_raw(attributes.gid)) {
        Err(Errno::PERM | Errno::INVAL) => Ok(false), // only the superuser gives files away
        other => other.map(|()| true),
    }
}

/// The bits that let a program run with the rights of the file's owner or group.
const SET_ID: u32 = 0o6000;

/// Of an open file or folder. The times come last: everything else moves them.
fn set_attributes(file: &impl AsFd, attributes: &Attributes) -> std::result::Result<(), Errno> {
    let is_owners =
        give_to(&sys::fstat(file)?, attributes, |uid, gid| sys::fchown(file, Some(uid), Some(gid)))?;
    for (name, value) in &attributes.extended {
        match sys::fsetxattr(file, OsStr::from_bytes(name), value, sys::XattrFlags::empty()) {
            Err(Errno::PERM | Errno::NOTSUP | Errno::ACCESS) => {} // reserved for others
            other => other?,
        }
    }
    // Rights of one owner must not become those of another (L5).
    let mode = if is_owners { attributes.mode } else { attributes.mode & !SET_ID };
    sys::fchmod(file, Mode::from_raw_mode(mode))?;
    sys::futimens(file, &times_of(attributes))
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

    fn lock(&self, path: &RelPath) -> Result<Option<Box<dyn LockGuard>>> {
        let file = self.open_file(path, OFlags::RDWR | OFlags::CREATE)?;
        match retry_on_intr(|| sys::flock(&file.file, sys::FlockOperation::NonBlockingLockExclusive)) {
            Ok(()) => Ok(Some(Box::new(file))),
            Err(Errno::WOULDBLOCK) => Ok(None),
            Err(errno) => Err(self.error("disk.lock", path)(errno)),
        }
    }
}

struct RealFile {
    file: File,
    path: PathBuf,
    flow: Arc<Flow>,
    write_back: WriteBack,
}

impl LockGuard for RealFile {}

impl RealFile {
    fn error(&self, code: &'static str) -> impl FnOnce(std::io::Error) -> Error + '_ {
        move |error| Error::io(code, &self.path, error)
    }

    fn fill(&self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        let (mut filled, begun) = (0, Instant::now());
        while filled < buffer.len() {
            match self.file.read_at(&mut buffer[filled..], offset + filled as u64) {
                Ok(0) => break,
                Ok(count) => filled += count,
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                Err(error) => return Err(self.error("file.read")(error)),
            }
        }
        self.flow.add_read(filled, begun);
        Ok(filled)
    }
}

impl ReadFile for RealFile {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        self.fill(buffer, offset)
    }

    fn stat(&self) -> Result<Stat> {
        sys::fstat(&self.file).map(|raw| stat_of(&raw)).map_err(|e| self.error("file.stat")(e.into()))
    }

    fn data_ranges(&self) -> Result<Vec<Rows>> {
        let stat = ReadFile::stat(self)?;
        let size = stat.size.exact();
        if stat.allocated >= stat.size {
            return Ok(whole_granules(std::iter::once((0, size))));
        }
        let mut ranges = Vec::new();
        let mut position = 0;
        while position < size {
            let start = match sys::seek(&self.file, SeekFrom::Data(position)) {
                Ok(start) => start,
                Err(Errno::NXIO) => break,
                Err(Errno::INVAL) => return Ok(whole_granules(std::iter::once((0, size)))),
                Err(errno) => return Err(self.error("file.holes")(errno.into())),
            };
            let end = sys::seek(&self.file, SeekFrom::Hole(start))
                .map_err(|errno| self.error("file.holes")(errno.into()))?;
            ranges.push((start, end.min(size)));
            position = end;
        }
        Ok(whole_granules(ranges.into_iter()))
    }

    fn lease(&self) -> Result<Lease> {
        lease::take(self.file.as_fd()).map_err(|errno| self.error("file.lease")(errno.into()))
    }

    fn lease_holds(&self) -> bool {
        lease::holds(self.file.as_fd())
    }

    /// An advice: where the system does not take it, nothing is wrong.
    fn let_go(&self, offset: u64, length: u64) {
        let _ = sys::fadvise(&self.file, offset, std::num::NonZeroU64::new(length), sys::Advice::DontNeed);
    }
}

impl WriteFile for RealFile {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        let begun = Instant::now();
        self.file.write_all_at(bytes, offset).map_err(self.error("file.write"))?;
        let sent = self.write_back.wrote(&self.file, offset, bytes.len() as u64);
        sent.map_err(self.error("file.write"))?;
        self.flow.add_written(bytes.len(), begun);
        Ok(())
    }

    fn set_length(&mut self, length: u64) -> Result<()> {
        self.file.set_len(length).map_err(self.error("file.write"))
    }

    fn set_attributes(&mut self, attributes: &Attributes) -> Result<()> {
        set_attributes(&self.file, attributes).map_err(|errno| self.error("attributes.set")(errno.into()))
    }

    fn sync(&mut self) -> Result<()> {
        let begun = Instant::now();
        let synced = retry_on_intr(|| sys::fsync(self.file.as_fd()));
        self.flow.add_written(0, begun);
        synced.map_err(|errno| self.error("file.sync")(errno.into()))
    }
}
