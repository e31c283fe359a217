//! Bringing what is written to the medium while more is being written.
//!
//! Left to itself the system keeps what is written in memory for half a minute, or until a `sync`: then all of it has to
//! reach the disk at once, and whoever computes waits. Sent on its way in steps, it reaches the disk at the disk's own
//! pace, reading and writing go on side by side, and how fast things go can be told. Nothing is durable by it: that is
//! what `sync` is for.
#![expect(unsafe_code, reason = "sync_file_range has no safe wrapper")]

use std::fs::File;
use std::io;
use std::os::fd::AsRawFd;

/// So much is sent on its way at once.
const STEP: u64 = 8 << 20;

/// What was written to a file in one go, and how far it was sent.
#[derive(Debug, Default)]
pub(super) struct WriteBack {
    /// From where on nothing was sent.
    from: u64,
    /// Where the last write ended.
    to: u64,
    /// The step that is on its way.
    sent: Option<(u64, u64)>,
}

impl WriteBack {
    /// Something was written: sends it on its way when enough has come together, and waits for the step before, so that
    /// no more than two are ever under way.
    ///
    /// # Errors
    /// What the disk says about the step before. That error has to go on from here: who is told it once is not told it
    /// again by the `sync` of the same descriptor. A filesystem that does not take such advice is no error.
    pub(super) fn wrote(&mut self, file: &File, offset: u64, length: u64) -> io::Result<()> {
        if offset != self.to {
            self.send(file)?;
            self.from = offset;
        }
        self.to = offset + length;
        if self.to - self.from >= STEP { self.send(file) } else { Ok(()) }
    }

    fn send(&mut self, file: &File) -> io::Result<()> {
        let (from, to) = (self.from, self.to);
        self.from = to;
        // What is little is left to the system.
        if to - from < STEP / 8 {
            return Ok(());
        }
        range(file, from, to - from, libc::SYNC_FILE_RANGE_WRITE)?;
        let Some((from, to)) = self.sent.replace((from, to)) else { return Ok(()) };
        range(file, from, to - from, libc::SYNC_FILE_RANGE_WAIT_BEFORE)
    }
}

fn range(file: &File, offset: u64, length: u64, flags: libc::c_uint) -> io::Result<()> {
    let (Ok(offset), Ok(length)) = (i64::try_from(offset), i64::try_from(length)) else { return Ok(()) };
    // SAFETY: the descriptor is that of an open file, and the call touches no memory of ours.
    if unsafe { libc::sync_file_range(file.as_raw_fd(), offset, length, flags) } == 0 {
        return Ok(());
    }
    let error = io::Error::last_os_error();
    match error.raw_os_error() {
        Some(libc::EINVAL | libc::ENOSYS | libc::ESPIPE | libc::EOPNOTSUPP | libc::EINTR) => Ok(()),
        _ => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::FileExt;

    /// The portable twin is not to send anything: what is read afterwards is the same.
    #[test]
    fn what_is_sent_early_is_what_was_written() {
        let folder = tempfile::tempdir().unwrap();
        let written = |sends: bool| {
            let path = folder.path().join(format!("file-{sends}"));
            let file =
                File::options().create(true).truncate(true).read(true).write(true).open(&path).unwrap();
            let mut back = WriteBack::default();
            let chunk: Vec<u8> = (0..3 << 20).map(|n: u32| (n % 251) as u8).collect();
            // In a row, with a jump, and over what was sent before.
            for place in [0, 1, 2, 3, 4, 9, 10, 11, 0] {
                let offset = place * chunk.len() as u64;
                file.write_all_at(&chunk, offset).unwrap();
                if sends {
                    back.wrote(&file, offset, chunk.len() as u64).unwrap();
                }
            }
            assert!(!sends || back.sent.is_some(), "something was sent");
            file.sync_all().unwrap();
            std::fs::read(path).unwrap()
        };
        assert!(written(true) == written(false));
    }
}
