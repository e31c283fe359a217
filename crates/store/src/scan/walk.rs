//! Walking a disk in tree order, a folder at a time.

use ignore::gitignore::{Gitignore, GitignoreBuilder};
use sieve_core::path::{OUR_FOLDER, RelPath};

use crate::disk::{Disk, EntryKind, Stat, full_path};
use crate::error::{Error, Kind, Result};
use crate::member::held_folder;
use crate::pieces;

/// One thing that was found.
#[derive(Clone, Copy, Debug)]
pub(super) struct Found {
    pub(super) stat: Stat,
    pub(super) left_out: bool,
}

/// A walk over a disk. Its place is a tree key, so that nothing is allocated for a file that is as it was.
pub(super) struct Walk<'a> {
    disk: &'a dyn Disk,
    device: u64,
    leave_out: Gitignore,
    /// The folders that the walk is in, the innermost last.
    frames: Vec<Frame>,
    /// The tree key of what was found last.
    key: Vec<u8>,
    pub(super) left_alone: Vec<String>,
}

/// A folder while it is walked.
struct Frame {
    path: RelPath,
    left_out: bool,
    /// What is still to be visited, the next one last.
    entries: Vec<(Vec<u8>, Stat)>,
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
        let (frames, key, left_alone) = (Vec::new(), Vec::new(), Vec::new());
        let mut walk = Self { disk, device, leave_out, frames, key, left_alone };
        walk.enter(RelPath::ROOT, false)?;
        Ok(walk)
    }

    fn enter(&mut self, path: RelPath, left_out: bool) -> Result<()> {
        let mut entries = self.disk.read_folder(&path)?;
        if path.is_root() {
            entries.retain(|(name, _)| name != b"lost+found");
        }
        entries.sort_unstable_by(|a, b| b.0.cmp(&a.0));
        self.frames.push(Frame { path, left_out, entries });
        Ok(())
    }

    /// The next entry in tree order; of our own folder only what is held, and pieces.
    pub(super) fn next(&mut self) -> Result<Option<Found>> {
        while let Some(frame) = self.frames.last_mut() {
            let Some((name, stat)) = frame.entries.pop() else {
                self.frames.pop();
                continue;
            };
            if frame.path.is_root() && name == OUR_FOLDER {
                // The one entered last is walked first.
                for folder in [pieces::folder(), held_folder()] {
                    if self.disk.stat(&folder)?.is_some_and(|s| s.kind == EntryKind::Folder) {
                        self.enter(folder, false)?;
                    }
                }
                continue;
            }
            if let Some(found) = self.visit(&name, stat)? {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    fn visit(&mut self, name: &[u8], stat: Stat) -> Result<Option<Found>> {
        let frame = self.frames.last().expect("an entry was just taken from it");
        self.key.clear();
        self.key.extend(frame.path.as_bytes().iter().map(|b| if *b == b'/' { 0 } else { *b }));
        if !self.key.is_empty() {
            self.key.push(0);
        }
        self.key.extend_from_slice(name);
        if matches!(stat.kind, EntryKind::File | EntryKind::Symlink) && self.leave_out.is_empty() {
            // The usual case, and the only one that happens a million times; the system gives no invalid names.
            return Ok(Some(Found { stat, left_out: frame.left_out && !frame.path.is_ours() }));
        }
        let path = match frame.path.join(name) {
            Ok(path) => path,
            Err(why) => {
                self.left_alone.push(format!("{}: {why}", full_path(self.disk, &frame.path).display()));
                return Ok(None);
            }
        };
        let is_folder = stat.kind == EntryKind::Folder;
        if is_folder && stat.device != self.device {
            let place = full_path(self.disk, &path);
            self.left_alone.push(format!("{}: another filesystem is mounted here", place.display()));
            return Ok(None);
        }
        if stat.kind == EntryKind::Special {
            let place = full_path(self.disk, &path);
            self.left_alone.push(format!("{}: a socket, device or pipe", place.display()));
        }
        let left_out = self.is_left_out(&path, is_folder, frame.left_out);
        if is_folder {
            self.enter(path, left_out)?;
        }
        Ok(Some(Found { stat, left_out }))
    }

    /// The tree key of what was found last.
    pub(super) fn key(&self) -> &[u8] {
        &self.key
    }

    /// The path of what was found last.
    pub(super) fn path(&self) -> RelPath {
        RelPath::from_tree_key(&self.key).expect("names that the system lists make a valid path")
    }

    fn is_left_out(&self, path: &RelPath, is_folder: bool, parent: bool) -> bool {
        use std::os::unix::ffi::OsStrExt;
        let text = std::path::Path::new(std::ffi::OsStr::from_bytes(path.as_bytes()));
        let verdict = self.leave_out.matched(text, is_folder);
        !path.is_ours() && (verdict.is_ignore() || (parent && !verdict.is_whitelist()))
    }
}
