//! Open files: what reads and writes of a program go to.

use std::collections::HashMap;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, RwLock, RwLockReadGuard};

use rustix::fs::{self as sys, FallocateFlags, FileType, Mode, OFlags, SeekFrom, Stat};
use rustix::io::Errno;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_pool::pieces::PiecedFile;

use crate::branch::Branch;
use crate::content::Content;
use crate::knowledge::{Absent, AbsentThing};
use crate::look::Look;
use crate::number::Number;
use crate::past::Kept;
use crate::volume::{Caller, Found, Volume};
use crate::{code_of, guarded};

/// All open files, by the handle that the kernel has for each.
#[derive(Default)]
pub(crate) struct OpenFiles {
    next: AtomicU64,
    files: Mutex<HashMap<u64, Arc<OpenFile>>>,
}

impl OpenFiles {
    pub(crate) fn add(&self, file: Arc<OpenFile>) -> u64 {
        let handle = self.next.fetch_add(1, Ordering::Relaxed) + 1;
        guarded(&self.files).insert(handle, file);
        handle
    }

    pub(crate) fn get(&self, handle: u64) -> Result<Arc<OpenFile>, Errno> {
        guarded(&self.files).get(&handle).cloned().ok_or(Errno::BADF)
    }

    pub(crate) fn remove(&self, handle: u64) -> Option<Arc<OpenFile>> {
        guarded(&self.files).remove(&handle)
    }

    /// One that is open on this number: it is readable also when it has no name any more.
    pub(crate) fn of_number(&self, number: Number) -> Option<Arc<OpenFile>> {
        guarded(&self.files).values().find(|file| file.number == number).cloned()
    }

    pub(crate) fn count(&self) -> usize {
        guarded(&self.files).len()
    }

    /// How many are open for writing.
    pub(crate) fn writers(&self) -> usize {
        guarded(&self.files).values().filter(|file| file.is_for_writing).count()
    }

    /// The other handles of the same file.
    pub(crate) fn all_of(&self, number: Number) -> Vec<Arc<OpenFile>> {
        guarded(&self.files).values().filter(|file| file.number == number).cloned().collect()
    }
}

/// A file that a program has open.
pub(crate) struct OpenFile {
    pub(crate) number: Number,
    pub(crate) is_for_writing: bool,
    pub(crate) appends: bool,
    /// It has bits that whoever writes to it takes from it, and is open for writing: each write passes through here.
    pub(crate) is_apart: bool,
    pub(crate) body: RwLock<Body>,
}

/// Where its bytes are.
pub(crate) enum Body {
    /// On one disk, or the same on several.
    Whole(Vec<Copy>),
    /// In pieces.
    Pieces(Vec<Piece>),
    /// On a disk that is not there.
    Computed(Content),
}

/// One of the places of a file.
pub(crate) struct Copy {
    pub(crate) branch: usize,
    pub(crate) file: OwnedFd,
}

/// A piece of a file: where in the file it begins, and how long it is.
pub(crate) struct Piece {
    offset: u64,
    length: u64,
    bytes: PieceBytes,
}

enum PieceBytes {
    Here(OwnedFd),
    Computed(Content),
}

impl OpenFile {
    pub(crate) fn body(&self) -> RwLockReadGuard<'_, Body> {
        self.body.read().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// The branch and the descriptor, where it lies on one disk.
    pub(crate) fn on_one<T>(&self, with: impl FnOnce(usize, &OwnedFd) -> T) -> Option<T> {
        match &*self.body() {
            Body::Whole(copies) if copies.len() == 1 => Some(with(copies[0].branch, &copies[0].file)),
            _ => None,
        }
    }
}

