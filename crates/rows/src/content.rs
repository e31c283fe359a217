//! Reading contents: every cell is checked whole before anything is computed from it.

use std::collections::HashMap;
use std::rc::Rc;

use sieve_core::checksum::cell_sum;
use sieve_core::units::{DiskId, VersionId};

use crate::places::Places;
use sieve_catalogue::objects;
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_disk::copying::READ_STEP;
use sieve_disk::{Error, Result};
use sieve_disk::{ReadFile, full_path};

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
    places: &'a dyn Places,
    /// Disks that are not to be read although they are there.
    without: Vec<DiskId>,
    open: HashMap<DiskId, OpenContent>,
    at_hand: HashMap<DiskId, (VersionId, u64, Rc<Vec<u8>>)>,
}

impl<'a> Contents<'a> {
    /// Starts with nothing open.
    pub fn new(places: &'a dyn Places) -> Self {
        Self::without(places, Vec::new())
    }

    /// Starts with nothing open, and reads nothing from the disks given.
    pub fn without(places: &'a dyn Places, without: Vec<DiskId>) -> Self {
        Self { places, without, open: HashMap::new(), at_hand: HashMap::new() }
    }

    /// The record of a content.
    ///
    /// # Errors
    /// When the catalogue has none, or it contradicts itself.
    pub fn version(&self, disk: DiskId, id: VersionId) -> Result<Rc<VersionRow>> {
        match self.open.get(&disk) {
            Some(open) if open.version.id == id => Ok(Rc::clone(&open.version)),
            _ => Ok(Rc::new(versions::get(self.places.reading(), id)?)),
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
        let reading = self.places.reading();
        let Some(real) = self.places.disk(disk).filter(|_| !self.without.contains(&disk)) else {
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
