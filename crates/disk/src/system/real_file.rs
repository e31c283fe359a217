//! One open file of a real disk.

use super::real_stat::{set_attributes, stat_of};
use crate::write_back::WriteBack;
use crate::{Attributes, Flow, Lease, LockGuard, ReadFile, Stat, WriteFile, lease, whole_granules};
use crate::{Error, Result};
use rustix::fs::{self as sys, SeekFrom};
use rustix::io::{Errno, retry_on_intr};
use sieve_core::lane::Rows;
use std::fs::File;
use std::os::fd::AsFd;
use std::os::unix::fs::FileExt;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

pub(crate) struct RealFile {
    pub(crate) file: File,
    pub(crate) path: PathBuf,
    pub(crate) flow: Arc<Flow>,
    pub(crate) write_back: WriteBack,
}

impl LockGuard for RealFile {}

impl RealFile {
    pub(crate) fn error(&self, code: &'static str) -> impl FnOnce(std::io::Error) -> Error + '_ {
        move |error| Error::io(code, &self.path, error)
    }

    pub(crate) fn fill(&self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        let (mut filled, begun) = (0, Instant::now());
        while filled < buffer.len() {
            match self.file.read_at(&mut buffer[filled..], offset + filled as u64) {
                Ok(0) => break,
                Ok(count) => filled += count,
                Err(error) if error.kind() == std::io::ErrorKind::Interrupted => {}
                Err(error) => return Err(self.error("file.read")(error)),
            }
        }
        self.flow.add_read(filled, begun);
        Ok(filled)
    }
}

impl ReadFile for RealFile {
    fn read_at(&mut self, buffer: &mut [u8], offset: u64) -> Result<usize> {
        self.fill(buffer, offset)
    }

    fn stat(&self) -> Result<Stat> {
        sys::fstat(&self.file).map(|raw| stat_of(&raw)).map_err(|e| self.error("file.stat")(e.into()))
    }

    fn data_ranges(&self) -> Result<Vec<Rows>> {
        let stat = ReadFile::stat(self)?;
        let size = stat.size.exact();
        if stat.allocated >= stat.size {
            return Ok(whole_granules(std::iter::once((0, size))));
        }
        let mut ranges = Vec::new();
        let mut position = 0;
        while position < size {
            let start = match sys::seek(&self.file, SeekFrom::Data(position)) {
                Ok(start) => start,
                Err(Errno::NXIO) => break,
                Err(Errno::INVAL) => return Ok(whole_granules(std::iter::once((0, size)))),
                Err(errno) => return Err(self.error("file.holes")(errno.into())),
            };
            let end = sys::seek(&self.file, SeekFrom::Hole(start))
                .map_err(|errno| self.error("file.holes")(errno.into()))?;
            ranges.push((start, end.min(size)));
            position = end;
        }
        Ok(whole_granules(ranges.into_iter()))
    }

    fn lease(&self) -> Result<Lease> {
        lease::take(self.file.as_fd()).map_err(|errno| self.error("file.lease")(errno.into()))
    }

    fn lease_holds(&self) -> bool {
        lease::holds(self.file.as_fd())
    }

    /// An advice: where the system does not take it, nothing is wrong.
    fn let_go(&self, offset: u64, length: u64) {
        let _ = sys::fadvise(&self.file, offset, std::num::NonZeroU64::new(length), sys::Advice::DontNeed);
    }
}

impl WriteFile for RealFile {
    fn write_at(&mut self, bytes: &[u8], offset: u64) -> Result<()> {
        let begun = Instant::now();
        self.file.write_all_at(bytes, offset).map_err(self.error("file.write"))?;
        let sent = self.write_back.wrote(&self.file, offset, bytes.len() as u64);
        sent.map_err(self.error("file.write"))?;
        self.flow.add_written(bytes.len(), begun);
        Ok(())
    }

    fn set_length(&mut self, length: u64) -> Result<()> {
        self.file.set_len(length).map_err(self.error("file.write"))
    }

    fn set_attributes(&mut self, attributes: &Attributes) -> Result<()> {
        set_attributes(&self.file, attributes).map_err(|errno| self.error("attributes.set")(errno.into()))
    }

    fn sync(&mut self) -> Result<()> {
        let begun = Instant::now();
        let synced = retry_on_intr(|| sys::fsync(self.file.as_fd()));
        self.flow.add_written(0, begun);
        synced.map_err(|errno| self.error("file.sync")(errno.into()))
    }
}