impl Volume {
    /// Opens a file. What of its content parity needs is kept before anything may be written to it.
    pub(crate) fn open_file(&self, number: Number, flags: i32) -> Result<OpenFile, Errno> {
        let path = self.path(number)?;
        let wanted = OFlags::from_bits_retain(flags.cast_unsigned());
        let is_for_writing = wanted.intersects(OFlags::WRONLY | OFlags::RDWR | OFlags::TRUNC);
        let appends = wanted.contains(OFlags::APPEND);
        let body = match self.find(&path)?.ok_or(Errno::STALE)? {
            Found::Folder(_) => return Err(Errno::ISDIR),
            Found::Thing(first, stat) => {
                if self.number(first, &stat) != number {
                    return Err(Errno::STALE);
                }
                let copies = self.copies_of(&path, first)?;
                if is_for_writing {
                    self.for_writing()?;
                    self.keep_what_parity_needs(&path, &copies)?;
                }
                Body::Whole(self.open_copies(&path, &copies, wanted, is_for_writing)?)
            }
            Found::Pieced(..) | Found::Absent(_) if is_for_writing => return Err(Errno::ROFS),
            Found::Pieced(file, look) if look.number == number => Body::Pieces(self.open_pieces(&file)?),
            Found::Absent(absent) => Body::Computed(self.computed(&absent)?),
            Found::Pieced(..) => return Err(Errno::STALE),
        };
        let is_apart = is_for_writing && has_set_id(&body);
        Ok(OpenFile { number, is_for_writing, appends, is_apart, body: RwLock::new(body) })
    }

    fn open_copies(
        &self,
        path: &RelPath,
        on: &[usize],
        wanted: OFlags,
        is_for_writing: bool,
    ) -> Result<Vec<Copy>, Errno> {
        let access = if is_for_writing { OFlags::RDWR } else { OFlags::RDONLY };
        let kept = OFlags::TRUNC | OFlags::DIRECT | OFlags::SYNC | OFlags::DSYNC;
        let flags = access | wanted & kept;
        let open = |branch: &usize| {
            let file = self.branches[*branch].open_file(path, flags)?;
            Ok(Copy { branch: *branch, file })
        };
        on.iter().map(open).collect()
    }

    fn computed(&self, absent: &Absent) -> Result<Content, Errno> {
        let AbsentThing::File(object, _) = &absent.what else { return Err(Errno::NXIO) };
        self.computer.content(object).map_err(|e| code_of(&e))?.ok_or(Errno::IO)
    }

    fn open_pieces(&self, file: &PiecedFile) -> Result<Vec<Piece>, Errno> {
        let open = |piece: &sieve_catalogue::pieces::PieceRow| {
            let branch = self.branches.iter().find(|branch| branch.id == piece.disk && branch.lives());
            let bytes = match branch {
                Some(branch) => PieceBytes::Here(branch.open_file(&piece.path, OFlags::RDONLY)?),
                None => {
                    let object =
                        self.knowledge.object_at(piece.disk, &piece.path).map_err(|e| code_of(&e))?;
                    let object = object.ok_or(Errno::IO)?;
                    let content = self.computer.content(&object).map_err(|e| code_of(&e))?;
                    PieceBytes::Computed(content.ok_or(Errno::IO)?)
                }
            };
            Ok(Piece { offset: piece.note.offset.exact(), length: piece.note.length.exact(), bytes })
        };
        file.pieces.iter().map(open).collect()
    }

    /// Before something is written over. With a disk away, what would cost it its rebuild is refused.
    pub(crate) fn keep_what_parity_needs(&self, path: &RelPath, on: &[usize]) -> Result<(), Errno> {
        for position in on {
            let branch = &self.branches[*position];
            let stat = branch.stat(path)?.ok_or(Errno::STALE)?;
            self.past.let_write(branch, stat.st_ino);
            let object = self.knowledge.known(branch.id, stat.st_ino).map_err(|e| code_of(&e))?;
            let Some(object) = object.filter(|_| self.spec.holds(path)) else { continue };
            let kept = if self.may_hold_more(branch, &object)? {
                let limit = self.spec.mount.hold_copies_up_to.exact();
                self.past.keep_content(branch, path, &object, limit)?
            } else {
                Kept::Lost
            };
            if kept == Kept::Lost && !self.absent_disks().is_empty() {
                return Err(Errno::ROFS);
            }
            if kept == Kept::Lost {
                self.past.tell_written_in_place(branch, path);
            }
        }
        Ok(())
    }

