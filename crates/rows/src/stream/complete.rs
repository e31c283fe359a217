//! A pass to its end: the rows that streaming left are looked at with care, one cell after the other, and go to the same
//! takers. Damage in one content costs its own rows alone: the others of the cell are solved from what is right.

use std::collections::BTreeMap;

use sieve_core::units::{CellIndex, ParityIndex};
use sieve_disk::Result;

use super::solve::{Progress, Serves, Solving};
use crate::content::Contents;
use crate::image::ParityImage;
use crate::window::{LaneWindow, ReadProblem};

/// What came of a pass with nothing left.
#[derive(Debug, Default)]
pub struct Completed {
    /// It was to stop before its end.
    pub stopped: bool,
    /// Cells of images that are read to be compared, and are what everything else makes them, by image.
    pub compared: BTreeMap<ParityIndex, u64>,
    /// Cells of such images that are something else.
    pub differ: u64,
    /// Cells of such images that cannot be computed: too much of their rows is not known.
    pub unknown: u64,
    /// Cells that were written anew.
    pub written: u64,
    /// Cells that should have been, and cannot be computed.
    pub unwritten: u64,
}

impl Solving<'_, '_> {
    /// Passes the cells, and leaves none: `met` is told what was found wrong on the way.
    ///
    /// # Errors
    /// What a taker of rows, a disk that is written, the database or `met` says.
    pub fn complete(
        mut self,
        cells: &[CellIndex],
        progress: &mut dyn Progress,
        met: &mut dyn FnMut(&[ReadProblem]) -> Result<()>,
    ) -> Result<Completed> {
        let solved = self.run(cells, progress)?;
        let streamed = (solved.ordered - solved.left.len()) as u64;
        let mut completed = Completed {
            compared: solved.compared,
            written: if self.written.is_empty() { 0 } else { streamed },
            ..Completed::default()
        };
        let mut contents = Contents::without(self.places, self.lost.to_vec());
        for cell in solved.left {
            if progress.is_stopped() {
                break;
            }
            let mut problems = Vec::new();
            self.with_care(&mut contents, cell, &mut problems, &mut completed)?;
            met(&problems)?;
        }
        completed.stopped = progress.is_stopped();
        Ok(completed)
    }

    fn with_care(
        &mut self,
        contents: &mut Contents<'_>,
        cell: CellIndex,
        problems: &mut Vec<ReadProblem>,
        completed: &mut Completed,
    ) -> Result<()> {
        let serving = self.read.iter().filter(|(_, serves)| *serves != Serves::ToCompare);
        let images: Vec<&ParityImage> = serving.map(|(image, _)| *image).collect();
        let window = self.snapshot.read(contents, &images, cell, problems)?;
        for sink in &mut self.sinks {
            let lane = sink.lane();
            if let (Some(of), Some(found)) = (self.snapshot.lanes.get(lane), window.lanes.get(lane)) {
                sink.take_rows(&of.map, window.rows, &found.bytes, &found.unknown)?;
            }
        }
        self.compare(&window.lanes, cell, completed);
        self.write(&window.lanes, cell, completed)
    }

    /// Holds the images that are there to be compared against what the lanes make them.
    fn compare(&self, lanes: &[LaneWindow], cell: CellIndex, completed: &mut Completed) {
        let Some(expected) = self.snapshot.expected.at(u64::from(cell.get())) else { return };
        let compared = self.read.iter().filter(|(_, serves)| *serves == Serves::ToCompare);
        let images: Vec<&ParityImage> =
            compared.map(|(image, _)| *image).filter(|image| image.part_at(cell).is_some()).collect();
        if !are_known(lanes) {
            completed.unknown += images.len() as u64;
            return;
        }
        let indices: Vec<ParityIndex> = images.iter().map(|image| image.index()).collect();
        for (image, bytes) in images.iter().zip(self.snapshot.encode(&indices, lanes)) {
            match image.read(cell, expected).as_ref() == Some(&bytes) {
                true => *completed.compared.entry(image.index()).or_default() += 1,
                false => completed.differ += 1,
            }
        }
    }

    /// Writes the images that are computed anew; what streaming wrote there does not count.
    fn write(&mut self, lanes: &[LaneWindow], cell: CellIndex, completed: &mut Completed) -> Result<()> {
        self.written.iter_mut().for_each(|image| image.discard(cell));
        let mut images: Vec<&mut ParityImage> =
            self.written.iter_mut().filter(|image| image.part_at(cell).is_some()).collect();
        if images.is_empty() {
            return Ok(());
        }
        if !are_known(lanes) {
            completed.unwritten += 1;
            return Ok(());
        }
        let indices: Vec<ParityIndex> = images.iter().map(|image| image.index()).collect();
        for (image, bytes) in images.iter_mut().zip(self.snapshot.encode(&indices, lanes)) {
            image.write(cell, &bytes)?;
        }
        completed.written += 1;
        Ok(())
    }
}

fn are_known(lanes: &[LaneWindow]) -> bool {
    lanes.iter().all(|lane| lane.unknown.is_empty())
}
