//! Walking a disk in tree order, a folder at a time.

use ignore::gitignore::{Gitignore, GitignoreBuilder};
use sieve_core::path::{OUR_FOLDER, RelPath};

use crate::disk::{Disk, EntryKind, Stat, full_path};
use crate::error::{Error, Kind, Result};
use crate::member::held_folder;

/// One thing that was found.
pub(super) struct Found {
    pub(super) path: RelPath,
    pub(super) stat: Stat,
    pub(super) left_out: bool,
}

/// A walk over a disk.
pub(super) struct Walk<'a> {
    disk: &'a dyn Disk,
    device: u64,
    leave_out: Gitignore,
    /// Names still to be visited, the next one last, with whether their folder is left out.
    pending: Vec<(RelPath, bool)>,
    pub(super) left_alone: Vec<String>,
}

impl<'a> Walk<'a> {
    pub(super) fn begin(disk: &'a dyn Disk, leave_out: &[String]) -> Result<Self> {
        let mut builder = GitignoreBuilder::new("");
        for pattern in leave_out {
            builder.add_line(None, pattern).map_err(|e| {
                Error::new(Kind::Usage, "pool-file.leave-out", format!("leave_out: `{pattern}`: {e}"))
            })?;
        }
        let leave_out = builder
            .build()
            .map_err(|e| Error::new(Kind::Usage, "pool-file.leave-out", format!("leave_out: {e}")))?;
        let device = disk.filesystem()?.device;
        let mut walk = Self { disk, device, leave_out, pending: Vec::new(), left_alone: Vec::new() };
        walk.enter(&RelPath::ROOT, false)?;
        Ok(walk)
    }

    fn enter(&mut self, folder: &RelPath, left_out: bool) -> Result<()> {
        let mut names = self.disk.list(folder)?;
        names.sort_unstable_by(|a, b| b.cmp(a));
        for name in names {
            if folder.is_root() && name == b"lost+found" {
                continue;
            }
            match folder.join(&name) {
                Ok(path) => self.pending.push((path, left_out)),
                Err(why) => {
                    self.left_alone.push(format!("{}: {why}", full_path(self.disk, folder).display()));
                }
            }
        }
        Ok(())
    }

    /// The next entry in tree order; of our own folder only what is held.
    pub(super) fn next(&mut self) -> Result<Option<Found>> {
        while let Some((path, parent_left_out)) = self.pending.pop() {
            if path.as_bytes() == OUR_FOLDER {
                if self.disk.stat(&held_folder())?.is_some_and(|s| s.kind == EntryKind::Folder) {
                    self.enter(&held_folder(), false)?;
                }
                continue;
            }
            let Some(stat) = self.disk.stat(&path)? else { continue };
            let is_folder = stat.kind == EntryKind::Folder;
            if is_folder && stat.device != self.device {
                let place = full_path(self.disk, &path);
                self.left_alone.push(format!("{}: another filesystem is mounted here", place.display()));
                continue;
            }
            if stat.kind == EntryKind::Special {
                let place = full_path(self.disk, &path);
                self.left_alone.push(format!("{}: a socket, device or pipe", place.display()));
            }
            let left_out = self.is_left_out(&path, is_folder, parent_left_out);
            if is_folder {
                self.enter(&path, left_out)?;
            }
            return Ok(Some(Found { path, stat, left_out }));
        }
        Ok(None)
    }

    fn is_left_out(&self, path: &RelPath, is_folder: bool, parent: bool) -> bool {
        use std::os::unix::ffi::OsStrExt;
        let text = std::path::Path::new(std::ffi::OsStr::from_bytes(path.as_bytes()));
        let verdict = self.leave_out.matched(text, is_folder);
        !path.is_ours() && (verdict.is_ignore() || (parent && !verdict.is_whitelist()))
    }
}
