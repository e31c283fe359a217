//! The kernel's requests, translated. Nothing is decided here but what the kernel may do by itself: which files it reads and
//! writes on their disk without asking, and for how long it may trust what it was told.

mod in_use;
mod listings;
mod words;

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use fuser::{
    BsdFileFlags, FileHandle, Filesystem, FopenFlags, Generation, INodeNo, InitFlags, KernelConfig,
    LockOwner, OpenFlags, RenameFlags, ReplyAttr, ReplyCreate, ReplyData, ReplyDirectory, ReplyDirectoryPlus,
    ReplyEmpty, ReplyEntry, ReplyLseek, ReplyOpen, ReplyStatfs, ReplyWrite, ReplyXattr, Request, TimeOrNow,
    WriteFlags,
};
use rustix::fs as sys;
use rustix::io::Errno;

use crate::files::handles::Body;
use crate::files::transfer::strip_set_id;
use crate::tree::attributes::Wanted;
use crate::tree::look::Look;
use crate::tree::number::Number;
use crate::tree::volume::{Caller, Volume};
use in_use::OpenFiles;
use listings::Listings;
use words::{HOLDS, NOTHING, attr_of, caller, done, stamp_of, told, value};

/// The kernel writes and reads as much at once where it asks here: every worker keeps a buffer that has held so much.
const LARGEST_REQUEST: u32 = 256 << 10;

/// The volume as the kernel sees it.
pub(crate) struct Kernel {
    volume: Arc<Volume>,
    manners: Manners,
    open: OpenFiles,
    listings: Listings,
}

/// What the kernel is asked to do by itself.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Manners {
    /// It may read and write files on their disks: only for root, and a kernel that can.
    pub(crate) passes: bool,
    /// No extended attributes, and no ACLs: a new file costs one request less.
    pub(crate) plain: bool,
    /// It collects writes: worth it where every one of them comes here.
    pub(crate) collects: bool,
}

impl Kernel {
    pub(crate) fn new(volume: Arc<Volume>, manners: Manners) -> Self {
        Self {
            open: OpenFiles::new(Arc::clone(&volume), manners.passes),
            volume,
            manners,
            listings: Listings::default(),
        }
    }

    fn entry(look: Result<Look, Errno>, reply: ReplyEntry) {
        match look {
            Ok(look) => reply.entry(&HOLDS, &attr_of(&look), Generation(0)),
            Err(errno) => reply.error(told(errno)),
        }
    }
}

impl Filesystem for Kernel {
    fn init(&mut self, _request: &Request, config: &mut KernelConfig) -> std::io::Result<()> {
        // Not FUSE_ATOMIC_O_TRUNC: with it the kernel does not ask whether the file that an open shortens is being executed.
        let mut wanted = vec![
            InitFlags::FUSE_AUTO_INVAL_DATA,
            InitFlags::FUSE_DONT_MASK,
            InitFlags::FUSE_PARALLEL_DIROPS,
            InitFlags::FUSE_HANDLE_KILLPRIV_V2,
            InitFlags::FUSE_NO_OPENDIR_SUPPORT,
            InitFlags::FUSE_DO_READDIRPLUS,
            InitFlags::FUSE_READDIRPLUS_AUTO,
            InitFlags::FUSE_CACHE_SYMLINKS,
            InitFlags::FUSE_DIRECT_IO_ALLOW_MMAP,
        ];
        if !self.manners.plain {
            wanted.push(InitFlags::FUSE_POSIX_ACL);
        }
        if self.manners.collects {
            wanted.push(InitFlags::FUSE_WRITEBACK_CACHE);
        }
        // What this kernel does not know it does without.
        for flag in wanted {
            let _ = config.add_capabilities(flag);
        }
        let passes = self.manners.passes && config.add_capabilities(InitFlags::FUSE_PASSTHROUGH).is_ok();
        self.manners.passes = passes && config.set_max_stack_depth(1).is_ok();
        let _ = config.set_max_write(LARGEST_REQUEST);
        let _ = config.set_max_readahead(LARGEST_REQUEST);
        self.volume.set_passes(self.manners.passes);
        Ok(())
    }

