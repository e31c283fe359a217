//! Whether a filesystem can do what the laws need: tried out in our own folder, before a disk becomes a member.

use sieve_core::path::RelPath;

use super::{Disk, Filesystem};
use crate::durable;
use crate::error::{Error, Kind, Result};

/// Refuses a filesystem that nothing is known by: a member could not be told from whatever is mounted there next (I5).
///
/// # Errors
/// When it has no id.
pub(crate) fn refuse_nameless(filesystem: &Filesystem, place: &str) -> Result<()> {
    if filesystem.id.0 != "fsid:0000000000000000" {
        return Ok(());
    }
    let message = format!("the filesystem at {place} has no id by which it could be recognised again");
    Err(Error::new(Kind::Safety, "disk.no-id", message)
        .remedy("use a filesystem with a uuid (ext4, xfs, btrfs)"))
}

/// Refuses a filesystem without hard links: those that have none (FAT, exFAT) give files other inodes at each mount, so that
/// every file would seem to be another one.
///
/// # Errors
/// When it has none, or what the disk says.
pub(crate) fn refuse_unfit(disk: &dyn Disk, place: &str) -> Result<()> {
    let folder = RelPath::fixed(".zinc-sieve/fitness");
    durable::make_own_folder(disk, &folder)?;
    let [one, other] = [b"one", b"two"].map(|name| folder.join(&name[..]).expect("a valid name"));
    let tried = disk.modify(&one).and_then(|file| {
        drop(file);
        disk.link(&one, &other)
    });
    for name in disk.list(&folder)? {
        disk.remove_file(&folder.join(&name).expect("it was listed"))?;
    }
    disk.remove_folder(&folder)?;
    match tried {
        Ok(()) => Ok(()),
        Err(error) if is_missing(&error) => {
            let message = format!("the filesystem at {place} has no hard links, and so no inodes that stay");
            Err(Error::new(Kind::Safety, "disk.no-links", message)
                .remedy("use ext4, xfs or btrfs: copy what is there elsewhere, and make a new filesystem"))
        }
        Err(error) => Err(error),
    }
}

fn is_missing(error: &Error) -> bool {
    use std::io::ErrorKind::{PermissionDenied, Unsupported};
    matches!(error.io_kind(), Some(PermissionDenied | Unsupported))
}
