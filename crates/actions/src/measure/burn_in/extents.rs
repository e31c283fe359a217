//! Where on its device a file lies: the filesystem's extent map.
#![expect(unsafe_code, reason = "an ioctl that rustix does not wrap, described by its ioctl machinery")]

use std::os::fd::AsFd;

use rustix::ioctl::{Opcode, Updater, ioctl, opcode};

const EXTENTS: usize = 64;

/// `struct fiemap_extent` of linux/fiemap.h.
#[repr(C)]
#[derive(Clone, Copy, Default)]
struct Extent {
    logical: u64,
    physical: u64,
    length: u64,
    reserved: [u64; 2],
    flags: u32,
    reserved_too: [u32; 3],
}

/// `struct fiemap` with room for extents.
#[repr(C)]
struct Map {
    start: u64,
    length: u64,
    flags: u32,
    mapped: u32,
    count: u32,
    reserved: u32,
    extents: [Extent; EXTENTS],
}

/// FS_IOC_FIEMAP: `_IOWR('f', 11, struct fiemap)`, whose size counts no extents.
const FIEMAP: Opcode = opcode::read_write::<[u64; 4]>(b'f', 11);
/// FIEMAP_FLAG_SYNC: what is delayed is allocated first.
const SYNC: u32 = 1;
/// FIEMAP_EXTENT_UNKNOWN: the place is not known.
const UNKNOWN: u32 = 2;

/// The place on the device of one byte of a file; nothing where the filesystem does not say. The portable twin is
/// to do without: positions in the file are told in any case.
pub(super) fn place_on_device(file: impl AsFd, offset: u64) -> Option<u64> {
    let mut map = Map {
        start: offset,
        length: 1,
        flags: SYNC,
        mapped: 0,
        count: EXTENTS as u32,
        reserved: 0,
        extents: [Extent::default(); EXTENTS],
    };
    // SAFETY: the kernel reads the head of the map and writes at most `count` extents, for which there is room in it.
    unsafe { ioctl(file, Updater::<FIEMAP, Map>::new(&mut map)) }.ok()?;
    let mapped = map.extents.iter().take(map.mapped as usize);
    let holds = |e: &&Extent| e.logical <= offset && offset - e.logical < e.length && e.flags & UNKNOWN == 0;
    mapped.into_iter().find(holds).map(|e| e.physical + (offset - e.logical))
}
