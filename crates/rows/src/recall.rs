//! Contents that their own disk does not give, brought back from parity and the other disks: one pass over the rows they lie
//! in, all disks read at once. Every cell is held against its checksum before it is handed on; what comes back is what was
//! checksummed, or nothing does.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;
use std::sync::Arc;

use sieve_catalogue::versions::VersionRow;
use sieve_core::lane::{Interval, Piece, Rows};
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, VersionId};
use sieve_disk::event::{Event, Observer, heed};
use sieve_disk::{Result, WriteFile};

use crate::image::ParityImage;
use crate::places::Places;
use crate::stream::gather::{CellTaker, Gatherer};
use crate::stream::solve::{Progress, Serves, Solving};
use crate::window::Snapshot;

/// Where contents are brought back from.
#[derive(Clone, Copy)]
pub struct Recall<'a> {
    /// Where the disks are.
    pub places: &'a dyn Places,
    /// The rows.
    pub snapshot: &'a Snapshot,
    /// The images that are there.
    pub images: &'a [ParityImage],
    /// Disks that are not read, also if they are there.
    pub without: &'a [DiskId],
    /// Memory for buffers.
    pub memory: ByteLength,
}

/// A content, and the empty file it goes into.
pub struct Wanted<'w> {
    /// The content.
    pub row: Arc<VersionRow>,
    /// Where it goes.
    pub output: &'w mut dyn WriteFile,
}

impl Recall<'_> {
    /// Writes contents of a disk into empty files, holes as holes; for each of them, in their order, the cells that do not come
    /// back. All of them are brought back in one pass: the more there are, the less is read twice.
    ///
    /// # Errors
    /// What a file's disk says, when the catalogue contradicts itself, or the observer wants no more.
    pub fn write(
        &self,
        disk: DiskId,
        wanted: Vec<Wanted<'_>>,
        observer: &dyn Observer,
    ) -> Result<Vec<Vec<u64>>> {
        let mut files = Vec::new();
        for Wanted { row, output } in wanted {
            output.set_length(row.sum.size.exact())?;
            files.push(File { row, output, come: BTreeSet::new() });
        }
        let positions = files.iter().enumerate().map(|(at, file)| (file.row.id, at)).collect();
        let bytes = files.iter().map(|file| file.row.sum.size.exact()).sum();
        let files = self.pass(disk, Files { files, positions }, bytes, observer)?.files;
        let missing = |file: &File<'_>| {
            let all = 0..file.row.sum.cells.len() as u64;
            all.filter(|cell| !file.come.contains(cell)).collect()
        };
        Ok(files.iter().map(missing).collect())
    }

    /// Some cells of a content; those that do not come back are not among them.
    ///
    /// # Errors
    /// When the catalogue contradicts itself, or the observer wants no more.
    pub fn cells(
        &self,
        disk: DiskId,
        row: &Arc<VersionRow>,
        cells: Range<u64>,
        observer: &dyn Observer,
    ) -> Result<BTreeMap<u64, Vec<u8>>> {
        let taker = InMemory { row: Arc::clone(row), wanted: cells, come: BTreeMap::new() };
        Ok(self.pass(disk, taker, 0, observer)?.come)
    }

    /// The observer is told of so many bytes on the way.
    fn pass<T: Contents>(&self, disk: DiskId, taker: T, bytes: u64, observer: &dyn Observer) -> Result<T> {
        let lane = self.snapshot.lanes.iter().position(|lane| lane.disk == disk);
        let mut gatherer = Gatherer::new(lane.unwrap_or(usize::MAX), taker);
        for (row, cells) in gatherer.taker.wanted() {
            gatherer.take_holes(&row, cells)?;
        }
        let cells = lane.map(|lane| self.parity_cells(lane, &gatherer.taker)).unwrap_or_default();
        if !cells.is_empty() {
            let solving = Solving {
                places: self.places,
                snapshot: self.snapshot,
                read: self.images.iter().map(|image| (image, Serves::ToSolve)).collect(),
                lost: self.without,
                sinks: vec![&mut gatherer],
                written: &mut [],
                memory: self.memory,
            };
            let mut watch = Watch { observer, bytes, cells: cells.len() as u64, ordered: 0 };
            solving.complete(&cells, &mut watch, &mut |_| Ok(()))?;
        }
        heed(observer)?;
        Ok(gatherer.taker)
    }

    /// The cells of parity in whose rows something lies that is wanted, in the order of the lane.
    fn parity_cells(&self, lane: usize, taker: &impl Contents) -> Vec<CellIndex> {
        let wanted = |piece: &Interval<Piece>| {
            let here = Rows::at(piece.value.offset, piece.rows.length());
            let part = taker.granules(piece.value.version)?.intersection(here);
            let first = piece.rows.start() + (part.start().max(here.start()) - here.start());
            (!part.is_empty()).then(|| Rows::at(first, part.length()))
        };
        let rows = self.snapshot.lanes[lane].map.iter().filter_map(|piece| wanted(&piece));
        let cells: BTreeSet<CellIndex> = rows.flat_map(|rows| self.snapshot.geometry.cells(rows)).collect();
        cells.into_iter().collect()
    }
}

