//! The parity image of one index: on one disk, or in parts over several.

use std::collections::{HashMap, HashSet};

use sieve_core::lane::IntervalMap;
use sieve_core::units::{CellIndex, CheckpointId, DiskId, ParityIndex};

use super::part::{OpenCell, Part, Spot};
use sieve_disk::{Error, Kind, Result};

/// Some cells of an image, for reading them while others are written.
pub struct ParityReader {
    spots: HashMap<CellIndex, Spot>,
    /// Cells that belong on a disk that is not there.
    absent: HashSet<CellIndex>,
}

impl ParityReader {
    /// Reads a part of a cell; nothing where it cannot be had. Whether it is right, [`Self::is_sum_of`] tells at its end.
    pub fn read_part(&self, cell: CellIndex, within: u64, buffer: &mut [u8]) -> Option<()> {
        let spot = self.spots.get(&cell)?;
        let mut file = spot.disk.open(&spot.segment).ok()?;
        let length = file.read_at(buffer, spot.offset + within).ok()?;
        file.let_go(spot.offset + within, length as u64);
        (length == buffer.len()).then_some(())
    }

    /// Whether a cell belongs on a disk that is not there: nothing is read of it, and nothing is wrong with it.
    pub fn is_absent(&self, cell: CellIndex) -> bool {
        self.absent.contains(&cell)
    }

    /// Whether what went into `hasher` is the cell as it was written.
    pub fn is_sum_of(&self, cell: CellIndex, hasher: &blake3::Hasher) -> bool {
        self.spots.get(&cell).is_some_and(|spot| hasher.finalize().as_bytes()[..16] == spot.sum)
    }
}

/// A parity image, open, as far as the disks that it lies on are there.
pub struct ParityImage {
    index: ParityIndex,
    parts: Vec<Part>,
}

impl ParityImage {
    /// An image of these parts, in the order of their cells.
    pub const fn new(index: ParityIndex, parts: Vec<Part>) -> Self {
        Self { index, parts }
    }

    /// Which parity it is.
    pub const fn index(&self) -> ParityIndex {
        self.index
    }

    /// What of it lies on which disk.
    pub fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// What of it lies on a member.
    pub fn part_on(&self, member: DiskId) -> Option<&Part> {
        self.parts.iter().find(|part| part.member() == member)
    }

    /// The part that a cell belongs to, if its disk is there.
    pub fn part_at(&self, cell: CellIndex) -> Option<&Part> {
        self.parts.iter().find(|part| part.covers(cell))
    }

    fn part_for(&mut self, cell: CellIndex) -> Result<&mut Part> {
        self.parts.iter_mut().find(|part| part.covers(cell)).ok_or_else(|| {
            let message =
                format!("the disk of parity {} that cell {cell} belongs to is not there", self.index);
            Error::new(Kind::Internal, "parity.no-part", message)
        })
    }

    /// Whether the table has the cell as of the checkpoint that is expected.
    pub fn has(&self, cell: CellIndex, expected: CheckpointId) -> bool {
        self.part_at(cell).is_some_and(|part| part.has(cell, expected))
    }

    /// The cells, of those expected on the disks that are there, that the tables do not have as they should be;
    /// intervals count in cells.
    pub fn missing(&self, expected: &IntervalMap<CheckpointId>) -> Vec<CellIndex> {
        self.parts.iter().flat_map(|part| part.missing(expected)).collect()
    }

    /// Reads a cell; nothing unless it is of the expected checkpoint and its checksum holds.
    pub fn read(&self, cell: CellIndex, expected: CheckpointId) -> Option<Vec<u8>> {
        self.part_at(cell)?.read(cell, expected)
    }

    /// How many more cells can be written, wherever they belong, before a checkpoint has to be taken.
    pub fn room(&self) -> usize {
        self.parts.iter().map(Part::room).min().unwrap_or(0)
    }