    fn lookup(&self, _request: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEntry) {
        match self.volume.lookup(Number(parent.0), name.as_bytes()) {
            Err(Errno::NOENT) => reply.entry(&HOLDS, &NOTHING, Generation(0)),
            look => Self::entry(look, reply),
        }
    }

    fn forget(&self, _request: &Request, ino: INodeNo, nlookup: u64) {
        self.volume.nodes.forget(Number(ino.0), nlookup);
    }

    fn getattr(&self, _request: &Request, ino: INodeNo, fh: Option<FileHandle>, reply: ReplyAttr) {
        match self.open.look_of(ino, fh) {
            Ok(look) => reply.attr(&HOLDS, &attr_of(&look)),
            Err(errno) => reply.error(told(errno)),
        }
    }

    fn setattr(
        &self,
        request: &Request,
        ino: INodeNo,
        mode: Option<u32>,
        uid: Option<u32>,
        gid: Option<u32>,
        size: Option<u64>,
        atime: Option<TimeOrNow>,
        mtime: Option<TimeOrNow>,
        _ctime: Option<SystemTime>,
        fh: Option<FileHandle>,
        _crtime: Option<SystemTime>,
        _chgtime: Option<SystemTime>,
        _bkuptime: Option<SystemTime>,
        _flags: Option<BsdFileFlags>,
        reply: ReplyAttr,
    ) {
        let wanted = Wanted { mode, uid, gid, accessed: atime.map(stamp_of), modified: mtime.map(stamp_of) };
        match self.open.set(caller(request), ino, size, wanted, fh) {
            Ok(look) => reply.attr(&HOLDS, &attr_of(&look)),
            Err(errno) => reply.error(told(errno)),
        }
    }

    fn readlink(&self, _request: &Request, ino: INodeNo, reply: ReplyData) {
        match self.volume.read_symlink(Number(ino.0)) {
            Ok(target) => reply.data(&target),
            Err(errno) => reply.error(told(errno)),
        }
    }

    fn mknod(
        &self,
        request: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        umask: u32,
        rdev: u32,
        reply: ReplyEntry,
    ) {
        let what = (mode, umask, rdev);
        Self::entry(self.volume.make_node(Number(parent.0), name.as_bytes(), what, caller(request)), reply);
    }

    fn mkdir(
        &self,
        request: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        umask: u32,
        reply: ReplyEntry,
    ) {
        let made = self.volume.make_folder(Number(parent.0), name.as_bytes(), mode, umask, caller(request));
        Self::entry(made, reply);
    }

    fn unlink(&self, _request: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        done(self.volume.unlink(Number(parent.0), name.as_bytes()), reply);
    }

    fn rmdir(&self, _request: &Request, parent: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        done(self.volume.remove_folder(Number(parent.0), name.as_bytes()), reply);
    }

    fn symlink(
        &self,
        request: &Request,
        parent: INodeNo,
        link_name: &OsStr,
        target: &Path,
        reply: ReplyEntry,
    ) {
        let (parent, name) = (Number(parent.0), link_name.as_bytes());
        Self::entry(self.volume.make_symlink(parent, name, target.as_os_str(), caller(request)), reply);
    }

    fn rename(
        &self,
        _request: &Request,
        parent: INodeNo,
        name: &OsStr,
        newparent: INodeNo,
        newname: &OsStr,
        flags: RenameFlags,
        reply: ReplyEmpty,
    ) {
        let flags = sys::RenameFlags::from_bits_retain(flags.bits());
        let (from, to) = ((Number(parent.0), name.as_bytes()), (Number(newparent.0), newname.as_bytes()));
        done(self.volume.rename(from, to, flags), reply);
    }

