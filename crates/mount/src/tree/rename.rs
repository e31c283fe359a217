//! Renaming: a file stays on its disk, a folder is renamed on every disk that has it.

use rustix::fs::{self as sys, RenameFlags, Stat};
use rustix::io::Errno;
use sieve_core::path::RelPath;

use crate::tree::number::Number;
use crate::tree::volume::{Found, Volume};

impl Volume {
    /// Renames something, over what has the name where that is wanted.
    pub(crate) fn rename(
        &self,
        from: (Number, &[u8]),
        to: (Number, &[u8]),
        flags: RenameFlags,
    ) -> Result<(), Errno> {
        self.for_writing()?;
        let (old, new) = (self.child(from.0, from.1)?, self.child(to.0, to.1)?);
        let source = self.find(&old)?.ok_or(Errno::NOENT)?;
        let target = self.find(&new)?;
        if flags.contains(RenameFlags::NOREPLACE) && target.is_some() {
            return Err(Errno::EXIST);
        }
        if flags.contains(RenameFlags::EXCHANGE) {
            self.exchange(&old, &new)?;
            self.nodes.exchange(from, to);
            return Ok(());
        }
        if old == new {
            return Ok(());
        }
        match (&source, target) {
            (_, Some(Found::Absent(_))) | (Found::Absent(_), _) => return Err(Errno::ROFS),
            // A file in pieces says in each of them what it is called: it is copied, as from one filesystem to another.
            (Found::Pieced(..), _) => return Err(Errno::XDEV),
            (Found::Folder(copies), target) => self.rename_folder(&old, &new, copies, target)?,
            (Found::Thing(..), Some(Found::Folder(_))) => return Err(Errno::ISDIR),
            (Found::Thing(first, stat), target) => {
                if let Some(Found::Thing(other, there)) = &target
                    && (first, stat.st_ino) == (other, there.st_ino)
                {
                    // Two names of one file: both stay, as the standard has it.
                    return Ok(());
                }
                self.rename_file(&old, &new, *first, target)?;
            }
        }
        self.nodes.rename(from, to);
        Ok(())
    }

    /// A file stays on its disk, or disks.
    fn rename_file(
        &self,
        old: &RelPath,
        new: &RelPath,
        first: usize,
        target: Option<Found>,
    ) -> Result<(), Errno> {
        let on = self.copies_of(old, first)?;
        for position in &on {
            let branch = &self.branches[*position];
            self.make_folders(*position, new.parent().as_ref())?;
            let rename = || {
                branch.at(new, |folder, name| {
                    branch.at(old, |from, old_name| sys::renameat(from, old_name, folder, name))
                })
            };
            let replaces = match branch.stat(new)? {
                Some(stat) => self.is_past(branch, new, &stat)?,
                None => false,
            };
            let rename = || if replaces { self.past.hold_replaced(branch, new, rename) } else { rename() };
            if self.is_known(branch, old)? {
                self.past.keeping(branch, old, new, rename)?;
            } else {
                rename()?;
            }
        }
        // What had the name on other disks goes after the new one has it: the name is never missing.
        match target {
            Some(Found::Thing(there, _)) => {
                for position in self.copies_of(new, there)?.into_iter().chain([there]) {
                    if !on.contains(&position) && self.branches[position].stat(new)?.is_some() {
                        self.take_away(position, new, true)?;
                    }
                }
            }
            Some(Found::Pieced(file, _)) => self.unlink_pieces(&file)?,
            _ => {}
        }
        Ok(())
    }

    /// A folder is renamed on every disk that has it. What is to be done is written down first: a crash between two disks would
    /// leave it under both names.
    fn rename_folder(
        &self,
        old: &RelPath,
        new: &RelPath,
        copies: &[(usize, Stat)],
        target: Option<Found>,
    ) -> Result<(), Errno> {
        match target {
            None => {}
            Some(Found::Folder(there)) => {
                self.refuse_full(new)?;
                self.remove_copies(new, &there)?;
            }
            Some(_) => return Err(Errno::NOTDIR),
        }
        let intent = if copies.len() > 1 { Some(self.intents.begin(old, new)?) } else { None };
        for (position, _) in copies {
            self.finish_rename(*position, old, new)?;
            self.branches[*position].forget_folders();
        }
        intent.map_or(Ok(()), |intent| self.intents.end(&intent))
    }

    /// One disk of a rename that was cut off.
    pub(crate) fn finish_rename(&self, position: usize, old: &RelPath, new: &RelPath) -> Result<(), Errno> {
        self.make_folders(position, new.parent().as_ref())?;
        self.branches[position].at(new, |folder, name| {
            self.branches[position].at(old, |from, old_name| {
                sys::renameat_with(from, old_name, folder, name, RenameFlags::NOREPLACE)
            })
        })
    }

    /// Two names change places, where both lie on the same disks.
    fn exchange(&self, one: &RelPath, other: &RelPath) -> Result<(), Errno> {
        let on = |path: &RelPath| -> Result<Vec<usize>, Errno> {
            match self.find(path)?.ok_or(Errno::NOENT)? {
                Found::Folder(copies) => Ok(copies.into_iter().map(|(position, _)| position).collect()),
                Found::Thing(first, _) => self.copies_of(path, first),
                Found::Absent(_) => Err(Errno::ROFS),
                Found::Pieced(..) => Err(Errno::XDEV),
            }
        };
        let disks = on(one)?;
        if disks != on(other)? {
            return Err(Errno::XDEV);
        }
        for position in disks {
            let branch = &self.branches[position];
            branch.at(other, |folder, name| {
                branch.at(one, |first, first_name| {
                    sys::renameat_with(first, first_name, folder, name, RenameFlags::EXCHANGE)
                })
            })?;
            branch.forget_folders();
        }
        Ok(())
    }
}
