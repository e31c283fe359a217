//! Opening files, and making new ones.

use std::sync::RwLock;

use rustix::fs::{self as sys, OFlags};
use rustix::io::Errno;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_pool::pieces::PiecedFile;

use crate::below::branch::Branch;
use crate::below::knowledge::{Absent, AbsentThing};
use crate::below::past::Kept;
use crate::code_of;
use crate::files::handles::{Body, Copy, OpenFile, Piece, PieceBytes, has_set_id};
use crate::tree::look::Look;
use crate::tree::number::Number;
use crate::tree::volume::{Caller, Found, Volume};

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
            Found::Absent(absent) => self.absent(&path, &absent)?,
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

    /// A file whose disk is away: as it is held elsewhere, else from parity: where it came from, if that is held, or where it lay.
    fn absent(&self, path: &RelPath, absent: &Absent) -> Result<Body, Errno> {
        let AbsentThing::File(object, _) = &absent.what else { return Err(Errno::NXIO) };
        let held = self.knowledge.held_as(object, path).map_err(|e| code_of(&e))?;
        for (place, copy) in &held {
            let branch = self.branches.iter().find(|branch| branch.id == copy.disk && branch.lives());
            if let Some(file) = branch.and_then(|branch| branch.open_file(place, OFlags::RDONLY).ok()) {
                let bytes = PieceBytes::Here(file);
                return Ok(Body::Pieces(vec![Piece { offset: 0, length: object.size.exact(), bytes }]));
            }
        }
        for (_, copy) in &held {
            let content = self.computer.content(copy).map_err(|e| code_of(&e))?;
            if let Some(content) = content.filter(|content| self.computer.has(content)) {
                return Ok(Body::Computed(content));
            }
        }
        let content = self.computer.content(object).map_err(|e| code_of(&e))?;
        content.map(Body::Computed).ok_or(Errno::IO)
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
                    PieceBytes::Computed(Box::new(content.ok_or(Errno::IO)?))
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
            let Some(object) = object.filter(|_| self.holds(path)) else { continue };
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
        Ok(held.plus(object.size)
            <= self.spec.mount.held_at_most.of(branch.capacity.unwrap_or(total).min(total)))
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
}