    fn link(&self, _request: &Request, ino: INodeNo, newparent: INodeNo, newname: &OsStr, reply: ReplyEntry) {
        Self::entry(self.volume.link(Number(ino.0), Number(newparent.0), newname.as_bytes()), reply);
    }

    fn open(&self, _request: &Request, ino: INodeNo, flags: OpenFlags, reply: ReplyOpen) {
        self.open.open_now(Number(ino.0), flags, reply);
    }

    fn create(
        &self,
        request: &Request,
        parent: INodeNo,
        name: &OsStr,
        mode: u32,
        umask: u32,
        flags: i32,
        reply: ReplyCreate,
    ) {
        let (parent, name) = (Number(parent.0), name.as_bytes());
        let (file, look) = match self.volume.create_file(parent, name, mode, umask, flags, caller(request)) {
            Ok((file, look)) => (Arc::new(file), look),
            Err(errno) => return reply.error(told(errno)),
        };
        let handle = FileHandle(self.volume.files.add(Arc::clone(&file)));
        let attr = attr_of(&look);
        if file.is_apart {
            return reply.created(&HOLDS, &attr, Generation(0), handle, FopenFlags::FOPEN_DIRECT_IO);
        }
        let none = FopenFlags::empty();
        match self.open.use_file(&file, |descriptor| reply.open_backing(descriptor)) {
            Some(passed) => reply.created_passthrough(&HOLDS, &attr, Generation(0), handle, none, &passed),
            None => reply.created(&HOLDS, &attr, Generation(0), handle, FopenFlags::FOPEN_NOFLUSH),
        }
    }

    fn read(
        &self,
        _request: &Request,
        _ino: INodeNo,
        fh: FileHandle,
        offset: u64,
        size: u32,
        _flags: OpenFlags,
        _lock_owner: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let mut buffer = vec![0; size as usize];
        let read = self.volume.files.get(fh.0).and_then(|file| self.volume.read(&file, &mut buffer, offset));
        match read {
            Ok(length) => reply.data(&buffer[..length]),
            Err(errno) => reply.error(told(errno)),
        }
    }

    fn write(
        &self,
        request: &Request,
        _ino: INodeNo,
        fh: FileHandle,
        offset: u64,
        data: &[u8],
        write_flags: WriteFlags,
        _flags: OpenFlags,
        _lock_owner: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let write = || {
            let file = self.volume.files.get(fh.0)?;
            self.volume.write(&file, data, offset)?;
            if write_flags.contains(WriteFlags::FUSE_WRITE_KILL_SUIDGID)
                && let Body::Whole(copies) = &*file.body()
            {
                for copy in copies {
                    // The kernel has looked who writes: it says so by the flag.
                    let stranger = Caller { uid: request.uid().max(1), gid: request.gid() };
                    strip_set_id(&copy.file, &sys::fstat(&copy.file)?, stranger)?;
                }
            }
            Ok(())
        };
        match write() {
            Ok(()) => reply.written(u32::try_from(data.len()).unwrap_or(0)),
            Err(errno) => reply.error(told(errno)),
        }
    }

    fn flush(&self, _r: &Request, _i: INodeNo, _h: FileHandle, _o: LockOwner, reply: ReplyEmpty) {
        // There is nothing to do when a descriptor is closed: the kernel need not ask again.
        reply.error(fuser::Errno::ENOSYS);
    }

    fn release(
        &self,
        _request: &Request,
        ino: INodeNo,
        fh: FileHandle,
        _flags: OpenFlags,
        _lock_owner: Option<LockOwner>,
        _flush: bool,
        reply: ReplyEmpty,
    ) {
        if self.volume.files.remove(fh.0).is_some_and(|file| !file.is_apart) {
            self.open.let_go(Number(ino.0));
        }
        reply.ok();
    }

    fn fsync(&self, _request: &Request, _ino: INodeNo, fh: FileHandle, datasync: bool, reply: ReplyEmpty) {
        done(self.volume.files.get(fh.0).and_then(|file| self.volume.sync_file(&file, datasync)), reply);
    }

