//! The number of a file or folder of the volume: what programs see as its inode.

use std::hash::{DefaultHasher, Hash, Hasher};

use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

/// A number that stays the same as long as the thing lies on its disk: the disk above, its inode there below. So hard links
/// have one number, numbers of different disks never meet, and after a new mount they are what they were.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Number(pub(crate) u64);

const INODE_BITS: u32 = 56;
const INODE: u64 = (1 << INODE_BITS) - 1;
/// Above every disk: what has no inode that is known.
const NOWHERE: u64 = 0xff << INODE_BITS;
/// Above every disk: what has the inode that another file is known by.
const MADE_UP: u64 = 0xfe << INODE_BITS;

impl Number {
    /// The root of the volume, which the kernel asks for by this number.
    pub(crate) const ROOT: Self = Self(1);

    /// The number of an inode of a disk.
    pub(crate) fn on(disk: DiskId, inode: u64) -> Self {
        // Disks are numbered from 1 on and never so many that they reach what is kept for paths.
        Self((disk.get().cast_unsigned().wrapping_add(1) & 0x7f) << INODE_BITS | inode & INODE)
    }

    /// Whether it is a number of that kind.
    pub(crate) const fn is_of_path(self) -> bool {
        self.0 & !INODE == NOWHERE
    }

    /// A number for something whose own is in use.
    pub(crate) const fn made_up(count: u64) -> Self {
        Self(MADE_UP | count & INODE)
    }

    /// Whether it is such a number.
    pub(crate) const fn is_made_up(self) -> bool {
        self.0 & !INODE == MADE_UP
    }

    /// The number of something that lies on no disk that is there, and of which no inode is known: a folder of a missing disk.
    pub(crate) fn of_path(path: &RelPath) -> Self {
        let mut hasher = DefaultHasher::new();
        path.as_bytes().hash(&mut hasher);
        Self(NOWHERE | hasher.finish() & INODE)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_two_disks_never_meet_and_none_is_the_root() {
        let (one, other) = (DiskId::new(1), DiskId::new(2));
        assert_ne!(Number::on(one, 12), Number::on(other, 12));
        assert_eq!(Number::on(one, 12), Number::on(one, 12));
        assert_ne!(Number::on(one, 1), Number::ROOT);
        assert_ne!(Number::of_path(&RelPath::fixed("a")), Number::of_path(&RelPath::fixed("b")));
    }
}
