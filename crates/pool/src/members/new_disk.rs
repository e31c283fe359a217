//! A folder that is to become a member: what has to hold before.

use std::path::Path;
use std::sync::Arc;

use sieve_core::layout::OurPlace;
use sieve_core::path::{OUR_FOLDER, RelPath};
use sieve_core::pool::DiskSpec;
use sieve_core::units::DiskId;

use crate::pool::Pool;
use sieve_catalogue::label;
use sieve_disk::{Disk, Filesystem, fitness, plain_path};
use sieve_disk::{Error, Kind, Result};

/// A folder that may become a member.
#[derive(Clone)]
pub struct NewDisk {
    /// The folder, as the pool file is to name it.
    pub at: String,
    /// The disk.
    pub disk: Arc<dyn Disk>,
    /// Its filesystem.
    pub filesystem: Filesystem,
    /// It stands in for a real disk.
    pub simulated: bool,
}

/// A folder of ours without a label may be a member whose label was lost.
///
/// # Errors
/// When there is one with anything in it.
pub fn refuse_unlabelled(disk: &dyn Disk, place: &str) -> Result<()> {
    if disk.stat(&OurPlace::Folder.path())?.is_none() {
        return Ok(());
    }
    let listed = disk.list(&OurPlace::Folder.path())?;
    if listed.iter().all(|n| n == b"label.toml.new" || n == b"lock" || n == b"lock.holder" || n == b"fitness")
    {
        return Ok(());
    }
    let message = format!("{place} has a .zinc-sieve folder without a label");
    Err(Error::new(Kind::Safety, "label.missing", message).remedy(
        "it may be a member whose label was lost: look into it; remove the folder only if you are sure",
    ))
}

impl NewDisk {
    /// Opens a folder for the member `takes_place_of`, or for one more, of which the pool file says `spec`.
    ///
    /// # Errors
    /// When it is not there, takes no writes, is a member itself, or its path is no text.
    pub fn open(
        pool: &Pool,
        path: &Path,
        spec: Option<&DiskSpec>,
        takes_place_of: Option<DiskId>,
    ) -> Result<Self> {
        let simulated = spec.is_some_and(|spec| spec.simulated);
        let path = plain_path(path).map_err(|e| {
            let mut error = Error::io("disk.new", path, e);
            error.kind = Kind::Usage;
            error.remedy("create the folder, or mount the new disk there")
        })?;
        let place = path.display();
        let disk = pool.machine.open_disk(&path).map_err(|mut error| {
            error.kind = Kind::Usage;
            error.remedy("create the folder, or mount the new disk there")
        })?;
        let filesystem = disk.filesystem()?;
        if filesystem.read_only {
            return Err(Error::new(Kind::Safety, "disk.read-only", format!("{place} is mounted read-only")));
        }
        if !simulated {
            fitness::refuse_nameless(&filesystem, &place.to_string())?;
            fitness::refuse_unmounted(spec, &filesystem, &place.to_string())?;
        }
        for other in pool.members.iter().filter(|m| Some(m.row.id) != takes_place_of) {
            let same_place = other.disk.as_ref().is_some_and(|d| d.root() == path);
            let same_filesystem = !simulated
                && other.filesystem.as_ref().is_some_and(|f| f.device == filesystem.device)
                && filesystem.is_mount_point;
            if same_place || same_filesystem {
                let message = format!("{place} lies on disk {}, a member of this pool", other.row.name);
                return Err(
                    Error::new(Kind::Safety, "disk.member", message).remedy("use another, empty disk")
                );
            }
        }
        let at = path.to_str().map(str::to_string).ok_or_else(|| {
            let message = format!("{place}: the pool file can name only paths that are text");
            Error::new(Kind::Usage, "disk.new", message)
        })?;
        Ok(Self { at, disk, filesystem, simulated })
    }

    /// The filesystem that its label is to be bound to.
    pub fn bound(&self) -> Option<sieve_disk::FilesystemId> {
        (!self.simulated).then(|| self.filesystem.id.clone())
    }

    /// Refuses a filesystem that cannot do what a member has to; tried out, so only under the locks.
    ///
    /// # Errors
    /// When it cannot, or what the disk says.
    pub fn refuse_unfit(&self) -> Result<()> {
        fitness::refuse_unfit(&*self.disk, &self.at)
    }

    /// Something to think about.
    pub fn doubts(&self) -> Vec<String> {
        let doubt = !self.simulated && !self.filesystem.is_mount_point;
        let text =
            format!("{} is not a mount point: the files will lie on the filesystem around it", self.at);
        doubt.then_some(text).into_iter().collect()
    }

    /// Refuses a disk with a label, or with something of ours that lost its label.
    ///
    /// # Errors
    /// When it has any.
    pub fn refuse_member(&self) -> Result<()> {
        let Some(label) = label::read(&*self.disk)? else { return refuse_unlabelled(&*self.disk, &self.at) };
        let message = format!(
            "{} is a member already: disk {} of pool `{}`",
            self.at, label.disk_name, label.pool_name
        );
        Err(Error::new(Kind::Safety, "label.member", message).remedy(format!(
            "use another disk; if that pool does without it: zinc-sieve wipe {} --was \"{} of {}\"",
            self.at, label.disk_name, label.pool_name
        )))
    }

    /// Refuses a disk with anything on it.
    ///
    /// # Errors
    /// When it is not empty.
    pub fn refuse_used(&self) -> Result<()> {
        let used = self.disk.list(&RelPath::ROOT)?;
        let Some(found) = used.iter().find(|n| *n != b"lost+found" && *n != OUR_FOLDER) else {
            return Ok(());
        };
        let message =
            format!("{} is not empty: there is `{}`", self.at, String::from_utf8_lossy(found).escape_debug());
        Err(Error::new(Kind::Safety, "disk.not-empty", message).remedy("use an empty disk"))
    }
}
