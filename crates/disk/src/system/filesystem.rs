//! Which filesystem a folder lies on.

use std::ffi::OsStr;
use std::fs;
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use rustix::fs::{fstat, fstatvfs};
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

use super::uuid_ioctl::filesystem_uuid;
use crate::{Filesystem, FilesystemId};

pub(super) fn describe(folder: impl AsFd, path: &Path) -> rustix::io::Result<Filesystem> {
    let space = fstatvfs(&folder)?;
    let device = fstat(&folder)?.st_dev;
    let uuid = filesystem_uuid(folder.as_fd())
        .map(|bytes| uuid::Uuid::from_bytes(bytes).to_string())
        .or_else(|| uuid_by_links(device))
        .map(|uuid| format!("uuid:{uuid}"));
    Ok(Filesystem {
        id: FilesystemId(uuid.unwrap_or_else(|| format!("fsid:{:016x}", space.f_fsid))),
        device,
        total: ByteLength::new(space.f_blocks.saturating_mul(space.f_frsize)),
        available: ByteLength::new(space.f_bavail.saturating_mul(space.f_frsize)),
        read_only: space.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY),
        is_mount_point: is_mount_point(path, device),
    })
}

/// The device manager keeps a link for each uuid.
fn uuid_by_links(device: u64) -> Option<String> {
    fs::read_dir("/dev/disk/by-uuid").ok()?.flatten().find_map(|entry| {
        let is_it = fs::metadata(entry.path()).is_ok_and(|m| m.rdev() == device);
        is_it.then(|| entry.file_name().to_string_lossy().into_owned())
    })
}

fn is_mount_point(path: &Path, device: u64) -> bool {
    match path.parent() {
        None => true,
        Some(parent) => fs::metadata(parent).is_ok_and(|m| m.dev() != device),
    }
}

/// What is mounted below a folder, as paths in it. A folder of the same filesystem that is mounted there shows no other
/// device, so that the list of mounts is asked (`proc_pid_mountinfo(5)`: the fifth field, spaces and the like in octal).
pub(super) fn mounts_below(root: &Path) -> Vec<RelPath> {
    let Ok(root) = root.canonicalize() else { return Vec::new() };
    let Ok(mounts) = fs::read("/proc/self/mountinfo") else { return Vec::new() };
    let below = |line: &[u8]| {
        let place = unescaped(line.split(|byte| *byte == b' ').nth(4)?);
        let rest = Path::new(OsStr::from_bytes(&place)).strip_prefix(&root).ok()?;
        let path = RelPath::new(rest.as_os_str().as_bytes()).ok()?;
        (!path.is_root()).then_some(path)
    };
    mounts.split(|byte| *byte == b'\n').filter_map(below).collect()
}

fn unescaped(field: &[u8]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(field.len());
    let mut rest = field;
    while let Some((first, after)) = rest.split_first() {
        let octal = after.first_chunk::<3>().filter(|_| *first == b'\\');
        let digits = octal.and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[3..];
            }
            None => {
                bytes.push(*first);
                rest = after;
            }
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mount_point_is_read_with_all_its_characters() {
        assert_eq!(unescaped(b"/mnt/alder/dawn\\040chorus"), b"/mnt/alder/dawn chorus");
        assert_eq!(unescaped(b"/mnt/a\\9"), b"/mnt/a\\9");
    }
}
