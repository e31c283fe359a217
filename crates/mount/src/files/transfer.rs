//! Reading, writing and sizing open files.

use std::os::fd::{AsFd, OwnedFd};

use rustix::fs::{self as sys, FallocateFlags, FileType, Mode, OFlags, SeekFrom, Stat};
use rustix::io::Errno;

use crate::below::content::Content;
use crate::files::handles::{Body, Copy, OpenFile, PieceBytes};
use crate::tree::look::Look;
use crate::tree::number::Number;
use crate::tree::volume::{Caller, Volume};
use crate::{code_of, guarded};

impl Volume {
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

    /// What was held a moment ago may be needed for it, and is found as soon as it is recorded.
    fn compute(&self, content: &Content, buffer: &mut [u8], offset: u64) -> Result<usize, Errno> {
        let without = self.absent_disks();
        let mut read = || self.computer.read(content, buffer, offset, &without).map_err(|e| code_of(&e));
        match read()? {
            Some(length) => Ok(length),
            None => {
                self.past.record_soon();
                read()?.ok_or(Errno::IO)
            }
        }
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
            let at = if file.appends && !self.kernel_appends() {
                sys::fstat(&copy.file)?.st_size.cast_unsigned()
            } else {
                offset
            };
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
    pub(crate) fn allocate(&self, file: &OpenFile, mode: u32, offset: u64, length: u64) -> Result<(), Errno> {
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
