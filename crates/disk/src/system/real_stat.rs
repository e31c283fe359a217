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

/// Which of the wanted owners a file has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Owners {
    user: bool,
    group: bool,
}

impl Owners {
    /// What of these permissions may be given. Rights of one owner must not become those of another (L5): the bits that let
    /// a program run with them go, and a group that is not the wanted one may what everybody may.
    fn allow(self, mode: u32) -> u32 {
        let mode = if self.user && self.group { mode } else { mode & !SET_ID };
        let of_everybody = (mode & 0o7) << 3;
        if self.group { mode } else { mode & (!0o70 | of_everybody) }
    }
}

/// Makes user and group the ones that are wanted, as far as the process may; tells which are. Only the superuser gives files
/// away; to another group, their owner too where he is one of it.
pub(crate) fn give_to(
    now: &sys::Stat,
    attributes: &Attributes,
    give: impl Fn(Uid, Gid) -> std::result::Result<(), Errno>,
) -> std::result::Result<Owners, Errno> {
    let give = |uid: u32, gid: u32| match give(Uid::from_raw(uid), Gid::from_raw(gid)) {
        Err(Errno::PERM | Errno::INVAL) => Ok(false),
        other => other.map(|()| true),
    };
    let (user, group) = (now.st_uid == attributes.uid, now.st_gid == attributes.gid);
    if (user && group) || give(attributes.uid, attributes.gid)? {
        return Ok(Owners { user: true, group: true });
    }
    Ok(Owners { user, group: group || (!user && give(now.st_uid, attributes.gid)?) })
}

/// The bits that let a program run with the rights of the file's owner or group.
pub(crate) const SET_ID: u32 = 0o6000;

/// Of an open file or folder. The times come last: everything else moves them.
pub(crate) fn set_attributes(file: &impl AsFd, attributes: &Attributes) -> std::result::Result<(), Errno> {
    let owners = give_to(&sys::fstat(file)?, attributes, |uid, gid| sys::fchown(file, Some(uid), Some(gid)))?;
    for (name, value) in &attributes.extended {
        match sys::fsetxattr(file, OsStr::from_bytes(name), value, sys::XattrFlags::empty()) {
            Err(Errno::PERM | Errno::NOTSUP | Errno::ACCESS) => {} // reserved for others
            other => other?,
        }
    }
    sys::fchmod(file, Mode::from_raw_mode(owners.allow(attributes.mode)))?;
    sys::futimens(file, &times_of(attributes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case((true, true), 0o6775, 0o6775)]
    #[case((false, true), 0o6775, 0o775)]
    #[case((true, false), 0o2770, 0o700)]
    #[case((true, false), 0o664, 0o644)]
    #[case((false, false), 0o4751, 0o711)]
    fn no_owner_gets_the_rights_of_another(
        #[case] (user, group): (bool, bool),
        #[case] wanted: u32,
        #[case] given: u32,
    ) {
        assert_eq!(Owners { user, group }.allow(wanted), given);
    }
}
