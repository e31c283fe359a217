//! Walking a disk, a folder at a time: each before those in it.

use ignore::gitignore::{Gitignore, GitignoreBuilder};
use sieve_core::layout::OurPlace;
use sieve_core::path::{OUR_FOLDER, RelPath};

use sieve_disk::{Disk, EntryKind, Stat, full_path};
use sieve_disk::{Error, Kind, Result};

/// Something in a folder.
pub(super) struct Entry {
    pub(super) name: Vec<u8>,
    pub(super) stat: Stat,
    pub(super) left_out: bool,
}

/// A folder with what is in it.
pub(super) struct Listing {
    pub(super) path: RelPath,
    /// How the folder looked before it was read; nothing if it is not there.
    pub(super) stat: Option<Stat>,
    /// In the order of their names.
    pub(super) entries: Vec<Entry>,
    /// Something in it was told, and has to be told by every scan.
    pub(super) is_told: bool,
    /// Names of folders in it whose content cannot be seen now.
    pub(super) out_of_sight: Vec<Vec<u8>>,
}

impl Listing {
    pub(super) fn is_ours(&self) -> bool {
        self.path.is_ours()
    }
}

/// A folder that is to be walked.
struct Ahead {
    path: RelPath,
    stat: Option<Stat>,
    left_out: bool,
}

/// A walk over a disk.
pub(super) struct Walk<'a> {
    disk: &'a dyn Disk,
    device: u64,
    leave_out: Gitignore,
    /// The folders that are still to be walked, the next one last.
    ahead: Vec<Ahead>,
    pub(super) left_alone: Vec<String>,
    /// Folders whose content cannot be seen: an absence there is no deletion (L7).
    pub(super) out_of_sight: Vec<OutOfSight>,
    /// Folders that something else is mounted over.
    covered: Vec<RelPath>,
}

/// A folder whose content cannot be seen.
pub struct OutOfSight {
    /// The folder.
    pub path: RelPath,
    /// Why, in words.
    pub why: String,
}

/// What a walk finds at a path that it was sent to.
pub(super) enum Reached {
    /// A folder: what is in it comes next.
    Folder(Stat),
    /// Something else.
    Other(Stat, bool),
    /// Nothing.
    Nothing,
    /// A folder around it whose content cannot be seen.
    OutOfSight,
}

impl<'a> Walk<'a> {
    /// A walk that goes nowhere yet.
    fn still(disk: &'a dyn Disk, leave_out: &[String]) -> Result<Self> {
        let mut builder = GitignoreBuilder::new("");
        for pattern in leave_out {
            builder.add_line(None, pattern).map_err(|e| {
                Error::new(Kind::Usage, "pool-file.leave-out", format!("leave_out: `{pattern}`: {e}"))
            })?;
        }
        let leave_out = builder
            .build()
            .map_err(|e| Error::new(Kind::Usage, "pool-file.leave-out", format!("leave_out: {e}")))?;
        let (device, covered) = (disk.filesystem()?.device, disk.covered());
        let (left_alone, out_of_sight) = (Vec::new(), Vec::new());
        Ok(Self { disk, device, leave_out, ahead: Vec::new(), left_alone, out_of_sight, covered })
    }

    pub(super) fn begin(disk: &'a dyn Disk, leave_out: &[String]) -> Result<Self> {
        let mut walk = Self::still(disk, leave_out)?;
        let root = Ahead { path: RelPath::ROOT, stat: disk.stat(&RelPath::ROOT)?, left_out: false };
        walk.ahead.push(root);
        // Of our own folder only what is held, and pieces.
        for path in [OurPlace::Pieces.path(), OurPlace::Held.path()] {
            let stat = disk.stat(&path)?.filter(|stat| stat.kind == EntryKind::Folder);
            walk.ahead.push(Ahead { path, stat, left_out: false });
        }
        Ok(walk)
    }

    /// A walk over what is at some paths, and below them: [`Self::reach`] sends it there.
    pub(super) fn begin_at(disk: &'a dyn Disk, leave_out: &[String]) -> Result<Self> {
        Self::still(disk, leave_out)
    }

