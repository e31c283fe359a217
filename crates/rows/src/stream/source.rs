//! One content read in order: every cell of it that is used is hashed whole, and compared or remembered.

use std::sync::Arc;

use sieve_core::checksum::{CellHasher, CellSum, ContentSum, Subtree, cell_size};
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, CellIndex, GRANULE, VersionId};

use sieve_disk::Error;
use sieve_disk::copying::READ_STEP;
use sieve_disk::{Disk, ReadFile, Stamp};

/// A content, with all that is needed to read and check it without the catalogue.
#[derive(Debug)]
pub struct Source {
    /// Which content it is.
    pub version: VersionId,
    /// The names that its file has.
    pub names: Vec<RelPath>,
    /// How the file looked when the content was checksummed, or was last seen.
    pub stamp: Stamp,
    /// Its length.
    pub size: ByteLength,
    /// What it is held against.
    pub checks: Checks,
}

/// What a content is held against.
#[derive(Debug)]
pub enum Checks {
    /// The checksums of all its cells.
    Known(Vec<CellSum>),
    /// None yet: they are computed on the way.
    Fresh {
        /// The granule after its last one with data.
        end: u64,
    },
}

/// Why a content cannot be used.
#[derive(Debug)]
pub enum Trouble {
    /// The file is not as it was when it was last seen, or is no longer there.
    Changed,
    /// A cell is not what its checksum says.
    Damaged,
    /// The disk does not hand it out.
    Failed(Error),
}

/// A content that is being read.
pub(super) struct Cursor {
    pub(super) source: Arc<Source>,
    file: Box<dyn ReadFile>,
    open: Option<OpenCell>,
    /// Of a fresh content: the cells that were read.
    subtrees: Vec<Subtree>,
    /// Of a known content: a cell that is not to be used.
    bad: Option<u64>,
    /// Cells of parity that bytes went into: of the open cell, or of a fresh content of all of it.
    used: Vec<CellIndex>,
}

struct OpenCell {
    index: u64,
    hasher: CellHasher,
    /// Bytes of it that went into the hasher.
    done: u64,
}

/// Trouble, and the cells of parity that have bytes of it.
pub(super) type Broken = (Trouble, Vec<CellIndex>);

impl Cursor {
    /// Opens the file of a content; `subtrees` are those of its cells that were read before.
    pub(super) fn open(
        disk: &dyn Disk,
        source: &Arc<Source>,
        subtrees: Vec<Subtree>,
    ) -> Result<Self, Trouble> {
        let mut trouble = Trouble::Changed;
        for name in &source.names {
            match disk.open(name).and_then(|file| Ok((file.stat()?, file))) {
                Ok((stat, file)) if source.stamp.is_of(&stat) => {
                    let source = Arc::clone(source);
                    return Ok(Self { source, file, open: None, subtrees, bad: None, used: Vec::new() });
                }
                Ok(_) => {}
                Err(error) if error.io_kind() == Some(std::io::ErrorKind::NotFound) => {}
                Err(error) => trouble = Trouble::Failed(error),
            }
        }
        Err(trouble)
    }

    fn is_fresh(&self) -> bool {
        matches!(self.source.checks, Checks::Fresh { .. })
    }

    fn cell_bytes(&self) -> u64 {
        cell_size(self.source.size)
    }

    fn cell_length(&self, index: u64) -> u64 {
        self.cell_bytes().min(self.source.size.exact().saturating_sub(index * self.cell_bytes()))
    }

    /// Fills `buffer` with the content from granule `from` on, zeros beyond its end, for a cell of parity.
    pub(super) fn read(
        &mut self,
        from: u64,
        buffer: &mut [u8],
        parity: CellIndex,
        scratch: &mut Vec<u8>,
    ) -> Result<(), Broken> {
        let mut position = from * GRANULE;
        let end = self.source.size.exact().min(position + buffer.len() as u64);
        let content = usize::try_from(end.saturating_sub(position)).unwrap_or(0);
        buffer[content..].fill(0);
        let mut rest = &mut buffer[..content];
        while !rest.is_empty() {
            let index = position / self.cell_bytes();
            self.enter(index, position - index * self.cell_bytes(), scratch)?;
            if self.used.last() != Some(&parity) {
                self.used.push(parity);
            }
            let room = self.cell_bytes() - position % self.cell_bytes();
            let length = usize::try_from(room).unwrap_or(usize::MAX).min(rest.len()).min(READ_STEP);
            let (now, later) = rest.split_at_mut(length);
            self.fill(now, position)?;
            position += length as u64;
            rest = later;
            self.close_if_done()?;
        }
        Ok(())
    }