    /// Whether there is room among what a disk holds for one more content: what is written over all day is not to fill it.
    fn may_hold_more(&self, branch: &Branch, object: &ObjectRow) -> Result<bool, Errno> {
        let room = branch.room()?;
        let total = ByteLength::new(room.f_blocks.saturating_mul(room.f_frsize));
        let held = self.knowledge.held(branch.id).map_err(|e| code_of(&e))?;
        Ok(held.plus(object.size) <= self.spec.mount.held_at_most.of(branch.capacity.unwrap_or(total).min(total)))
    }

    /// Makes a new file, and opens it.
    pub(crate) fn create_file(
        &self,
        parent: Number,
        name: &[u8],
        mode: u32,
        umask: u32,
        flags: i32,
        caller: Caller,
    ) -> Result<(OpenFile, Look), Errno> {
        self.for_writing()?;
        let path = self.child(parent, name)?;
        let wanted = OFlags::from_bits_retain(flags.cast_unsigned());
        if let Some(found) = self.find(&path)? {
            // It came between the kernel's look and now.
            if wanted.contains(OFlags::EXCL) {
                return Err(Errno::EXIST);
            }
            let look = self.look(&found, None);
            self.nodes.learn(parent, name, look.number);
            let file = self.open_file(look.number, flags & !OFlags::CREATE.bits().cast_signed())?;
            return Ok((file, self.look_at(look.number)?));
        }
        let on = self.places.for_file(&self.branches, &self.knowledge, &path)?;
        let mut copies = Vec::new();
        for position in on {
            let branch = &self.branches[position];
            self.make_folders(position, path.parent().as_ref())?;
            let kept = wanted & (OFlags::DIRECT | OFlags::SYNC | OFlags::DSYNC);
            let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | kept;
            let file = self.make_owned(branch, &path, mode, umask, caller, |folder, name, mode| {
                sys::openat(folder, name, flags | OFlags::CLOEXEC | OFlags::NOFOLLOW, mode)
            })?;
            copies.push(Copy { branch: position, file });
        }
        let first = copies.first().ok_or(Errno::NOSPC)?;
        let stat = sys::fstat(&first.file)?;
        let look = Look::of(self.number(first.branch, &stat), &stat);
        self.nodes.learn(parent, name, look.number);
        let body = Body::Whole(copies);
        let (appends, is_apart) = (wanted.contains(OFlags::APPEND), has_set_id(&body));
        let body = RwLock::new(body);
        Ok((OpenFile { number: look.number, is_for_writing: true, appends, is_apart, body }, look))
    }

    /// Reads; fewer bytes only at the end.
    pub(crate) fn read(&self, file: &OpenFile, buffer: &mut [u8], offset: u64) -> Result<usize, Errno> {
        match &*file.body() {
            Body::Whole(copies) => self.read_copies(copies, buffer, offset),
            Body::Computed(content) => self.compute(content, buffer, offset),
            Body::Pieces(pieces) => {
                let mut done = 0;
                for piece in pieces {
                    let at = offset + done as u64;
                    let end = piece.offset + piece.length;
                    if done == buffer.len() || at < piece.offset || at >= end {
                        continue;
                    }
                    let length = (buffer.len() - done).min(usize::try_from(end - at).unwrap_or(usize::MAX));
                    let part = &mut buffer[done..done + length];
                    done += match &piece.bytes {
                        PieceBytes::Here(file) => read_whole(file, part, at - piece.offset)?,
                        PieceBytes::Computed(content) => self.compute(content, part, at - piece.offset)?,
                    };
                }
                Ok(done)
            }
        }
    }

