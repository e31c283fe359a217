//! Reading contents: every cell is checked whole before anything is computed from it.

use std::collections::HashMap;
use std::rc::Rc;

use sieve_core::checksum::{ContentHasher, ContentSum, cell_sum};
use sieve_core::units::{ByteLength, DiskId, VersionId};

use crate::catalogue::objects;
use crate::catalogue::versions::{self, VersionRow};
use crate::disk::{ReadFile, WriteFile, full_path};
use crate::error::{Error, Kind, Result};
use crate::pool::Pool;

/// How much is read at once.
pub(crate) const READ_STEP: usize = 1 << 18;

/// As much as is read at once of a file of that size.
pub(crate) fn step_for(size: ByteLength) -> usize {
    usize::try_from(size.exact()).unwrap_or(READ_STEP).min(READ_STEP)
}

/// Why a cell of a content cannot be had from its own disk.
#[derive(Debug)]
pub enum CellProblem {
    /// The disk is not there, or nothing on it is known to hold the content.
    Absent,
    /// The file is not as it was when its content was checksummed.
    Changed(String),
    /// The file looks as it was, and the bytes are others.
    Damaged(String),
    /// The disk does not hand the bytes out.
    Failed(Error),
}

struct OpenContent {
    version: Rc<VersionRow>,
    path: String,
    file: Box<dyn ReadFile>,
}

/// Hands out checked cells; remembers one open file and one cell a disk.
pub struct Contents<'a> {
    pool: &'a Pool,
    /// Disks that are not to be read although they are there.
    without: Vec<DiskId>,
    open: HashMap<DiskId, OpenContent>,
    at_hand: HashMap<DiskId, (VersionId, u64, Rc<Vec<u8>>)>,
}

impl<'a> Contents<'a> {
    /// Starts with nothing open.
    pub fn new(pool: &'a Pool) -> Self {
        Self::without(pool, Vec::new())
    }

    /// Starts with nothing open, and reads nothing from the disks given.
    pub fn without(pool: &'a Pool, without: Vec<DiskId>) -> Self {
        Self { pool, without, open: HashMap::new(), at_hand: HashMap::new() }
    }

    /// The record of a content.
    ///
    /// # Errors
    /// When the catalogue has none, or it contradicts itself.
    pub fn version(&self, disk: DiskId, id: VersionId) -> Result<Rc<VersionRow>> {
        match self.open.get(&disk) {
            Some(open) if open.version.id == id => Ok(Rc::clone(&open.version)),
            _ => Ok(Rc::new(versions::get(self.pool.catalogue.reading(), id)?)),
        }
    }

    /// One cell of a content, checked.
    ///
    /// # Errors
    /// The reason why its own disk cannot give it.
    pub fn cell(
        &mut self,
        disk: DiskId,
        id: VersionId,
        cell: u64,
    ) -> std::result::Result<Rc<Vec<u8>>, CellProblem> {
        if let Some((version, number, bytes)) = self.at_hand.get(&disk)
            && (*version, *number) == (id, cell)
        {
            return Ok(Rc::clone(bytes));
        }
        if self.open.get(&disk).is_none_or(|open| open.version.id != id) {
            let opened = self.locate(disk, id)?;
            self.open.insert(disk, opened);
        }
        let open = self.open.get_mut(&disk).expect("it was just put there");
        let bytes = Rc::new(read_cell(open, cell)?);
        self.at_hand.insert(disk, (id, cell, Rc::clone(&bytes)));
        Ok(bytes)
    }