    /// Goes down to a path, folder by folder, as the walk from the root would; a symlink is not followed.
    pub(super) fn reach(&mut self, path: &RelPath) -> Result<Reached> {
        let (mut here, mut left_out) = (RelPath::ROOT, false);
        let names: Vec<&[u8]> = path.as_bytes().split(|byte| *byte == b'/').collect();
        for (depth, name) in names.iter().enumerate() {
            here = match here.join(name) {
                Ok(below) => below,
                Err(_) => return Ok(Reached::Nothing),
            };
            let Some(stat) = self.disk.stat(&here)? else { return Ok(Reached::Nothing) };
            let is_folder = stat.kind == EntryKind::Folder;
            left_out = self.is_left_out(&here, is_folder, left_out);
            if is_folder && (stat.device != self.device || self.covered.contains(&here)) {
                let place = full_path(self.disk, &here);
                let why = format!("{}: another filesystem is mounted here", place.display());
                self.out_of_sight.push(OutOfSight { path: here, why });
                return Ok(Reached::OutOfSight);
            }
            let is_last = depth + 1 == names.len();
            match (is_last, is_folder) {
                (true, true) => {
                    self.ahead.push(Ahead { path: here, stat: Some(stat), left_out });
                    return Ok(Reached::Folder(stat));
                }
                (true, false) => return Ok(Reached::Other(stat, left_out)),
                (false, true) => {}
                (false, false) => return Ok(Reached::Nothing),
            }
        }
        Ok(Reached::Nothing)
    }

    /// The next folder.
    pub(super) fn next(&mut self) -> Result<Option<Listing>> {
        let Some(Ahead { path, stat, left_out }) = self.ahead.pop() else { return Ok(None) };
        let mut listing =
            Listing { path, stat, entries: Vec::new(), is_told: false, out_of_sight: Vec::new() };
        if stat.is_none() {
            return Ok(Some(listing));
        }
        let mut found = match self.disk.read_folder(&listing.path) {
            Ok(found) => found,
            // It went while it was walked: so did what was in it.
            Err(error)
                if error.io_kind() == Some(std::io::ErrorKind::NotFound) && !listing.path.is_root() =>
            {
                listing.stat = None;
                return Ok(Some(listing));
            }
            Err(error) if !listing.path.is_root() => {
                self.out_of_sight.push(OutOfSight { path: listing.path, why: error.message });
                return self.next();
            }
            Err(error) => return Err(error),
        };
        if listing.path.is_root() {
            found.retain(|(name, _)| name != b"lost+found" && name != OUR_FOLDER);
        }
        found.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        let (told, first) = (self.left_alone.len(), self.ahead.len());
        listing.entries.reserve_exact(found.len());
        for (name, stat) in found {
            self.visit(&mut listing, name, stat, left_out);
        }
        // The one put there last is walked first.
        self.ahead[first..].reverse();
        listing.is_told = self.left_alone.len() > told;
        Ok(Some(listing))
    }

    fn visit(&mut self, listing: &mut Listing, name: Vec<u8>, stat: Stat, left_out: bool) {
        if matches!(stat.kind, EntryKind::File | EntryKind::Symlink) && self.leave_out.is_empty() {
            // The usual case, and the only one that happens a million times; the system gives no invalid names.
            let left_out = left_out && !listing.is_ours();
            return listing.entries.push(Entry { name, stat, left_out });
        }
        let path = match listing.path.join(&name) {
            Ok(path) => path,
            Err(why) => {
                let place = full_path(self.disk, &listing.path);
                return self.left_alone.push(format!("{}: {why}", place.display()));
            }
        };
        let place = || full_path(self.disk, &path).display().to_string();
        let is_folder = stat.kind == EntryKind::Folder;
        if is_folder && (stat.device != self.device || self.covered.contains(&path)) {
            let why = format!("{}: another filesystem is mounted here", place());
            listing.out_of_sight.push(name);
            return self.out_of_sight.push(OutOfSight { path, why });
        }
        if stat.kind == EntryKind::Special {
            self.left_alone.push(format!("{}: a socket, device or pipe", place()));
        }
        let left_out = self.is_left_out(&path, is_folder, left_out);
        if is_folder {
            self.ahead.push(Ahead { path, stat: Some(stat), left_out });
        }
        listing.entries.push(Entry { name, stat, left_out });
    }

    fn is_left_out(&self, path: &RelPath, is_folder: bool, parent: bool) -> bool {
        use std::os::unix::ffi::OsStrExt;
        let text = std::path::Path::new(std::ffi::OsStr::from_bytes(path.as_bytes()));
        let verdict = self.leave_out.matched(text, is_folder);
        !path.is_ours() && (verdict.is_ignore() || (parent && !verdict.is_whitelist()))
    }
}