    /// From the first copy that can be read.
    fn read_copies(&self, copies: &[Copy], buffer: &mut [u8], offset: u64) -> Result<usize, Errno> {
        let mut last = Errno::IO;
        for copy in copies {
            match self.branches[copy.branch].judged(read_whole(&copy.file, buffer, offset)) {
                Ok(length) => return Ok(length),
                Err(errno) => last = errno,
            }
        }
        Err(last)
    }

    fn compute(&self, content: &Content, buffer: &mut [u8], offset: u64) -> Result<usize, Errno> {
        let without = self.absent_disks();
        let read = self.computer.read(content, buffer, offset, &without).map_err(|e| code_of(&e))?;
        read.ok_or(Errno::IO)
    }

    /// Writes to every copy.
    pub(crate) fn write(&self, file: &OpenFile, bytes: &[u8], offset: u64) -> Result<(), Errno> {
        match self.write_once(file, bytes, offset) {
            Err(Errno::NOSPC | Errno::DQUOT) => {
                let _one_at_a_time = guarded(&self.moving);
                // Who waited for another one's move finds room now.
                match self.write_once(file, bytes, offset) {
                    Err(Errno::NOSPC | Errno::DQUOT) => {}
                    other => return other,
                }
                self.go_on_elsewhere(file, offset + bytes.len() as u64)?;
                self.write_once(file, bytes, offset)
            }
            other => other,
        }
    }

    fn write_once(&self, file: &OpenFile, bytes: &[u8], offset: u64) -> Result<(), Errno> {
        let body = file.body();
        let Body::Whole(copies) = &*body else { return Err(Errno::ROFS) };
        for copy in copies {
            let at = if file.appends && !self.kernel_appends() { sys::fstat(&copy.file)?.st_size.cast_unsigned() } else { offset };
            let grown = self.room_for(copy, at + bytes.len() as u64)?;
            self.branches[copy.branch].judged(write_whole(&copy.file, bytes, at))?;
            self.places.grew(copy.branch, grown);
        }
        Ok(())
    }

    /// By how much a file grows when it is to end there; refused where its disk may not take so much.
    fn room_for(&self, copy: &Copy, end: u64) -> Result<i64, Errno> {
        if self.branches[copy.branch].capacity.is_none() {
            return Ok(0);
        }
        let size = sys::fstat(&copy.file)?.st_size.cast_unsigned();
        let more = end.saturating_sub(size);
        if more > 0 && more > self.places.free(&self.branches, &self.knowledge, copy.branch) {
            return Err(Errno::NOSPC);
        }
        Ok(i64::try_from(more).unwrap_or(i64::MAX))
    }

    /// Makes a file durable on every disk that it lies on.
    pub(crate) fn sync_file(&self, file: &OpenFile, is_data_only: bool) -> Result<(), Errno> {
        let Body::Whole(copies) = &*file.body() else { return Ok(()) };
        for copy in copies {
            let branch = &self.branches[copy.branch];
            branch.judged(if is_data_only { sys::fdatasync(&copy.file) } else { sys::fsync(&copy.file) })?;
        }
        Ok(())
    }

    /// Takes room for a file, or punches a hole.
    pub(crate) fn allocate(
        &self,
        file: &OpenFile,
        mode: u32,
        offset: u64,
        length: u64,
    ) -> Result<(), Errno> {
        match self.allocate_once(file, mode, offset, length) {
            Err(Errno::NOSPC | Errno::DQUOT) => {
                let _one_at_a_time = guarded(&self.moving);
                self.go_on_elsewhere(file, offset + length)?;
                self.allocate_once(file, mode, offset, length)
            }
            other => other,
        }
    }

    fn allocate_once(&self, file: &OpenFile, mode: u32, offset: u64, length: u64) -> Result<(), Errno> {
        let body = file.body();
        let Body::Whole(copies) = &*body else { return Err(Errno::ROFS) };
        let flags = FallocateFlags::from_bits_retain(mode);
        for copy in copies {
            let keeps = flags.contains(FallocateFlags::KEEP_SIZE);
            let grown = if keeps { 0 } else { self.room_for(copy, offset + length)? };
            sys::fallocate(&copy.file, flags, offset, length)?;
            self.places.grew(copy.branch, grown);
        }
        Ok(())
    }

