//! Whether a filesystem can do what the laws need: tried out in our own folder, before a disk becomes a member.

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::DiskSpec;

use super::{Disk, Filesystem};
use crate::durable;
use crate::{Error, Kind, Result};

/// Refuses a filesystem that nothing is known by: a member could not be told from whatever is mounted there next (I5).
///
/// # Errors
/// When it has no id.
pub fn refuse_nameless(filesystem: &Filesystem, place: &str) -> Result<()> {
    if filesystem.id.0 != "fsid:0000000000000000" {
        return Ok(());
    }
    let message = format!("the filesystem at {place} has no id by which it could be recognised again");
    Err(Error::new(Kind::Safety, "disk.no-id", message)
        .remedy("use a filesystem with a uuid (ext4, xfs, btrfs)"))
}

/// Refuses a folder where a disk should be mounted: what is written there fills the filesystem around it, and is hidden as soon
/// as the disk is mounted. The pool file can say that it is meant so.
///
/// # Errors
/// When it is no mount point.
pub fn refuse_unmounted(spec: Option<&DiskSpec>, filesystem: &Filesystem, place: &str) -> Result<()> {
    let is_meant_so = spec.is_some_and(|spec| spec.simulated || spec.shares_filesystem);
    if filesystem.is_mount_point || is_meant_so {
        return Ok(());
    }
    let name = spec.map_or_else(|| "the disk".to_string(), |spec| format!("disk {}", spec.name));
    let message = format!("nothing is mounted at {place}: it is a folder on the filesystem around it");
    Err(Error::new(Kind::Safety, "disk.not-mounted", message).remedy(format!(
        "mount {name} there; if a folder on another filesystem is meant, write shares_filesystem = true in its [[disk]] section of the pool file"
    )))
}

/// Refuses a filesystem without hard links: those that have none (FAT, exFAT) give files other inodes at each mount, so that
/// every file would seem to be another one.
///
/// # Errors
/// When it has none, or what the disk says.
pub fn refuse_unfit(disk: &dyn Disk, place: &str) -> Result<()> {
    let folder = OurPlace::Fitness.path();
    durable::make_own_folder(disk, &folder)?;
    empty(disk, &folder)?; // a killed run may have left its own
    let [one, other] = [b"one", b"two"].map(|name| folder.join(&name[..]).expect("a valid name"));
    let tried = disk.modify(&one).and_then(|file| {
        drop(file);
        disk.link(&one, &other)
    });
    empty(disk, &folder)?;
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

fn empty(disk: &dyn Disk, folder: &RelPath) -> Result<()> {
    let names = disk.list(folder)?;
    names.iter().try_for_each(|name| disk.remove_file(&folder.join(name).expect("it was listed")))
}

fn is_missing(error: &Error) -> bool {
    use std::io::ErrorKind::{PermissionDenied, Unsupported};
    matches!(error.io_kind(), Some(PermissionDenied | Unsupported))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::RealDisk;

    #[test]
    fn what_a_killed_trial_left_is_no_obstacle_to_the_next() {
        let folder = tempfile::tempdir().unwrap();
        let disk = RealDisk::open(folder.path()).unwrap();
        let left = OurPlace::Fitness.path();
        durable::make_own_folder(&disk, &left).unwrap();
        for name in ["one", "two"] {
            drop(disk.modify(&left.join(name.as_bytes()).unwrap()).unwrap());
        }
        refuse_unfit(&disk, "there").unwrap();
        assert!(disk.stat(&left).unwrap().is_none());
    }
}
