//! The volume's words as the kernel's, and back.

use std::time::{Duration, UNIX_EPOCH};

use fuser::{FileAttr, FileType, INodeNo, ReplyEmpty, ReplyXattr, Request, TimeOrNow};
use rustix::fs as sys;
use rustix::io::Errno;

use crate::tree::attributes::Stamp;
use crate::tree::look::{Look, from_system_time, to_system_time};
use crate::tree::volume::Caller;

/// So long the kernel may trust a name and how it looks: what others change on the disks shows after this.
pub(super) const HOLDS: Duration = Duration::from_secs(1);

pub(super) fn told(errno: Errno) -> fuser::Errno {
    fuser::Errno::from_i32(errno.raw_os_error())
}

pub(super) fn caller(request: &Request) -> Caller {
    Caller { uid: request.uid(), gid: request.gid() }
}

pub(super) fn kind_of(kind: sys::FileType) -> FileType {
    match kind {
        sys::FileType::Directory => FileType::Directory,
        sys::FileType::Symlink => FileType::Symlink,
        sys::FileType::Fifo => FileType::NamedPipe,
        sys::FileType::Socket => FileType::Socket,
        sys::FileType::CharacterDevice => FileType::CharDevice,
        sys::FileType::BlockDevice => FileType::BlockDevice,
        _ => FileType::RegularFile,
    }
}

pub(super) fn attr_of(look: &Look) -> FileAttr {
    FileAttr {
        ino: INodeNo(look.number.0),
        size: look.size,
        blocks: look.blocks,
        atime: to_system_time(look.accessed),
        mtime: to_system_time(look.modified),
        ctime: to_system_time(look.changed),
        crtime: UNIX_EPOCH,
        kind: kind_of(look.kind),
        perm: u16::try_from(look.mode).unwrap_or(0),
        nlink: look.links,
        uid: look.uid,
        gid: look.gid,
        rdev: look.device,
        blksize: 4096,
        flags: 0,
    }
}

/// What the kernel keeps of a name that does not exist.
pub(super) const NOTHING: FileAttr = FileAttr {
    ino: INodeNo(0),
    size: 0,
    blocks: 0,
    atime: UNIX_EPOCH,
    mtime: UNIX_EPOCH,
    ctime: UNIX_EPOCH,
    crtime: UNIX_EPOCH,
    kind: FileType::RegularFile,
    perm: 0,
    nlink: 0,
    uid: 0,
    gid: 0,
    rdev: 0,
    blksize: 4096,
    flags: 0,
};

pub(super) fn stamp_of(time: TimeOrNow) -> Stamp {
    match time {
        TimeOrNow::Now => Stamp::Now,
        TimeOrNow::SpecificTime(time) => Stamp::At(from_system_time(time)),
    }
}

pub(super) fn done(result: Result<(), Errno>, reply: ReplyEmpty) {
    match result {
        Ok(()) => reply.ok(),
        Err(errno) => reply.error(told(errno)),
    }
}

/// A value of this length, where so many bytes were asked for; with 0, only how long it is.
pub(super) fn value(result: Result<Vec<u8>, Errno>, size: u32, reply: ReplyXattr) {
    match result {
        Err(errno) => reply.error(told(errno)),
        Ok(bytes) if size == 0 => reply.size(u32::try_from(bytes.len()).unwrap_or(u32::MAX)),
        Ok(bytes) if bytes.len() > size as usize => reply.error(fuser::Errno::ERANGE),
        Ok(bytes) => reply.data(&bytes),
    }
}