    fn locate(&self, disk: DiskId, id: VersionId) -> std::result::Result<OpenContent, CellProblem> {
        let member = self.pool.member(disk).map_err(CellProblem::Failed)?;
        let reading = self.pool.catalogue.reading();
        let Some(real) = member.usable().ok().filter(|_| !self.without.contains(&disk)) else {
            return Err(CellProblem::Absent);
        };
        let version = Rc::new(versions::get(reading, id).map_err(CellProblem::Failed)?);
        let object = objects::by_version(reading, disk, id).map_err(CellProblem::Failed)?;
        let object = object.ok_or(CellProblem::Absent)?;
        let mut problem = CellProblem::Absent;
        for name in objects::names(reading, object.id).map_err(CellProblem::Failed)? {
            let path = full_path(&**real, &name).display().to_string();
            match real.open(&name).and_then(|file| Ok((file.stat()?, file))) {
                Ok((stat, file)) if object.matches(&stat) => return Ok(OpenContent { version, path, file }),
                Ok(_) => problem = CellProblem::Changed(path),
                Err(error) if error.io_kind() == Some(std::io::ErrorKind::NotFound) => {}
                Err(error) => problem = CellProblem::Failed(error),
            }
        }
        Err(problem)
    }
}

fn read_cell(open: &mut OpenContent, cell: u64) -> std::result::Result<Vec<u8>, CellProblem> {
    let (offset, length) = open.version.cell_span(cell);
    let mut bytes = vec![0; usize::try_from(length).unwrap_or(0)];
    let mut filled = 0;
    while filled < bytes.len() {
        let end = bytes.len().min(filled + READ_STEP);
        match open.file.read_at(&mut bytes[filled..end], offset + filled as u64) {
            Ok(0) => return Err(CellProblem::Changed(open.path.clone())),
            Ok(count) => filled += count,
            Err(error) => return Err(CellProblem::Failed(error)),
        }
    }
    let index = usize::try_from(cell).unwrap_or(usize::MAX);
    if open.version.sum.cells.get(index) != Some(&cell_sum(open.version.sum.size, cell, &bytes)) {
        return Err(CellProblem::Damaged(open.path.clone()));
    }
    Ok(bytes)
}

/// Copies all bytes of a file and makes the copy durable; `each` sees them on the way.
///
/// # Errors
/// What a disk says, and what `each` says.
pub(crate) fn copy(
    input: &mut dyn ReadFile,
    output: &mut dyn WriteFile,
    mut each: impl FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    let mut buffer = vec![0; READ_STEP];
    let mut offset = 0;
    loop {
        let count = input.read_at(&mut buffer, offset)?;
        if count == 0 {
            return output.sync();
        }
        each(&buffer[..count])?;
        output.write_at(&buffer[..count], offset)?;
        offset += count as u64;
    }
}

/// Reads a file from an offset on, so many bytes of it or all, a step at a time.
///
/// # Errors
/// Those of `take`, what the disk says, and when it is shorter.
pub(crate) fn for_each_part(
    file: &mut dyn ReadFile,
    from: u64,
    length: Option<ByteLength>,
    mut take: impl FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    let mut buffer = vec![0; READ_STEP];
    let end = length.map(|length| from + length.exact());
    let mut offset = from;
    while end.is_none_or(|end| offset < end) {
        let left = end.map_or(READ_STEP as u64, |end| end - offset);
        let wanted = usize::try_from(left).unwrap_or(READ_STEP).min(READ_STEP);
        match (file.read_at(&mut buffer[..wanted], offset)?, end) {
            (0, None) => break,
            (0, Some(_)) => {
                return Err(Error::new(Kind::Corrupt, "file.short", "a file is shorter than it should be"));
            }
            (count, _) => {
                take(&buffer[..count])?;
                offset += count as u64;
            }
        }
    }
    Ok(())
}

/// Reads a whole file and computes its checksums; nothing when it has another length than expected.
///
/// # Errors
/// What the disk says, and what `read` says, who hears of every part that was read.
pub fn checksum(
    file: &mut dyn ReadFile,
    size: ByteLength,
    mut read: impl FnMut(u64) -> Result<()>,
) -> Result<Option<ContentSum>> {
    let mut hasher = ContentHasher::new(size);
    let mut buffer = vec![0; step_for(size)];
    let mut offset = 0;
    while offset < size.exact() {
        let count = file.read_at(&mut buffer, offset)?;
        if count == 0 {
            return Ok(None);
        }
        hasher.update(&buffer[..count]);
        offset += count as u64;
        read(count as u64)?;
    }
    let is_as_long = file.stat()?.size == size;
    Ok(hasher.finish().filter(|_| is_as_long))
}