    /// Where data, or a hole, comes next.
    pub(crate) fn seek(&self, file: &OpenFile, offset: u64, for_data: bool) -> Result<u64, Errno> {
        let Body::Whole(copies) = &*file.body() else { return Err(Errno::OPNOTSUPP) };
        let to = if for_data { SeekFrom::Data(offset) } else { SeekFrom::Hole(offset) };
        sys::seek(&copies.first().ok_or(Errno::IO)?.file, to)
    }

    /// How an open file looks, also without a name.
    pub(crate) fn look_at_open(&self, file: &OpenFile) -> Result<Look, Errno> {
        let body = file.body();
        let Body::Whole(copies) = &*body else { return self.look_at(file.number) };
        let stat: Stat = sys::fstat(&copies.first().ok_or(Errno::IO)?.file)?;
        Ok(Look::of(file.number, &stat))
    }

    /// Sets the length of a file, by its descriptor or its name.
    pub(crate) fn set_length(
        &self,
        number: Number,
        file: Option<&OpenFile>,
        length: u64,
        caller: Caller,
    ) -> Result<(), Errno> {
        self.for_writing()?;
        let opened;
        let file = match file.filter(|file| file.is_for_writing) {
            Some(file) => file,
            None => {
                opened = self.open_file(number, OFlags::RDWR.bits().cast_signed())?;
                &opened
            }
        };
        let body = file.body();
        let Body::Whole(copies) = &*body else { return Err(Errno::ROFS) };
        for copy in copies {
            let before = sys::fstat(&copy.file)?;
            let grown = self.room_for(copy, length)?;
            self.branches[copy.branch].judged(sys::ftruncate(&copy.file, length))?;
            let shrunk = before.st_size.cast_unsigned().saturating_sub(length);
            self.places.grew(copy.branch, grown - i64::try_from(shrunk).unwrap_or(0));
            strip_set_id(&copy.file, &before, caller)?;
        }
        Ok(())
    }
}

/// Whether a file has bits that a write takes from it.
fn has_set_id(body: &Body) -> bool {
    let Body::Whole(copies) = body else { return false };
    let bits = Mode::SUID | Mode::SGID;
    let has = |file: &OwnedFd| {
        sys::fstat(file).is_ok_and(|stat| Mode::from_raw_mode(stat.st_mode).intersects(bits))
    };
    copies.iter().any(|copy| has(&copy.file))
}

/// Whoever is not root and changes a file takes its set-id bits from it, as on every filesystem.
pub(crate) fn strip_set_id(file: &OwnedFd, stat: &Stat, caller: Caller) -> Result<(), Errno> {
    let has = Mode::from_raw_mode(stat.st_mode);
    let mut loses = Mode::SUID;
    if has.contains(Mode::XGRP) {
        loses |= Mode::SGID;
    }
    let is_file = FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile;
    if caller.uid == 0 || !is_file || !has.intersects(loses) {
        return Ok(());
    }
    sys::fchmod(file, has - loses)
}

fn read_whole(file: impl AsFd, buffer: &mut [u8], offset: u64) -> Result<usize, Errno> {
    let mut done = 0;
    while done < buffer.len() {
        match rustix::io::pread(&file, &mut buffer[done..], offset + done as u64) {
            Ok(0) => break,
            Ok(length) => done += length,
            Err(Errno::INTR) => {}
            Err(errno) => return Err(errno),
        }
    }
    Ok(done)
}

fn write_whole(file: impl AsFd, bytes: &[u8], offset: u64) -> Result<(), Errno> {
    let mut done = 0;
    while done < bytes.len() {
        match rustix::io::pwrite(&file, &bytes[done..], offset + done as u64) {
            Ok(length) => done += length,
            Err(Errno::INTR) => {}
            Err(errno) => return Err(errno),
        }
    }
    Ok(())
}
