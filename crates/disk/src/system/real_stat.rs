//! How a file looks to the operating system, and how it is made to look.

use crate::{Attributes, EntryKind, Stat};
use rustix::fs::{self as sys, FileType, Gid, Mode, Timespec, Timestamps, Uid};
use rustix::io::Errno;
use sieve_core::units::ByteLength;
use std::ffi::OsStr;
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;

pub(crate) fn stat_of(raw: &sys::Stat) -> Stat {
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

pub(crate) fn times_of(attributes: &Attributes) -> Timestamps {
    let time = |ns: i64| Timespec {
        tv_sec: ns.div_euclid(1_000_000_000),
        tv_nsec: ns.rem_euclid(1_000_000_000) as _,
    };
    let untouched = Timespec { tv_sec: 0, tv_nsec: sys::UTIME_OMIT };
    Timestamps { last_access: untouched, last_modification: time(attributes.mtime) }
}

/// Makes the owner the one that is wanted, where the process may; tells whether it is.
pub(crate) fn give_to(
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
pub(crate) const SET_ID: u32 = 0o6000;

/// Of an open file or folder. The times come last: everything else moves them.
pub(crate) fn set_attributes(file: &impl AsFd, attributes: &Attributes) -> std::result::Result<(), Errno> {
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
