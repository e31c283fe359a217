//! Mode, owner, times and extended attributes, of every copy of what is named.

use std::os::fd::OwnedFd;

use rustix::fs::FileType;
use rustix::fs::{self as sys, AtFlags, Gid, Mode, Timespec, Timestamps, Uid, XattrFlags};
use rustix::io::Errno;
use sieve_core::fate::{Fate, Guard, Unguarded};
use sieve_core::path::RelPath;

use crate::below::branch::{by_descriptor, name_of};
use crate::below::judge::Looks;
use crate::below::knowledge::AbsentThing;
use crate::code_of;
use crate::files::handles::OpenFile;
use crate::tree::look::Moment;
use crate::tree::number::Number;
use crate::tree::volume::{Found, Volume};

/// What is to be changed of how something looks; what is none stays.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Wanted {
    pub(crate) mode: Option<u32>,
    pub(crate) uid: Option<u32>,
    pub(crate) gid: Option<u32>,
    pub(crate) accessed: Option<Stamp>,
    pub(crate) modified: Option<Stamp>,
}

/// A time that is to be set.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Stamp {
    Now,
    At(Moment),
}

/// Attributes that only tell: which disks something lies on; how many disks may die without losing a file, and what becomes
/// of it as things stand.
const TELLS_DISK: &[u8] = b"user.zinc-sieve.disk";
const TELLS_GUARD: &[u8] = b"user.zinc-sieve.guard";
const TELLS_FATE: &[u8] = b"user.zinc-sieve.fate";

impl Wanted {
    const fn is_none(&self) -> bool {
        self.mode.is_none()
            && self.uid.is_none()
            && self.gid.is_none()
            && self.accessed.is_none()
            && self.modified.is_none()
    }

    fn set(&self, thing: &OwnedFd, has_path: bool) -> Result<(), Errno> {
        if self.uid.is_some() || self.gid.is_some() {
            let (uid, gid) = (self.uid.map(Uid::from_raw), self.gid.map(Gid::from_raw));
            sys::chownat(thing, "", uid, gid, AtFlags::EMPTY_PATH)?;
        }
        if let Some(mode) = self.mode {
            sys::chmod(by_descriptor(thing), Mode::from_raw_mode(mode & 0o7777))?;
        }
        if self.accessed.is_some() || self.modified.is_some() {
            let times = Timestamps {
                last_access: timespec(self.accessed),
                last_modification: timespec(self.modified),
            };
            if has_path {
                sys::utimensat(thing, "", &times, AtFlags::EMPTY_PATH)?;
            } else {
                sys::futimens(thing, &times)?;
            }
        }
        Ok(())
    }
}

fn timespec(stamp: Option<Stamp>) -> Timespec {
    match stamp {
        None => Timespec { tv_sec: 0, tv_nsec: sys::UTIME_OMIT },
        Some(Stamp::Now) => Timespec { tv_sec: 0, tv_nsec: sys::UTIME_NOW },
        Some(Stamp::At((seconds, nanoseconds))) => Timespec { tv_sec: seconds, tv_nsec: nanoseconds.into() },
    }
}

impl Volume {
    /// Every place of something that is there, so that what is changed is changed on all.
    fn places_of(&self, path: &RelPath) -> Result<Vec<usize>, Errno> {
        match self.find(path)?.ok_or(Errno::STALE)? {
            Found::Folder(copies) => Ok(copies.into_iter().map(|(position, _)| position).collect()),
            Found::Thing(first, _) => self.copies_of(path, first),
            Found::Absent(_) => Err(Errno::ROFS),
            Found::Pieced(..) => Err(Errno::OPNOTSUPP),
        }
    }

    /// The path of a number, the root's among them.
    pub(crate) fn path_of(&self, number: Number) -> Result<RelPath, Errno> {
        if number == Number::ROOT { Ok(RelPath::ROOT) } else { self.path(number) }
    }

    /// Changes how something looks.
    pub(crate) fn set_attributes(
        &self,
        number: Number,
        open: Option<&OpenFile>,
        wanted: Wanted,
    ) -> Result<(), Errno> {
        if wanted.is_none() {
            return Ok(());
        }
        self.for_writing()?;
        let Ok(path) = self.path_of(number) else {
            // It has no name any more, and is open.
            let file = open.ok_or(Errno::STALE)?;
            let crate::files::handles::Body::Whole(copies) = &*file.body() else { return Err(Errno::ROFS) };
            return copies.iter().try_for_each(|copy| wanted.set(&copy.file, false));
        };
        if let Some(Found::Pieced(file, _)) = self.find(&path)? {
            return self.set_on_pieces(&file, wanted);
        }
        for position in self.places_of(&path)? {
            let branch = &self.branches[position];
            let set = || wanted.set(&branch.handle(&path)?, true);
            self.without_doubt(position, &path, wanted.modified.is_none(), set)?;
        }
        Ok(())
    }

