//! Names: making them, taking them away, changing them. A name is one of the whole volume, whichever disks it lies on.

use std::ffi::OsStr;
use std::os::fd::OwnedFd;

use rustix::fs::{self as sys, AtFlags, FileType, Gid, Mode, Stat, Timespec, Timestamps, Uid};
use rustix::io::Errno;
use sieve_core::path::RelPath;
use sieve_disk::{Attributes, EntryKind};

use crate::below::branch::{Branch, by_descriptor, name_of};
use crate::below::knowledge::AbsentThing;
use crate::code_of;
use crate::tree::look::{Look, moment, times_of};
use crate::tree::number::Number;
use crate::tree::volume::{Caller, Found, Volume};

/// What says in a folder who may do what with what is made in it.
const DEFAULT_ACL: &str = "system.posix_acl_default";

/// What a folder is to be like that is made on one more disk.
struct Like {
    attributes: Attributes,
    times: Timestamps,
}

impl Volume {
    /// Makes something of the caller's: created by `make`, then given to him. It is empty until then, and as open as he wants it.
    pub(crate) fn make_owned<T>(
        &self,
        branch: &Branch,
        path: &RelPath,
        mode: u32,
        umask: u32,
        caller: Caller,
        make: impl Fn(&OwnedFd, &OsStr, Mode) -> Result<T, Errno>,
    ) -> Result<T, Errno> {
        let folder = branch.folder(&path.parent().unwrap_or_default())?;
        let parent = sys::fstat(&*folder)?;
        // A default ACL takes the place of the umask.
        let has_acl =
            sys::fgetxattr(&*folder, DEFAULT_ACL, &mut [0_u8; 0][..]).is_ok_and(|length| length > 0);
        let permissions = if has_acl { mode } else { mode & !umask };
        let made =
            branch.at(path, |folder, name| make(folder, name, Mode::from_raw_mode(permissions & 0o7777)))?;
        let hands_down = Mode::from_raw_mode(parent.st_mode).contains(Mode::SGID);
        let gid = if hands_down { parent.st_gid } else { caller.gid };
        let owned = branch.at(path, |folder, name| {
            let stat = sys::statat(folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
            if (stat.st_uid, stat.st_gid) == (caller.uid, gid) {
                return Ok(());
            }
            let (uid, gid) = (Uid::from_raw(caller.uid), Gid::from_raw(gid));
            sys::chownat(folder, name, Some(uid), Some(gid), AtFlags::SYMLINK_NOFOLLOW)?;
            // Giving something away takes its set-id bits.
            let now = Mode::from_raw_mode(stat.st_mode);
            if now.intersects(Mode::SUID | Mode::SGID)
                && FileType::from_raw_mode(stat.st_mode) != FileType::Symlink
            {
                let handle = sys::openat(
                    folder,
                    name,
                    sys::OFlags::PATH | sys::OFlags::NOFOLLOW | sys::OFlags::CLOEXEC,
                    Mode::empty(),
                )?;
                sys::chmod(by_descriptor(&handle), now)?;
            }
            Ok(())
        });
        // An ordinary user gives nothing away, and needs not: all is his.
        match owned {
            Err(Errno::PERM) if !rustix::process::geteuid().is_root() => Ok(made),
            Err(errno) => Err(errno),
            Ok(()) => Ok(made),
        }
    }

    /// Makes the folder of something on a disk that does not have it, with all above it, as the other disks have them. Seen from
    /// the volume nothing happens by that: no folder becomes newer.
    pub(crate) fn make_folders(&self, position: usize, folder: Option<&RelPath>) -> Result<(), Errno> {
        let Some(folder) = folder.filter(|folder| !folder.is_root()) else { return Ok(()) };
        let branch = &self.branches[position];
        if branch.stat(folder)?.is_some() {
            return Ok(());
        }
        self.make_folders(position, folder.parent().as_ref())?;
        let like = self.folder_to_copy(folder)?;
        let made = branch.at(folder, |parent, name| {
            let before = sys::fstat(parent)?;
            sys::mkdirat(parent, name, Mode::RWXU)?;
            sys::futimens(parent, &times_of(&before))
        });
        match made {
            Err(Errno::EXIST) => return Ok(()),
            other => other?,
        }
        let handle = branch.handle(folder)?;
        let (uid, gid) = (Uid::from_raw(like.attributes.uid), Gid::from_raw(like.attributes.gid));
        match sys::chownat(&handle, "", Some(uid), Some(gid), AtFlags::EMPTY_PATH) {
            Err(Errno::PERM) if !rustix::process::geteuid().is_root() => {}
            other => other?,
        }
        for (name, value) in &like.attributes.extended {
            let set = sys::setxattr(by_descriptor(&handle), name_of(name), value, sys::XattrFlags::empty());
            match set {
                // Another kind of filesystem does not have them all.
                Err(Errno::OPNOTSUPP | Errno::PERM | Errno::NOSPC) => {}
                other => other?,
            }
        }
        sys::chmod(by_descriptor(&handle), Mode::from_raw_mode(like.attributes.mode & 0o7777))?;
        sys::utimensat(&handle, "", &like.times, AtFlags::EMPTY_PATH)
    }

    /// A folder as another disk has it, or as one had it that is away.
    fn folder_to_copy(&self, folder: &RelPath) -> Result<Like, Errno> {
        match self.find(folder)? {
            Some(Found::Folder(copies)) => {
                let (from, stat) = &copies[0];
                let extended =
                    self.branches[*from].disk().extended_attributes(folder).map_err(|e| code_of(&e))?;
                let (mode, uid, gid) = (stat.st_mode, stat.st_uid, stat.st_gid);
                let attributes = Attributes { mode, uid, gid, mtime: 0, extended };
                Ok(Like { attributes, times: times_of(stat) })
            }
            Some(Found::Absent(absent)) => match absent.what {
                AbsentThing::Other(node) if node.kind == EntryKind::Folder => {
                    let (tv_sec, tv_nsec) = moment(node.attributes.mtime);
                    let time = Timespec { tv_sec, tv_nsec: tv_nsec.into() };
                    let times = Timestamps { last_access: time, last_modification: time };
                    Ok(Like { attributes: node.attributes, times })
                }
                _ => Err(Errno::NOTDIR),
            },
            Some(_) => Err(Errno::NOTDIR),
            None => Err(Errno::NOENT),
        }
    }

    /// Whether a name is free on all disks, those that are away among them.
    fn refuse_taken(&self, path: &RelPath) -> Result<(), Errno> {
        if self.find(path)?.is_some() { Err(Errno::EXIST) } else { Ok(()) }
    }

    /// How what was just made looks; the kernel knows it from then on.
    fn made(&self, parent: Number, name: &[u8]) -> Result<Look, Errno> {
        let path = self.child(parent, name)?;
        let found = self.find(&path)?.ok_or(Errno::NOENT)?;
        let look = self.look(&found, None);
        self.nodes.learn(parent, name, look.number);
        Ok(look)
    }

    pub(crate) fn make_folder(
        &self,
        parent: Number,
        name: &[u8],
        mode: u32,
        umask: u32,
        caller: Caller,
    ) -> Result<Look, Errno> {
        self.for_writing()?;
        let path = self.child(parent, name)?;
        self.refuse_taken(&path)?;
        let position = self.places.for_folder(&self.branches, &self.knowledge, &path)?;
        self.make_folders(position, path.parent().as_ref())?;
        self.make_owned(&self.branches[position], &path, mode, umask, caller, |folder, name, mode| {
            sys::mkdirat(folder, name, mode)
        })?;
        self.made(parent, name)
    }

    pub(crate) fn make_symlink(
        &self,
        parent: Number,
        name: &[u8],
        target: &OsStr,
        caller: Caller,
    ) -> Result<Look, Errno> {
        self.make_thing(parent, name, 0o777, 0, caller, |folder, name, _| {
            sys::symlinkat(target, folder, name)
        })
    }

    /// Makes a file, pipe, socket or device without opening it.
    pub(crate) fn make_node(
        &self,
        parent: Number,
        name: &[u8],
        (mode, umask, device): (u32, u32, u32),
        caller: Caller,
    ) -> Result<Look, Errno> {
        let kind = FileType::from_raw_mode(mode);
        let (major, minor) = (device >> 8 & 0xfff, (device & 0xff) | (device >> 12 & 0xf_ff00));
        let device = sys::makedev(major, minor);
        self.make_thing(parent, name, mode, umask, caller, |folder, name, mode| {
            sys::mknodat(folder, name, kind, mode, device)
        })
    }

    fn make_thing(
        &self,
        parent: Number,
        name: &[u8],
        mode: u32,
        umask: u32,
        caller: Caller,
        make: impl Fn(&OwnedFd, &OsStr, Mode) -> Result<(), Errno>,
    ) -> Result<Look, Errno> {
        self.for_writing()?;
        let path = self.child(parent, name)?;
        self.refuse_taken(&path)?;
        for position in self.places.for_file(&self.branches, &self.knowledge, &path)? {
            self.make_folders(position, path.parent().as_ref())?;
            self.make_owned(&self.branches[position], &path, mode, umask, caller, &make)?;
        }
        self.made(parent, name)
    }

    /// A further name of a file: on the disk that it lies on.
    pub(crate) fn link(&self, number: Number, parent: Number, name: &[u8]) -> Result<Look, Errno> {
        self.for_writing()?;
        let (from, to) = (self.path(number)?, self.child(parent, name)?);
        self.refuse_taken(&to)?;
        let Some(Found::Thing(first, _)) = self.find(&from)? else { return Err(Errno::PERM) };
        for position in self.copies_of(&from, first)? {
            let branch = &self.branches[position];
            self.make_folders(position, to.parent().as_ref())?;
            branch.at(&to, |folder, name| {
                branch.at(&from, |old, old_name| sys::linkat(old, old_name, folder, name, AtFlags::empty()))
            })?;
        }
        self.made(parent, name)
    }

    /// Takes a name away.
    pub(crate) fn unlink(&self, parent: Number, name: &[u8]) -> Result<(), Errno> {
        self.for_writing()?;
        let path = self.child(parent, name)?;
        match self.find(&path)?.ok_or(Errno::NOENT)? {
            Found::Folder(_) => return Err(Errno::ISDIR),
            // What lies on a disk that is away, or a part of it, cannot be taken away.
            Found::Absent(_) => return Err(Errno::ROFS),
            Found::Pieced(file, _) => self.unlink_pieces(&file)?,
            Found::Thing(first, _) => {
                for position in self.copies_of(&path, first)? {
                    self.take_away(position, &path, false)?;
                }
            }
        }
        self.nodes.remove(parent, name);
        Ok(())
    }

    /// All of its pieces, or none.
    pub(crate) fn unlink_pieces(&self, file: &sieve_pool::pieces::PiecedFile) -> Result<(), Errno> {
        let branch_of = |disk| self.alive().find(|(_, branch)| branch.id == disk).map(|(_, branch)| branch);
        let on: Option<Vec<&Branch>> = file.pieces.iter().map(|piece| branch_of(piece.disk)).collect();
        for (branch, piece) in on.ok_or(Errno::ROFS)?.into_iter().zip(&file.pieces) {
            self.past.hold(branch, &piece.path, false)?;
        }
        // Only the catalogue tells which files lie in pieces: until it knows, this one would still be listed.
        self.past.record_soon();
        Ok(())
    }

    /// Takes a file's name away on one disk: what parity has of it is held.
    pub(crate) fn take_away(&self, position: usize, path: &RelPath, replaced: bool) -> Result<(), Errno> {
        let branch = &self.branches[position];
        let stat = branch.stat(path)?.ok_or(Errno::NOENT)?;
        if self.is_past(branch, path, &stat)? {
            return self.past.hold(branch, path, replaced);
        }
        branch.at(path, |folder, name| sys::unlinkat(folder, name, AtFlags::empty()))?;
        if stat.st_nlink == 1 && FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile {
            self.places.grew(position, -stat.st_size);
        }
        Ok(())
    }

    /// Whether parity has the content of a file whose last name goes.
    pub(crate) fn is_past(&self, branch: &Branch, path: &RelPath, stat: &Stat) -> Result<bool, Errno> {
        let is_last = stat.st_nlink == 1 && FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile;
        if !is_last || !self.holds(path) {
            return Ok(false);
        }
        Ok(self.knowledge.known(branch.id, stat.st_ino).map_err(|e| code_of(&e))?.is_some())
    }

    /// Whether a content of a file is known, so that it matters that nobody doubts it.
    pub(crate) fn is_known(&self, branch: &Branch, path: &RelPath) -> Result<bool, Errno> {
        let Some(stat) = branch.stat(path)? else { return Ok(false) };
        let is_file = FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile;
        Ok(is_file && self.knowledge.known(branch.id, stat.st_ino).map_err(|e| code_of(&e))?.is_some())
    }

    /// Takes an empty folder away, on every disk.
    pub(crate) fn remove_folder(&self, parent: Number, name: &[u8]) -> Result<(), Errno> {
        self.for_writing()?;
        let path = self.child(parent, name)?;
        let copies = match self.find(&path)?.ok_or(Errno::NOENT)? {
            Found::Folder(copies) => copies,
            Found::Absent(_) => return Err(Errno::ROFS),
            _ => return Err(Errno::NOTDIR),
        };
        self.refuse_full(&path)?;
        self.remove_copies(&path, &copies)?;
        self.nodes.remove(parent, name);
        Ok(())
    }

    /// A folder is empty when it is on all disks.
    pub(crate) fn refuse_full(&self, path: &RelPath) -> Result<(), Errno> {
        for (_, branch) in self.alive() {
            if branch.list(path)?.is_some_and(|listed| !listed.is_empty()) {
                return Err(Errno::NOTEMPTY);
            }
        }
        let absent = self.absent_disks();
        let is_full = !absent.is_empty()
            && !self.knowledge.absent_in(&absent, path).map_err(|e| code_of(&e))?.is_empty();
        let is_of_pieces = || {
            let pieced = self.knowledge.pieced().map_err(|e| code_of(&e))?;
            Ok(pieced.keys().any(|file| file.parent().as_ref() == Some(path)))
        };
        if is_full || is_of_pieces()? { Err(Errno::NOTEMPTY) } else { Ok(()) }
    }

    pub(crate) fn remove_copies(&self, path: &RelPath, copies: &[(usize, Stat)]) -> Result<(), Errno> {
        for (position, _) in copies {
            let branch = &self.branches[*position];
            branch.at(path, |folder, name| sys::unlinkat(folder, name, AtFlags::REMOVEDIR))?;
            branch.forget_folders();
        }
        Ok(())
    }
}