/// Tells an observer of bytes how far a pass over cells is.
struct Watch<'a> {
    observer: &'a dyn Observer,
    bytes: u64,
    cells: u64,
    ordered: u64,
}

impl Progress for Watch<'_> {
    fn advance(&mut self) {
        let told =
            |ordered: u64| (u128::from(self.bytes) * u128::from(ordered) / u128::from(self.cells)) as u64;
        let by = told(self.ordered + 1) - told(self.ordered);
        self.ordered += 1;
        if by > 0 {
            self.observer.event(Event::Advanced { by });
        }
    }

    fn is_stopped(&self) -> bool {
        self.observer.is_stopped()
    }
}

/// Who wants contents, or parts of them.
trait Contents: CellTaker {
    /// The contents, and which of their cells.
    fn wanted(&self) -> Vec<(Arc<VersionRow>, Range<u64>)>;
    /// What is wanted of a content, in its granules.
    fn granules(&self, version: VersionId) -> Option<Rows>;
}

/// Files that are written.
struct Files<'w> {
    files: Vec<File<'w>>,
    positions: HashMap<VersionId, usize>,
}

struct File<'w> {
    row: Arc<VersionRow>,
    output: &'w mut dyn WriteFile,
    come: BTreeSet<u64>,
}

impl Contents for Files<'_> {
    fn wanted(&self) -> Vec<(Arc<VersionRow>, Range<u64>)> {
        let all = |file: &File<'_>| (Arc::clone(&file.row), 0..file.row.sum.cells.len() as u64);
        self.files.iter().map(all).collect()
    }

    fn granules(&self, version: VersionId) -> Option<Rows> {
        let file = &self.files[*self.positions.get(&version)?];
        Some(Rows::new(0, file.row.sum.size.granules()))
    }
}

impl CellTaker for Files<'_> {
    fn record(&mut self, version: VersionId) -> Result<Option<Arc<VersionRow>>> {
        Ok(self.positions.get(&version).map(|at| Arc::clone(&self.files[*at].row)))
    }

    fn take(&mut self, row: &VersionRow, cell: u64, bytes: &[u8]) -> Result<()> {
        let (start, length) = row.cell_span(cell);
        let here = Rows::at(cell * row.cell_granules(), row.cell_granules());
        // A content that several files are to have is written to each.
        for file in self.files.iter_mut().filter(|file| file.row.id == row.id) {
            for data in row.data.iter().map(|data| data.intersection(here)).filter(|data| !data.is_empty()) {
                let from = in_memory(data.start() * GRANULE - start);
                let to = in_memory((data.end() * GRANULE - start).min(length));
                file.output.write_at(&bytes[from..to], start + from as u64)?;
            }
            file.come.insert(cell);
        }
        Ok(())
    }

    fn take_back(&mut self, version: VersionId, cell: u64) {
        self.files.iter_mut().filter(|file| file.row.id == version).for_each(|file| {
            file.come.remove(&cell);
        });
    }
}

/// Cells that are kept.
struct InMemory {
    row: Arc<VersionRow>,
    wanted: Range<u64>,
    come: BTreeMap<u64, Vec<u8>>,
}

impl Contents for InMemory {
    fn wanted(&self) -> Vec<(Arc<VersionRow>, Range<u64>)> {
        vec![(Arc::clone(&self.row), self.wanted.clone())]
    }

    fn granules(&self, version: VersionId) -> Option<Rows> {
        let size = self.row.cell_granules();
        (version == self.row.id).then(|| Rows::new(self.wanted.start * size, self.wanted.end * size))
    }
}

impl CellTaker for InMemory {
    fn record(&mut self, version: VersionId) -> Result<Option<Arc<VersionRow>>> {
        Ok((version == self.row.id).then(|| Arc::clone(&self.row)))
    }

    fn take(&mut self, _row: &VersionRow, cell: u64, bytes: &[u8]) -> Result<()> {
        if self.wanted.contains(&cell) {
            self.come.insert(cell, bytes.to_vec());
        }
        Ok(())
    }

    fn take_back(&mut self, _version: VersionId, cell: u64) {
        self.come.remove(&cell);
    }
}

fn in_memory(bytes: u64) -> usize {
    usize::try_from(bytes).expect("a cell is in memory")
}