    /// Changes how a file looks, and nothing of its content: that raises no doubt about it, while its modification time is
    /// what it was.
    fn without_doubt(
        &self,
        position: usize,
        path: &RelPath,
        keeps_time: bool,
        work: impl FnOnce() -> Result<(), Errno>,
    ) -> Result<(), Errno> {
        let branch = &self.branches[position];
        if keeps_time && self.is_known(branch, path)? {
            self.past.keeping(branch, path, path, work)
        } else {
            work()
        }
    }

    /// Each piece looks as the whole file does.
    fn set_on_pieces(&self, file: &sieve_pool::pieces::PiecedFile, wanted: Wanted) -> Result<(), Errno> {
        for piece in &file.pieces {
            let branch = self.alive().find(|(_, branch)| branch.id == piece.disk);
            let (_, branch) = branch.ok_or(Errno::ROFS)?;
            wanted.set(&branch.handle(&piece.path)?, true)?;
        }
        Ok(())
    }

    /// Where a symlink points.
    pub(crate) fn read_symlink(&self, number: Number) -> Result<Vec<u8>, Errno> {
        let path = self.path(number)?;
        match self.find(&path)?.ok_or(Errno::STALE)? {
            Found::Thing(position, _) => self.branches[position].at(&path, |folder, name| {
                sys::readlinkat(folder, name, Vec::new()).map(std::ffi::CString::into_bytes)
            }),
            Found::Absent(absent) => match absent.what {
                AbsentThing::Other(node) => node.target.ok_or(Errno::INVAL),
                AbsentThing::File(..) => Err(Errno::INVAL),
            },
            _ => Err(Errno::INVAL),
        }
    }

    /// The value of an extended attribute.
    pub(crate) fn extended_attribute(&self, number: Number, name: &[u8]) -> Result<Vec<u8>, Errno> {
        let path = self.path_of(number)?;
        if name == TELLS_DISK {
            return self.disk_names(&path);
        }
        if name == TELLS_GUARD || name == TELLS_FATE {
            let (fate, guard) = self.judged(&path)?;
            return Ok(match (name == TELLS_GUARD, guard.reason) {
                (true, _) => guard.level.to_string(),
                (false, None) => fate.word().to_string(),
                (false, Some(reason)) => format!("{}, unguarded: {}", fate.word(), word_of(reason)),
            }
            .into_bytes());
        }
        let (position, path) = match self.find(&path)?.ok_or(Errno::STALE)? {
            Found::Folder(copies) => (copies[0].0, path),
            Found::Thing(position, _) => (position, path),
            Found::Absent(absent) => {
                let attributes = match absent.what {
                    AbsentThing::File(_, attributes) => attributes,
                    AbsentThing::Other(node) => node.attributes,
                };
                let value = attributes.extended.into_iter().find(|(known, _)| known == name);
                return value.map(|(_, value)| value).ok_or(Errno::NODATA);
            }
            Found::Pieced(file, _) => {
                let first = file.pieces.first().ok_or(Errno::NODATA)?;
                let branch = self.alive().find(|(_, branch)| branch.id == first.disk);
                (branch.ok_or(Errno::NODATA)?.0, first.path.clone())
            }
        };
        let at = self.by_name(position, &path)?;
        let mut value = vec![0; 256];
        let length = match sys::lgetxattr(&at.1, name_of(name), &mut value[..]) {
            Err(Errno::RANGE) => {
                value.resize(65_536, 0);
                sys::lgetxattr(&at.1, name_of(name), &mut value[..])?
            }
            other => other?,
        };
        value.truncate(length);
        Ok(value)
    }

    /// The names of the disks that something lies on.
    fn disk_names(&self, path: &RelPath) -> Result<Vec<u8>, Errno> {
        let on: Vec<&str> = match self.find(path)?.ok_or(Errno::STALE)? {
            Found::Folder(copies) => copies.iter().map(|(p, _)| self.branches[*p].name.as_str()).collect(),
            Found::Thing(first, _) => {
                self.copies_of(path, first)?.into_iter().map(|p| self.branches[p].name.as_str()).collect()
            }
            Found::Pieced(file, _) => {
                return Ok(self
                    .knowledge
                    .names_of(file.pieces.iter().map(|piece| piece.disk))
                    .join("+")
                    .into());
            }
            Found::Absent(absent) => {
                return Ok(self.knowledge.names_of(std::iter::once(absent.disk)).join("").into());
            }
        };
        Ok(on.join(" ").into_bytes())
    }

