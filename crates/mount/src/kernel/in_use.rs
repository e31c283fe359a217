//! Files that are open: how each is read and written, and how it is found by its number while its name changes.

use std::collections::HashMap;
use std::os::fd::OwnedFd;
use std::sync::{Arc, Mutex};

use fuser::{BackingId, FileHandle, FopenFlags, INodeNo, OpenFlags, ReplyOpen};
use rustix::io::Errno;

use super::words::told;
use crate::files::handles::OpenFile;
use crate::guarded;
use crate::tree::attributes::Wanted;
use crate::tree::look::Look;
use crate::tree::number::Number;
use crate::tree::volume::{Caller, Volume};

/// How a file that is open is read and written.
struct InUse {
    handles: usize,
    /// The file on its disk that the kernel goes to; none where it is served.
    passed: Option<Arc<BackingId>>,
}

/// Files that are open, with how each is read and written: one way for all who have it open.
pub(super) struct OpenFiles {
    volume: Arc<Volume>,
    /// The kernel may read and write files on their disks.
    passes: bool,
    in_use: Mutex<HashMap<Number, InUse>>,
}

impl OpenFiles {
    pub(super) fn new(volume: Arc<Volume>, passes: bool) -> Self {
        Self { volume, passes, in_use: Mutex::default() }
    }

    /// Whether a file may be read and written by the kernel alone: it lies on one disk, nobody limits how much may be written
    /// there, and it need not go on elsewhere. Also who reads only: what the kernel has open of a file that moves later would
    /// stay what it was.
    pub(super) fn may_pass(&self, file: &OpenFile) -> bool {
        let on_one = file.on_one(|branch, _| branch);
        self.passes && on_one.is_some_and(|branch| self.volume.has_headroom(branch))
    }

    /// Decides how a file is read and written, with `pass` to let the kernel at it.
    pub(super) fn use_file(
        &self,
        file: &OpenFile,
        pass: impl Fn(&OwnedFd) -> std::io::Result<BackingId>,
    ) -> Option<Arc<BackingId>> {
        let mut in_use = guarded(&self.in_use);
        if let Some(known) = in_use.get_mut(&file.number) {
            known.handles += 1;
            return known.passed.clone();
        }
        let passed = if self.may_pass(file) {
            file.on_one(|_, descriptor| pass(descriptor).ok().map(Arc::new)).flatten()
        } else {
            None
        };
        in_use.insert(file.number, InUse { handles: 1, passed: passed.clone() });
        passed
    }

    pub(super) fn let_go(&self, number: Number) {
        let mut in_use = guarded(&self.in_use);
        if let Some(known) = in_use.get_mut(&number) {
            known.handles -= 1;
            if known.handles == 0 {
                in_use.remove(&number);
            }
        }
    }

    /// Opens a file that does not move while it is opened.
    pub(super) fn open_in_place(&self, number: Number, flags: i32) -> Result<(u64, Arc<OpenFile>), Errno> {
        let mut attempts = 0;
        loop {
            let opened = self.volume.open_file(number, flags);
            // Between a look and the opening it may have gone to another disk.
            if matches!(opened, Err(Errno::STALE | Errno::NOENT)) && attempts < 3 {
                attempts += 1;
                drop(guarded(&self.volume.moving));
                continue;
            }
            let file = Arc::new(opened?);
            let handle = self.volume.files.add(Arc::clone(&file));
            if self.may_pass(&file) || !self.volume.was_left_behind(&file) {
                return Ok((handle, file));
            }
            self.volume.files.remove(handle);
        }
    }

    pub(super) fn open_now(&self, number: Number, flags: OpenFlags, reply: ReplyOpen) {
        let (handle, file) = match self.open_in_place(number, flags.0) {
            Ok((handle, file)) => (FileHandle(handle), file),
            Err(errno) => return reply.error(told(errno)),
        };
        if file.is_apart {
            // The kernel would leave the bits when a stranger writes: such a file is written by way of us, each byte.
            return reply.opened(handle, FopenFlags::FOPEN_DIRECT_IO);
        }
        match self.use_file(&file, |descriptor| reply.open_backing(descriptor)) {
            Some(passed) => reply.opened_passthrough(handle, FopenFlags::empty(), &passed),
            None => reply.opened(handle, FopenFlags::FOPEN_KEEP_CACHE | FopenFlags::FOPEN_NOFLUSH),
        }
    }

    pub(super) fn look_of(&self, ino: INodeNo, handle: Option<FileHandle>) -> Result<Look, Errno> {
        let number = Number(ino.0);
        match self.volume.look_at(number) {
            Err(Errno::STALE) => {
                let open = match handle {
                    Some(handle) => self.volume.files.get(handle.0).ok(),
                    None => self.volume.files.of_number(number),
                };
                self.volume.look_at_open(&*open.ok_or(Errno::STALE)?)
            }
            other => other,
        }
    }

    pub(super) fn set(
        &self,
        caller: Caller,
        ino: INodeNo,
        size: Option<u64>,
        wanted: Wanted,
        handle: Option<FileHandle>,
    ) -> Result<Look, Errno> {
        let number = Number(ino.0);
        let open = match handle {
            Some(handle) => self.volume.files.get(handle.0).ok(),
            None => self.volume.files.of_number(number),
        };
        if let Some(size) = size {
            self.volume.set_length(number, open.as_deref(), size, caller)?;
        }
        self.volume.set_attributes(number, open.as_deref(), wanted)?;
        self.look_of(ino, handle)
    }
}
