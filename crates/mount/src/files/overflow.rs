//! A file that outgrows its disk: while its writer waits, it goes to a disk with room, and he writes on without noticing.

use std::os::fd::OwnedFd;
use std::sync::PoisonError;

use rustix::fs::{self as sys, AtFlags, Gid, Mode, OFlags, RenameFlags, Uid, XattrFlags};
use rustix::io::Errno;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_disk::workspace::Workspace;

use crate::below::branch::{Branch, by_descriptor, name_of};
use crate::files::handles::{Body, Copy, OpenFile};
use crate::tree::look::times_of;
use crate::tree::number::Number;
use crate::tree::volume::Volume;
use crate::{code_of, guarded};

impl Volume {
    /// Moves a file that is being written to a disk with room for twice what it is to hold.
    ///
    /// Whoever has it open waits meanwhile, so that nothing is written to what is left behind; `moving` is held by the caller,
    /// so that there is one who waits for all of them, and no two for each other.
    ///
    /// # Crash safety
    /// The copy gets its name when it is whole and durable; only then is the old one taken away, held where parity has it.
    /// Between the two both have the name, on two disks, with the same bytes.
    pub(crate) fn go_on_elsewhere(&self, file: &OpenFile, until: u64) -> Result<(), Errno> {
        let path = self.path(file.number).map_err(|_| Errno::NOSPC)?;
        let open = self.files.all_of(file.number);
        let whole = PoisonError::into_inner;
        let mut bodies: Vec<_> = open.iter().map(|file| file.body.write().unwrap_or_else(whole)).collect();
        let mut own = if open.iter().any(|other| std::ptr::eq(&raw const **other, file)) {
            None
        } else {
            Some(file.body.write().unwrap_or_else(whole))
        };
        let Some(Body::Whole(copies)) = bodies.first().or(own.as_ref()).map(|body| &**body) else {
            return Err(Errno::NOSPC);
        };
        let [copy] = &copies[..] else { return Err(Errno::NOSPC) };
        let stat = sys::fstat(&copy.file)?;
        let size = stat.st_size.cast_unsigned();
        if stat.st_nlink != 1 || size > self.spec.mount.move_at_most.exact() {
            // Another name would go on to mean the old one.
            return Err(Errno::NOSPC);
        }
        let room = |position: usize| self.places.free(&self.branches, &self.knowledge, position);
        let fits = self.alive().map(|(position, _)| position).filter(|position| *position != copy.branch);
        let emptiest = fits.max_by_key(|position| room(*position)).ok_or(Errno::NOSPC)?;
        if room(emptiest) < until.max(size).saturating_add(size) {
            return Err(Errno::NOSPC);
        }
        let (before, moved) = (copy.branch, self.move_to(emptiest, &path, copy, &stat, file.number)?);
        let now = sys::fstat(&moved)?;
        self.places.grew(emptiest, now.st_size);
        self.places.grew(before, -stat.st_size);
        for body in bodies.iter_mut().chain(own.iter_mut()) {
            let file = moved.try_clone().map_err(|_| Errno::MFILE)?;
            **body = Body::Whole(vec![Copy { branch: emptiest, file }]);
        }
        Ok(())
    }

    /// Whether a file that was just opened was moved while it was: then what is open is what was left behind.
    pub(crate) fn was_left_behind(&self, file: &OpenFile) -> bool {
        let _nobody_moves = guarded(&self.moving);
        let Ok(path) = self.path(file.number) else { return false };
        let is_another = |branch: usize, open: &OwnedFd| {
            let (open, named) = (sys::fstat(open), self.branches[branch].stat(&path));
            matches!((open, named), (Ok(open), Ok(named)) if named.is_none_or(|named| named.st_ino != open.st_ino))
        };
        file.on_one(is_another).unwrap_or(false)
    }