    /// What becomes of a file, and its guard; folders and what is no file have none.
    fn judged(&self, path: &RelPath) -> Result<(Fate, Guard), Errno> {
        let (disk, place, looks) = match self.find(path)?.ok_or(Errno::STALE)? {
            Found::Thing(position, stat) if FileType::from_raw_mode(stat.st_mode).is_file() => {
                let modified = stat.st_mtime.saturating_mul(1_000_000_000);
                let modified = modified.saturating_add(stat.st_mtime_nsec as i64);
                let looks = Looks { size: stat.st_size.unsigned_abs(), modified };
                (self.branches[position].id, path.clone(), Some(looks))
            }
            Found::Pieced(file, _) => {
                let first = file.pieces.first().ok_or(Errno::NODATA)?;
                (first.disk, first.path.clone(), None)
            }
            Found::Absent(absent) if matches!(absent.what, AbsentThing::File(..)) => {
                (absent.disk, path.clone(), None)
            }
            _ => return Err(Errno::NODATA),
        };
        self.judge.judge(disk, &place, looks).map_err(|error| code_of(&error))
    }

    /// A path that calls take which follow no symlink at its end, and the folder that keeps it right.
    fn by_name(&self, position: usize, path: &RelPath) -> Result<(std::sync::Arc<OwnedFd>, Vec<u8>), Errno> {
        let branch = &self.branches[position];
        let folder = branch.folder(&path.parent().unwrap_or_default())?;
        let mut at = by_descriptor(&*folder).into_bytes();
        at.push(b'/');
        at.extend_from_slice(if path.is_root() { b"." } else { path.file_name() });
        Ok((folder, at))
    }

    /// The names of the extended attributes, each with a 0 behind it.
    pub(crate) fn extended_names(&self, number: Number) -> Result<Vec<u8>, Errno> {
        let path = self.path_of(number)?;
        let mut names = match self.find(&path)?.ok_or(Errno::STALE)? {
            Found::Folder(copies) => self.names_at(copies[0].0, &path)?,
            Found::Thing(position, _) => self.names_at(position, &path)?,
            Found::Absent(absent) => {
                let attributes = match absent.what {
                    AbsentThing::File(_, attributes) => attributes,
                    AbsentThing::Other(node) => node.attributes,
                };
                attributes.extended.into_iter().flat_map(|(name, _)| [name, vec![0]].concat()).collect()
            }
            Found::Pieced(..) => Vec::new(),
        };
        // The others are told to who asks for them by name: programs that copy all attributes would ask for each file, and those
        // are worked out for the whole volume.
        names.extend_from_slice(TELLS_DISK);
        names.push(0);
        Ok(names)
    }

    fn names_at(&self, position: usize, path: &RelPath) -> Result<Vec<u8>, Errno> {
        let at = self.by_name(position, path)?;
        let mut names = vec![0; 65_536];
        let length = match sys::llistxattr(&at.1, &mut names[..]) {
            Err(Errno::OPNOTSUPP) => 0,
            other => other?,
        };
        names.truncate(length);
        Ok(names)
    }

    /// Sets an extended attribute.
    pub(crate) fn set_extended(
        &self,
        number: Number,
        name: &[u8],
        value: &[u8],
        flags: u32,
    ) -> Result<(), Errno> {
        self.for_writing()?;
        refuse_telling(name)?;
        let path = self.path_of(number)?;
        for position in self.places_of(&path)? {
            let at = self.by_name(position, &path)?;
            let flags = XattrFlags::from_bits_retain(flags);
            let set = || sys::lsetxattr(&at.1, name_of(name), value, flags);
            self.without_doubt(position, &path, true, set)?;
        }
        Ok(())
    }

    /// Takes an extended attribute away.
    pub(crate) fn remove_extended(&self, number: Number, name: &[u8]) -> Result<(), Errno> {
        self.for_writing()?;
        refuse_telling(name)?;
        let path = self.path_of(number)?;
        for position in self.places_of(&path)? {
            let at = self.by_name(position, &path)?;
            self.without_doubt(position, &path, true, || sys::lremovexattr(&at.1, name_of(name)))?;
        }
        Ok(())
    }

    /// What of the disks is free, and in all.
    pub(crate) fn room(&self) -> Room {
        let mut room = Room::default();
        for (position, branch) in self.alive() {
            let Ok(here) = branch.room() else { continue };
            let free = self.places.free(&self.branches, &self.knowledge, position);
            let total = here.f_blocks.saturating_mul(here.f_frsize);
            room.total += branch.capacity.map_or(total, |capacity| capacity.exact().min(total));
            room.available += free;
            room.free += free.max(here.f_bfree.saturating_mul(here.f_frsize).min(free));
            room.files += here.f_files;
            room.free_files += here.f_ffree;
        }
        room
    }
}

/// What is free in a volume, in bytes and files.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Room {
    pub(crate) total: u64,
    pub(crate) free: u64,
    pub(crate) available: u64,
    pub(crate) files: u64,
    pub(crate) free_files: u64,
}

/// The word that `--json` has for it.
fn word_of(reason: Unguarded) -> String {
    serde_json::to_value(reason).ok().and_then(|value| value.as_str().map(str::to_string)).unwrap_or_default()
}

/// What only tells is not set.
fn refuse_telling(name: &[u8]) -> Result<(), Errno> {
    if name.starts_with(b"user.zinc-sieve.") { Err(Errno::PERM) } else { Ok(()) }
}
