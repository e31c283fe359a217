//! Ordering the rows of a snapshot: what every lane holds in a cell, as its own disk can give it.

use std::collections::HashMap;
use std::sync::Arc;

use sieve_core::units::{CellIndex, DiskId, VersionId};

use super::{Checks, Disks, Feeder, LaneDisk, LaneTask, PieceTask, Source};
use crate::image::{ParityImage, ParityReader};
use crate::places::Places;
use crate::window::Snapshot;
use sieve_catalogue::{objects, versions};
use sieve_disk::Result;

/// Orders cells of a snapshot.
pub struct SnapshotFeed<'a> {
    places: &'a dyn Places,
    snapshot: &'a Snapshot,
    /// By lane, the content that was used last.
    last: Vec<Option<Arc<Source>>>,
}

impl<'a> SnapshotFeed<'a> {
    /// Starts before the first cell.
    pub fn new(places: &'a dyn Places, snapshot: &'a Snapshot) -> Self {
        Self { places, snapshot, last: vec![None; snapshot.lanes.len()] }
    }

    /// Orders one cell of the lanes that `is_wanted` names, and of the parities.
    ///
    /// # Errors
    /// When the pass has ended, or what the database says.
    pub fn order(
        &mut self,
        feeder: &Feeder,
        cell: CellIndex,
        is_wanted: impl Fn(usize) -> bool,
        with_parity: bool,
    ) -> Result<()> {
        let rows = self.snapshot.geometry.rows(cell);
        let mut lanes = Vec::new();
        for lane in (0..self.snapshot.lanes.len()).filter(|lane| is_wanted(*lane)) {
            let mut now = Vec::new();
            for piece in self.snapshot.lanes[lane].map.overlapping(rows) {
                now.push(PieceTask {
                    start: piece.rows.start() - rows.start(),
                    length: piece.rows.length(),
                    offset: piece.value.offset,
                    source: self.source(lane, piece.value.version)?,
                });
            }
            if !now.is_empty() {
                lanes.push((lane, LaneTask { cell, now, before: Vec::new() }));
            }
        }
        feeder.order(cell, lanes, with_parity)
    }

    fn source(&mut self, lane: usize, version: VersionId) -> Result<Option<Arc<Source>>> {
        if let Some(last) = self.last[lane].as_ref().filter(|source| source.version == version) {
            return Ok(Some(Arc::clone(last)));
        }
        let found = known_source(self.places, self.snapshot.lanes[lane].disk, version)?.map(Arc::new);
        self.last[lane].clone_from(&found);
        Ok(found)
    }
}

/// The data disks of a snapshot, in the order of its lanes; those that are not there, or in `lost`, are not read.
pub fn lane_disks(places: &dyn Places, snapshot: &Snapshot, lost: &[DiskId]) -> Vec<LaneDisk> {
    let of = |disk: DiskId| places.disk(disk).filter(|_| !lost.contains(&disk)).map(Arc::clone);
    let lanes = snapshot.lanes.iter();
    lanes.map(|lane| LaneDisk { disk: of(lane.disk), begun: HashMap::new() }).collect()
}

impl<'a> Disks<'a> {
    /// The disks of a pass over a snapshot.
    pub fn of(
        places: &dyn Places,
        snapshot: &Snapshot,
        lanes: Vec<LaneDisk>,
        readers: Vec<ParityReader>,
        images: &'a mut [ParityImage],
    ) -> Self {
        let cell_bytes = usize::try_from(snapshot.geometry.cell_bytes()).unwrap_or(usize::MAX);
        Self { lanes, readers, images, cell_bytes, turning: places.turns() }
    }
}

/// Readers of these cells of the images, as of the checkpoints that the snapshot expects.
pub fn parity_readers<'a>(
    snapshot: &Snapshot,
    images: impl IntoIterator<Item = &'a ParityImage>,
    cells: &[CellIndex],
) -> Vec<ParityReader> {
    let places = || cells.iter().filter_map(|c| Some((*c, snapshot.expected.at(u64::from(c.get()))?)));
    images.into_iter().map(|image| image.reader(places())).collect()
}

/// A content whose checksums are known; nothing when no file on the disk has it.
///
/// # Errors
/// What the database says.
pub fn known_source(places: &dyn Places, disk: DiskId, version: VersionId) -> Result<Option<Source>> {
    let reading = places.reading();
    let Some(object) = objects::by_version(reading, disk, version)? else { return Ok(None) };
    let row = versions::get(reading, version)?;
    Ok(Some(Source {
        version,
        names: objects::names(reading, object.id)?,
        stamp: object.stamp(),
        size: row.sum.size,
        checks: Checks::Known(row.sum.cells),
    }))
}