    /// Makes the cell `index` the open one, hashed up to `within`.
    fn enter(&mut self, index: u64, within: u64, scratch: &mut Vec<u8>) -> Result<(), Broken> {
        if self.open.as_ref().is_some_and(|open| open.index == index && open.done == within) {
            return Ok(());
        }
        self.complete(scratch)?;
        if self.bad == Some(index) {
            return Err(self.broken(Trouble::Damaged));
        }
        while self.is_fresh() && (self.subtrees.len() as u64) < index {
            self.begin(self.subtrees.len() as u64);
            self.complete(scratch)?;
        }
        self.begin(index);
        self.skip(within, scratch)
    }

    fn begin(&mut self, index: u64) {
        let hasher = CellHasher::new(self.source.size, index);
        self.open = Some(OpenCell { index, hasher, done: 0 });
    }

    /// Reads the open cell on up to `within`, for its checksum alone.
    fn skip(&mut self, within: u64, scratch: &mut Vec<u8>) -> Result<(), Broken> {
        scratch.resize(READ_STEP, 0);
        while let Some(open) = self.open.as_ref().filter(|open| open.done < within) {
            let position = open.index * self.cell_bytes() + open.done;
            let length = usize::try_from(within - open.done).unwrap_or(usize::MAX).min(READ_STEP);
            self.fill(&mut scratch[..length], position)?;
        }
        Ok(())
    }

    fn fill(&mut self, buffer: &mut [u8], position: u64) -> Result<(), Broken> {
        match self.file.read_at(buffer, position) {
            Ok(count) if count == buffer.len() => {}
            Ok(_) => return Err(self.broken(Trouble::Changed)),
            Err(error) => return Err(self.broken(Trouble::Failed(error))),
        }
        let open = self.open.as_mut().expect("a cell is open while it is read");
        open.hasher.update(buffer);
        open.done += buffer.len() as u64;
        Ok(())
    }

    fn close_if_done(&mut self) -> Result<(), Broken> {
        let Some(open) = self.open.as_ref() else { return Ok(()) };
        if open.done < self.cell_length(open.index) {
            return Ok(());
        }
        let (index, subtree) = (open.index, open.hasher.finish());
        // From the start: the system gives only whole runs of pages back, and they need not end where cells do.
        self.file.let_go(0, index * self.cell_bytes() + self.cell_length(index));
        let position = usize::try_from(index).unwrap_or(usize::MAX);
        self.open = None;
        match &self.source.checks {
            Checks::Known(sums) if sums.get(position) == Some(&subtree.sum()) => self.used.clear(),
            Checks::Fresh { .. } if position == self.subtrees.len() => self.subtrees.push(subtree),
            Checks::Fresh { .. } if self.subtrees.get(position) == Some(&subtree) => {}
            Checks::Known(_) => {
                self.bad = Some(index);
                return Err(self.broken(Trouble::Damaged));
            }
            Checks::Fresh { .. } => return Err(self.broken(Trouble::Changed)),
        }
        Ok(())
    }

    /// Reads the rest of the open cell, so that what was used of it is checked.
    pub(super) fn complete(&mut self, scratch: &mut Vec<u8>) -> Result<(), Broken> {
        let Some(index) = self.open.as_ref().map(|open| open.index) else { return Ok(()) };
        self.skip(self.cell_length(index), scratch)?;
        self.close_if_done()
    }

    fn broken(&mut self, trouble: Trouble) -> Broken {
        self.open = None;
        (trouble, std::mem::take(&mut self.used))
    }

    /// Whether a fresh content was read up to this granule, the last one with data.
    pub(super) fn is_at_end(&self, granule: u64) -> bool {
        matches!(self.source.checks, Checks::Fresh { end } if end <= granule)
    }

    /// Reads what is left of a fresh content, and makes sure that it was the same all the time.
    pub(super) fn finish(&mut self, scratch: &mut Vec<u8>) -> Result<ContentSum, Broken> {
        self.complete(scratch)?;
        let cells = self.source.size.exact().div_ceil(self.cell_bytes());
        while (self.subtrees.len() as u64) < cells {
            self.begin(self.subtrees.len() as u64);
            self.complete(scratch)?;
        }
        self.check_unchanged()?;
        ContentSum::of_subtrees(self.source.size, &self.subtrees).ok_or_else(|| self.broken(Trouble::Changed))
    }

    /// Leaves a fresh content that is not read to its end: the cells that were read so far.
    pub(super) fn pause(&mut self, scratch: &mut Vec<u8>) -> Result<(Vec<Subtree>, Vec<CellIndex>), Broken> {
        self.complete(scratch)?;
        self.check_unchanged()?;
        Ok((std::mem::take(&mut self.subtrees), std::mem::take(&mut self.used)))
    }

    fn check_unchanged(&mut self) -> Result<(), Broken> {
        match self.file.stat() {
            Ok(stat) if self.source.stamp.is_of(&stat) => Ok(()),
            Ok(_) => Err(self.broken(Trouble::Changed)),
            Err(error) => Err(self.broken(Trouble::Failed(error))),
        }
    }
}