    fn move_to(
        &self,
        to: usize,
        path: &RelPath,
        copy: &Copy,
        stat: &sys::Stat,
        shown: Number,
    ) -> Result<OwnedFd, Errno> {
        let target = &self.branches[to];
        self.make_folders(to, path.parent().as_ref())?;
        let mut space = Workspace::begin(target.disk(), self.past.random()).map_err(|e| code_of(&e))?;
        let passing = space.next_path();
        let moved = copy_to(target, &passing, &copy.file, stat);
        let named = moved.and_then(|moved| {
            sys::fsync(&moved)?;
            // Before it can be found there: whoever finds it knows it by the number that it has.
            let there = Number::on(target.id, sys::fstat(&moved)?.st_ino);
            self.nodes.stands_in(there, shown);
            target.at(path, |folder, name| {
                target.at(&passing, |from, old| {
                    sys::renameat_with(from, old, folder, name, RenameFlags::NOREPLACE)
                })
            })?;
            crate::below::past::sync_folder(target, &path.parent().unwrap_or_default())?;
            Ok(moved)
        });
        if named.is_err() {
            self.nodes.stands_no_more(shown);
        }
        // What is left in it was never a file of the volume.
        let tidied = space.finish().map_err(|e| code_of(&e));
        let moved = named?;
        tidied?;
        self.take_away(copy.branch, path, true)?;
        self.nodes.has_moved(shown);
        Ok(moved)
    }
}

/// A copy with everything that belongs to it, open for writing.
fn copy_to(target: &Branch, path: &RelPath, from: &OwnedFd, stat: &sys::Stat) -> Result<OwnedFd, Errno> {
    debug_assert!(path.is_within(&OurPlace::Folder.path()), "it has no name in the volume yet");
    let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let copy = target.at(path, |folder, name| sys::openat(folder, name, flags, Mode::RUSR | Mode::WUSR))?;
    copy_data(from, &copy, stat.st_size.cast_unsigned())?;
    let owner = (Some(Uid::from_raw(stat.st_uid)), Some(Gid::from_raw(stat.st_gid)));
    match sys::chownat(&copy, "", owner.0, owner.1, AtFlags::EMPTY_PATH) {
        Err(Errno::PERM) if !rustix::process::geteuid().is_root() => {}
        other => other?,
    }
    copy_extended(from, &copy)?;
    sys::fchmod(&copy, Mode::from_raw_mode(stat.st_mode))?;
    sys::futimens(&copy, &times_of(stat))?;
    Ok(copy)
}

/// Data where there is some, holes where there are none.
fn copy_data(from: &OwnedFd, to: &OwnedFd, size: u64) -> Result<(), Errno> {
    sys::ftruncate(to, size)?;
    let mut buffer = vec![0; 1 << 20];
    let mut at = 0;
    while at < size {
        let start = match sys::seek(from, sys::SeekFrom::Data(at)) {
            Ok(start) => start,
            Err(Errno::NXIO) => break,
            Err(errno) => return Err(errno),
        };
        let end = sys::seek(from, sys::SeekFrom::Hole(start))?;
        at = start;
        while at < end {
            let wanted = buffer.len().min(usize::try_from(end - at).unwrap_or(usize::MAX));
            let length = rustix::io::pread(from, &mut buffer[..wanted], at)?;
            if length == 0 {
                return Err(Errno::IO);
            }
            let mut done = 0;
            while done < length {
                done += rustix::io::pwrite(to, &buffer[done..length], at + done as u64)?;
            }
            at += length as u64;
        }
    }
    Ok(())
}

fn copy_extended(from: &OwnedFd, to: &OwnedFd) -> Result<(), Errno> {
    let mut names = vec![0; 65_536];
    let length = match sys::flistxattr(from, &mut names[..]) {
        Err(Errno::OPNOTSUPP) => return Ok(()),
        other => other?,
    };
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let mut value = vec![0; 65_536];
        let length = sys::fgetxattr(from, name_of(name), &mut value[..])?;
        sys::setxattr(by_descriptor(to), name_of(name), &value[..length], XattrFlags::empty())?;
    }
    Ok(())
}
