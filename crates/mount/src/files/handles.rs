//! Open files: what reads and writes of a program go to.

use std::collections::HashMap;
use std::os::fd::OwnedFd;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, RwLock, RwLockReadGuard};

use rustix::fs::{self as sys, Mode};
use rustix::io::Errno;

use crate::below::content::Content;
use crate::guarded;
use crate::tree::number::Number;

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
    pub(crate) offset: u64,
    pub(crate) length: u64,
    pub(crate) bytes: PieceBytes,
}

/// Where the bytes of a piece are.
pub(crate) enum PieceBytes {
    Here(OwnedFd),
    Computed(Box<Content>),
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

/// Whether a file has bits that a write takes from it.
pub(crate) fn has_set_id(body: &Body) -> bool {
    let Body::Whole(copies) = body else { return false };
    let bits = Mode::SUID | Mode::SGID;
    let has = |file: &OwnedFd| {
        sys::fstat(file).is_ok_and(|stat| Mode::from_raw_mode(stat.st_mode).intersects(bits))
    };
    copies.iter().any(|copy| has(&copy.file))
}
