//! The one system call that no safe wrapper covers: the uuid of a mounted filesystem.
#![expect(unsafe_code, reason = "an ioctl that rustix does not wrap, described by its ioctl machinery")]

use std::os::fd::BorrowedFd;

use rustix::ioctl::{Getter, Opcode, ioctl};

/// `struct fsuuid2` of linux/fs.h.
#[repr(C)]
#[derive(Clone, Copy)]
struct FsUuid {
    length: u8,
    uuid: [u8; 16],
}

/// FS_IOC_GETFSUUID: `_IOR(0x15, 0, struct fsuuid2)`.
const GET_FS_UUID: Opcode = rustix::ioctl::opcode::read::<FsUuid>(0x15, 0);

/// The uuid that the kernel reports for the filesystem of `folder`; nothing where it reports none
/// (an older kernel, or a filesystem without). The portable twin is the search in `filesystem`.
pub(super) fn filesystem_uuid(folder: BorrowedFd<'_>) -> Option<[u8; 16]> {
    // SAFETY: the opcode says that the kernel writes one FsUuid, and FsUuid has the layout of the C struct.
    let answer: FsUuid = unsafe { ioctl(folder, Getter::<GET_FS_UUID, FsUuid>::new()) }.ok()?;
    (answer.length == 16 && answer.uuid != [0; 16]).then_some(answer.uuid)
}
