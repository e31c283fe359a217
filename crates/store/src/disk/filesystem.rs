//! Which filesystem a folder lies on.

use std::fs;
use std::os::fd::AsFd;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use rustix::fs::{fstat, fstatvfs};
use sieve_core::units::ByteLength;

use super::uuid_ioctl::filesystem_uuid;
use super::{Filesystem, FilesystemId};

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
