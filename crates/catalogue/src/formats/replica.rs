//! Replicas of the catalogue on the members. The name of a replica says which checkpoint it is of.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{CheckpointId, DiskId};

use crate::parity_state;
use crate::parity_state::Checkpoint;
use crate::{Catalogue, disks, intents, private_folder};
use sieve_disk::copying;
use sieve_disk::durable;
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, full_path};
use sieve_disk::{Error, Kind, Result};

/// Which checkpoint a replica is of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Stamp {
    /// The checkpoint's number.
    pub number: u64,
    /// The checkpoint's id.
    pub id: CheckpointId,
}

fn path_of(stamp: Stamp) -> RelPath {
    let name = format!("replica-{:012}-{:016x}.sqlite", stamp.number, stamp.id.get());
    OurPlace::Folder.with(&name)
}

fn stamp_of(name: &[u8]) -> Option<Stamp> {
    let name = std::str::from_utf8(name).ok()?;
    let (number, id) = name.strip_prefix("replica-")?.strip_suffix(".sqlite")?.split_once('-')?;
    Some(Stamp { number: number.parse().ok()?, id: CheckpointId::new(u64::from_str_radix(id, 16).ok()?) })
}

fn all_on(disk: &dyn Disk) -> Result<Vec<Stamp>> {
    if disk.stat(&OurPlace::Folder.path())?.is_none() {
        return Ok(Vec::new());
    }
    let mut stamps: Vec<Stamp> =
        disk.list(&OurPlace::Folder.path())?.iter().filter_map(|name| stamp_of(name)).collect();
    stamps.sort_unstable();
    Ok(stamps)
}

/// The newest replica on a disk.
///
/// # Errors
/// What the disk says.
pub fn newest_on(disk: &dyn Disk) -> Result<Option<Stamp>> {
    Ok(all_on(disk)?.pop())
}

/// A copy of the catalogue as it is now, to be put on members. It is removed when dropped.
pub struct Export {
    path: PathBuf,
    stamp: Stamp,
}

impl Export {
    /// Takes the copy, beside the catalogue.
    ///
    /// # Errors
    /// When there is no checkpoint yet, or the copy cannot be written.
    pub fn take(catalogue: &Catalogue) -> Result<Self> {
        let head = parity_state::head(catalogue.reading())?.ok_or_else(|| {
            Error::new(Kind::Internal, "replica.no-checkpoint", "the pool has no checkpoint yet")
        })?;
        let path = catalogue.path().with_extension(format!("export-{}", std::process::id()));
        let export = Self { path, stamp: Stamp { number: head.number, id: head.id } };
        export.remove();
        catalogue.copy_to(&export.path)?;
        Ok(export)
    }

    #[expect(clippy::disallowed_methods, reason = "a passing copy beside the catalogue, on no member")]
    fn remove(&self) {
        // There may be none; and what cannot be removed now is overwritten next time.
        let _ = std::fs::remove_file(&self.path);
    }

    /// As [`Self::put_on`], for a disk that other people fill as well; tells whether there was room for it.
    ///
    /// # Errors
    /// What the disk says, but that it is full.
    pub fn put_where_it_fits(&self, disk: &dyn Disk, id: DiskId, catalogue: &Catalogue) -> Result<bool> {
        match self.put_on(disk, id, catalogue) {
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::StorageFull) => Ok(false),
            other => other.map(|()| true),
        }
    }

    /// Puts the copy on a member and removes the older replicas there.
    ///
    /// # Crash safety
    /// The older replica goes only after the new one is durable under its name.
    ///
    /// # Errors
    /// What the disk says.
    pub fn put_on(&self, disk: &dyn Disk, id: DiskId, catalogue: &Catalogue) -> Result<()> {
        self.put_on_disk(disk)?;
        catalogue.transaction(|t| disks::set_replica(t, id, self.stamp.number))
    }

    /// As [`Self::put_on`], for a disk that is to become a member.
    ///
    /// # Errors
    /// What the disk says.
    pub fn put_on_disk(&self, disk: &dyn Disk) -> Result<()> {
        let before = all_on(disk)?;
        let new = OurPlace::ReplicaNew.path();
        let home = sieve_disk::RealDisk::open(self.path.parent().unwrap_or(Path::new("/")))?;
        let name = self.path.file_name().map(std::os::unix::ffi::OsStrExt::as_bytes).unwrap_or_default();
        let from = RelPath::new(name)
            .map_err(|e| Error::new(Kind::Internal, "replica.name", format!("the export's name: {e}")))?;
        if let Err(error) = copy(&home, &from, disk, &new) {
            // What there is of it would only take room.
            if disk.stat(&new)?.is_some() {
                disk.remove_file(&new)?;
            }
            return Err(error);
        }
        durable::publish_over(disk, &new, &path_of(self.stamp))?;
        for old in before.into_iter().filter(|old| *old != self.stamp) {
            disk.remove_file(&path_of(old))?;
        }
        disk.sync_folder(&OurPlace::Folder.path())
    }
}

impl Drop for Export {
    fn drop(&mut self) {
        self.remove();
    }
}

fn copy(from: &dyn Disk, source: &RelPath, to: &dyn Disk, target: &RelPath) -> Result<()> {
    let mut input = from.open(source)?;
    let mut output = to.modify(target)?;
    output.set_length(0)?;
    copying::copy(&mut *input, &mut *output, |_| Ok(()))
}

/// Brings the replica on a disk to a private folder, and opens it.
///
/// What is under way is never taken from a disk's word (L4): intents in a replica are dropped.
///
/// # Errors
/// When it cannot be copied, or is damaged, or is not what its name says.
pub fn fetch_private(disk: &dyn Disk, stamp: Stamp, machine: Arc<dyn Machine>) -> Result<Catalogue> {
    let folder = private_folder()?;
    let path = RelPath::fixed("replica.sqlite");
    copy(disk, &path_of(stamp), &sieve_disk::RealDisk::open(folder.path())?, &path)?;
    let place = full_path(disk, &path_of(stamp));
    let catalogue = Catalogue::open_private(folder, "replica.sqlite", machine).map_err(|mut error| {
        error.message = format!("{}: {}", place.display(), error.message);
        error
    })?;
    catalogue.check_integrity()?;
    let head = parity_state::head(catalogue.reading())?;
    if head.is_none_or(|h: Checkpoint| h.id != stamp.id || h.number != stamp.number) {
        let message =
            format!("{}: this replica is not of the checkpoint that its name says", place.display());
        return Err(Error::new(Kind::Corrupt, "replica.wrong-name", message));
    }
    catalogue.transaction(|t| intents::remove_where(t, |_| true))?;
    Ok(catalogue)
}