    fn opendir(&self, _request: &Request, _ino: INodeNo, _flags: OpenFlags, reply: ReplyOpen) {
        // A listing needs no handle: where each name stands follows from the name.
        reply.error(fuser::Errno::ENOSYS);
    }

    fn readdir(&self, _request: &Request, ino: INodeNo, _fh: FileHandle, offset: u64, reply: ReplyDirectory) {
        self.listings.list(&self.volume, ino, offset, reply);
    }

    fn readdirplus(
        &self,
        _request: &Request,
        ino: INodeNo,
        _fh: FileHandle,
        offset: u64,
        reply: ReplyDirectoryPlus,
    ) {
        self.listings.list_with_looks(&self.volume, ino, offset, reply);
    }

    fn fsyncdir(&self, _request: &Request, ino: INodeNo, _fh: FileHandle, _data: bool, reply: ReplyEmpty) {
        done(self.volume.sync_folder(Number(ino.0)), reply);
    }

    fn statfs(&self, _request: &Request, _ino: INodeNo, reply: ReplyStatfs) {
        let room = self.volume.room();
        reply.statfs(
            room.total / 4096,
            room.free / 4096,
            room.available / 4096,
            room.files,
            room.free_files,
            4096,
            255,
            4096,
        );
    }

    fn setxattr(
        &self,
        _request: &Request,
        ino: INodeNo,
        name: &OsStr,
        value: &[u8],
        flags: i32,
        _position: u32,
        reply: ReplyEmpty,
    ) {
        if self.manners.plain {
            return reply.error(fuser::Errno::ENOSYS);
        }
        let flags = flags.cast_unsigned();
        done(self.volume.set_extended(Number(ino.0), name.as_bytes(), value, flags), reply);
    }

    fn getxattr(&self, _request: &Request, ino: INodeNo, name: &OsStr, size: u32, reply: ReplyXattr) {
        if self.manners.plain {
            return reply.error(fuser::Errno::ENOSYS);
        }
        value(self.volume.extended_attribute(Number(ino.0), name.as_bytes()), size, reply);
    }

    fn listxattr(&self, _request: &Request, ino: INodeNo, size: u32, reply: ReplyXattr) {
        if self.manners.plain {
            return reply.error(fuser::Errno::ENOSYS);
        }
        value(self.volume.extended_names(Number(ino.0)), size, reply);
    }

    fn removexattr(&self, _request: &Request, ino: INodeNo, name: &OsStr, reply: ReplyEmpty) {
        if self.manners.plain {
            return reply.error(fuser::Errno::ENOSYS);
        }
        done(self.volume.remove_extended(Number(ino.0), name.as_bytes()), reply);
    }

    fn fallocate(
        &self,
        _request: &Request,
        _ino: INodeNo,
        fh: FileHandle,
        offset: u64,
        length: u64,
        mode: i32,
        reply: ReplyEmpty,
    ) {
        let mode = mode.cast_unsigned();
        let file = self.volume.files.get(fh.0);
        done(file.and_then(|file| self.volume.allocate(&file, mode, offset, length)), reply);
    }

    fn lseek(
        &self,
        _request: &Request,
        _ino: INodeNo,
        fh: FileHandle,
        offset: i64,
        whence: i32,
        reply: ReplyLseek,
    ) {
        const DATA: i32 = 3;
        const HOLE: i32 = 4;
        // Where the kernel collects writes, it alone knows what is a hole: it is left to it.
        if self.manners.collects || ![DATA, HOLE].contains(&whence) {
            return reply.error(fuser::Errno::ENOSYS);
        }
        let file = self.volume.files.get(fh.0);
        let found = file.and_then(|file| self.volume.seek(&file, offset.cast_unsigned(), whence == DATA));
        match found {
            Ok(offset) => reply.offset(offset.cast_signed()),
            Err(errno) => reply.error(told(errno)),
        }
    }
}
