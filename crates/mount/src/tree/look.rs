//! How something of the volume looks: what `stat` tells.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use rustix::fs::{FileType, Stat, Timespec, Timestamps};
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects::ObjectRow;
use sieve_disk::{Attributes, EntryKind};

use crate::tree::number::Number;

/// A moment: seconds since 1970, which may be before, and nanoseconds of the second.
pub(crate) type Moment = (i64, u32);

/// How something looks.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Look {
    pub(crate) number: Number,
    pub(crate) kind: FileType,
    /// Permission bits, set-id bits among them.
    pub(crate) mode: u32,
    pub(crate) size: u64,
    /// In 512 bytes.
    pub(crate) blocks: u64,
    pub(crate) accessed: Moment,
    pub(crate) modified: Moment,
    pub(crate) changed: Moment,
    pub(crate) links: u32,
    pub(crate) uid: u32,
    pub(crate) gid: u32,
    pub(crate) device: u32,
}

#[expect(clippy::unnecessary_cast, reason = "the fields of a stat are not of the same type on every machine")]
impl Look {
    pub(crate) fn of(number: Number, stat: &Stat) -> Self {
        Self {
            number,
            kind: FileType::from_raw_mode(stat.st_mode),
            mode: stat.st_mode as u32 & 0o7777,
            size: stat.st_size.cast_unsigned(),
            blocks: stat.st_blocks.cast_unsigned(),
            accessed: (stat.st_atime, stat.st_atime_nsec as u32),
            modified: modified(stat),
            changed: (stat.st_ctime, stat.st_ctime_nsec as u32),
            links: u32::try_from(stat.st_nlink).unwrap_or(u32::MAX),
            uid: stat.st_uid,
            gid: stat.st_gid,
            device: device_number(stat.st_rdev),
        }
    }

    /// A folder that lies on several disks: as the first one has it, and as new as the newest.
    pub(crate) fn of_folder(number: Number, copies: &[&Stat]) -> Option<Self> {
        let mut look = Self::of(number, copies.first()?);
        for copy in copies {
            look.modified = look.modified.max(modified(copy));
            look.changed = look.changed.max((copy.st_ctime, copy.st_ctime_nsec as u32));
        }
        // A link for each folder in it, as the disks count them; of two disks that have the same one it counts twice, so that
        // nobody who goes by the number overlooks one. A filesystem that does not count them has one, and so has the whole.
        let counted = copies.iter().map(|copy| u32::try_from(copy.st_nlink).ok()?.checked_sub(2));
        look.links = counted.sum::<Option<u32>>().map_or(1, |folders| folders.saturating_add(2));
        Some(look)
    }

    /// A file of a disk that is not there, as the catalogue has it.
    pub(crate) fn of_absent_file(number: Number, object: &ObjectRow, attributes: &Attributes) -> Self {
        let modified = moment(object.mtime);
        Self {
            size: object.size.exact(),
            blocks: object.size.exact().div_ceil(512),
            changed: moment(object.ctime),
            ..Self::of_attributes(number, FileType::RegularFile, attributes, modified)
        }
    }

    /// What else a disk has that is not there.
    pub(crate) fn of_absent_node(number: Number, node: &NodeRow) -> Self {
        let modified = moment(node.attributes.mtime);
        let mut look = Self::of_attributes(number, file_type(node.kind), &node.attributes, modified);
        look.changed = moment(node.ctime);
        look.size = node.target.as_ref().map_or(0, |target| target.len() as u64);
        look
    }

    fn of_attributes(number: Number, kind: FileType, attributes: &Attributes, modified: Moment) -> Self {
        Self {
            number,
            kind,
            mode: attributes.mode & 0o7777,
            size: 0,
            blocks: 0,
            accessed: modified,
            modified,
            changed: modified,
            links: 1,
            uid: attributes.uid,
            gid: attributes.gid,
            device: 0,
        }
    }
}

fn modified(stat: &Stat) -> Moment {
    (stat.st_mtime, stat.st_mtime_nsec as u32)
}

/// The times of a stat, to be set.
pub(crate) fn times_of(stat: &Stat) -> Timestamps {
    let time = |seconds, nanoseconds| Timespec { tv_sec: seconds, tv_nsec: nanoseconds };
    Timestamps {
        last_access: time(stat.st_atime, stat.st_atime_nsec as i64),
        last_modification: time(stat.st_mtime, stat.st_mtime_nsec as i64),
    }
}

/// Device numbers of programs that see 32 bits: as the kernel packs them for those.
fn device_number(device: u64) -> u32 {
    let (major, minor) = (rustix::fs::major(device), rustix::fs::minor(device));
    (minor & 0xff) | (major & 0xfff) << 8 | (minor & !0xff) << 12
}

/// Whether nothing but a file.
pub(crate) fn file_type(kind: EntryKind) -> FileType {
    match kind {
        EntryKind::File => FileType::RegularFile,
        EntryKind::Folder => FileType::Directory,
        EntryKind::Symlink => FileType::Symlink,
        // What it was exactly is not kept: something that is no file.
        EntryKind::Special => FileType::Fifo,
    }
}

/// Nanoseconds since 1970 as a moment.
pub(crate) const fn moment(nanoseconds: i64) -> Moment {
    let second = 1_000_000_000;
    #[expect(clippy::cast_possible_truncation, reason = "less than a second in nanoseconds")]
    let rest = nanoseconds.rem_euclid(second) as u32;
    (nanoseconds.div_euclid(second), rest)
}

/// A moment as the kernel is told of it.
pub(crate) fn to_system_time((seconds, nanoseconds): Moment) -> SystemTime {
    let whole = Duration::from_secs(seconds.unsigned_abs());
    let at = if seconds < 0 { UNIX_EPOCH.checked_sub(whole) } else { UNIX_EPOCH.checked_add(whole) };
    at.unwrap_or(UNIX_EPOCH) + Duration::from_nanos(nanoseconds.into())
}

/// A moment as the kernel tells of it. Before 1970 the package takes the nanoseconds away from the second where they are to be
/// added; what it then says is unambiguous, and is turned around here.
pub(crate) fn from_system_time(time: SystemTime) -> Moment {
    match time.duration_since(UNIX_EPOCH) {
        Ok(since) => (i64::try_from(since.as_secs()).unwrap_or(i64::MAX), since.subsec_nanos()),
        Err(before) => {
            let before = before.duration();
            (-i64::try_from(before.as_secs()).unwrap_or(i64::MAX), before.subsec_nanos())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, (0, 0))]
    #[case(1_500_000_000, (1, 500_000_000))]
    #[case(-1, (-1, 999_999_999))]
    #[case(-1_000_000_000, (-1, 0))]
    fn moments_before_1970_count_up_from_their_second(#[case] nanoseconds: i64, #[case] expected: Moment) {
        assert_eq!(moment(nanoseconds), expected);
    }

    #[test]
    fn a_moment_before_1970_is_told_as_it_is() {
        // 0.2 s before the second -1 ends: the kernel's (-2, 800_000_000).
        let before = UNIX_EPOCH - Duration::new(1, 200_000_000);
        assert_eq!(to_system_time((-2, 800_000_000)), before);
        // As the package reads the kernel's (-2, 800_000_000).
        let misread = UNIX_EPOCH - Duration::new(2, 800_000_000);
        assert_eq!(from_system_time(misread), (-2, 800_000_000));
    }
}