    /// Where the given cells lie, for reading them while others are written.
    pub fn reader(&self, cells: impl Iterator<Item = (CellIndex, CheckpointId)>) -> ParityReader {
        let mut reader = ParityReader { spots: HashMap::new(), absent: HashSet::new() };
        for (cell, expected) in cells {
            match self.part_at(cell) {
                None => _ = reader.absent.insert(cell),
                Some(part) => reader.spots.extend(part.spot(cell, expected).map(|spot| (cell, spot))),
            }
        }
        reader
    }

    /// Takes a written cell back before the checkpoint: it stays as it was.
    pub fn discard(&mut self, cell: CellIndex) {
        self.parts.iter_mut().for_each(|part| part.discard(cell));
    }

    /// Writes a cell to a free slot, for the coming checkpoint.
    ///
    /// # Crash safety
    /// Nothing of the last checkpoint is touched.
    ///
    /// # Errors
    /// When there is no free slot, or what the disk says.
    pub fn write(&mut self, cell: CellIndex, bytes: &[u8]) -> Result<()> {
        let mut open = self.begin_cell(cell)?;
        self.append(&mut open, bytes)?;
        self.finish_cell(open)?;
        Ok(())
    }

    /// Begins to write a cell to a free slot, for the coming checkpoint.
    ///
    /// # Crash safety
    /// Nothing of the last checkpoint is touched.
    ///
    /// # Errors
    /// When there is no free slot, or what the disk says.
    pub fn begin_cell(&mut self, cell: CellIndex) -> Result<OpenCell> {
        self.part_for(cell)?.begin_cell(cell)
    }

    /// Writes the next bytes of a cell.
    ///
    /// # Errors
    /// What the disk says.
    pub fn append(&mut self, open: &mut OpenCell, bytes: &[u8]) -> Result<()> {
        self.part_for(open.cell())?.append(open, bytes)
    }

    /// A cell is written whole.
    ///
    /// # Errors
    /// When the image contradicts itself.
    pub fn finish_cell(&mut self, open: OpenCell) -> Result<()> {
        self.part_for(open.cell())?.finish_cell(open);
        Ok(())
    }

    /// Makes the written cells durable, and adds them to the tables as of `checkpoint`.
    ///
    /// # Crash safety
    /// Until the catalogue knows `checkpoint`, readers take the cells as they were before.
    ///
    /// # Errors
    /// What the disks say.
    pub fn prepare(&mut self, checkpoint: CheckpointId) -> Result<()> {
        self.parts.iter_mut().try_for_each(|part| part.prepare(checkpoint))
    }

    /// Writes a damaged cell anew, as of the checkpoint that is expected.
    ///
    /// # Crash safety
    /// The cell is durable in a free slot before the table names it; until then it stays as it was: damaged.
    ///
    /// # Errors
    /// When there is no free slot, or what the disk says.
    pub fn mend(&mut self, cell: CellIndex, bytes: &[u8], expected: CheckpointId) -> Result<()> {
        self.write(cell, bytes)?;
        self.prepare(expected)?;
        self.committed();
        Ok(())
    }

    /// Makes the written cells durable as what the catalogue expects already: for a disk that is new, or was damaged.
    ///
    /// # Crash safety
    /// The tables are written last; before, the cells are as they were: not valid.
    ///
    /// # Errors
    /// What the disks say.
    pub fn finish_copy(&mut self, expected: &IntervalMap<CheckpointId>) -> Result<()> {
        self.parts.iter_mut().try_for_each(|part| part.finish_copy(expected))
    }

    /// The catalogue knows the checkpoint now: the new cells count, the old ones' slots are given up.
    pub fn committed(&mut self) {
        self.parts.iter_mut().for_each(Part::committed);
    }

    /// The replicas know the checkpoint too: slots given up may be used again.
    pub fn release(&mut self) {
        self.parts.iter_mut().for_each(Part::release);
    }
}
