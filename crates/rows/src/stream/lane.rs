//! The reader of one data disk: contents in lane order, each cell checked, handed on step by step.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender};

use sieve_core::checksum::{ContentSum, Subtree};
use sieve_core::units::{CellIndex, GRANULE, VersionId};

use super::buffer::{Buffer, Buffers};
use super::source::{Broken, Checks, Cursor, Source, Trouble};
use sieve_disk::Disk;

/// What is to be read of a disk for one cell of parity.
pub struct LaneTask {
    /// The cell of parity.
    pub cell: CellIndex,
    /// The pieces of the coming content of the lane, in order.
    pub now: Vec<PieceTask>,
    /// The pieces of what parity encodes there so far, where that is to be taken out of it.
    pub before: Vec<PieceTask>,
}

/// One piece of a lane.
pub struct PieceTask {
    /// The first granule, counted from the start of the cell.
    pub start: u64,
    /// How many.
    pub length: u64,
    /// The first granule of the content.
    pub offset: u64,
    /// The content; none where nothing on the disk is known to hold it.
    pub source: Option<Arc<Source>>,
}

/// What a reader hands on for one step of a cell; nothing where the lane is zero.
pub struct LaneStep {
    /// What the lane is to hold.
    pub now: Option<Buffer>,
    /// What it held, where that is needed and differs.
    pub before: Option<Buffer>,
}

/// What came of reading a disk.
#[derive(Default)]
pub struct LaneOutcome {
    /// Cells of parity that must not be computed from what was handed on.
    pub failed: BTreeSet<CellIndex>,
    /// Fresh contents that were read whole.
    pub finished: Vec<(VersionId, ContentSum)>,
    /// Fresh contents that were read in part: the cells read so far.
    pub unfinished: HashMap<VersionId, Vec<Subtree>>,
    /// Fresh contents that are not to be used.
    pub dropped: HashMap<VersionId, Trouble>,
}

/// Reads one disk.
pub(super) struct LaneReader<'a> {
    pub(super) disk: &'a dyn Disk,
    pub(super) buffers: Buffers,
    /// Bytes in a step.
    pub(super) step: usize,
    /// Steps in a cell.
    pub(super) steps: usize,
    pub(super) outcome: LaneOutcome,
    /// Cells of parity that have bytes of a fresh content, while it is not finished.
    pub(super) fresh_cells: HashMap<VersionId, Vec<CellIndex>>,
    pub(super) scratch: Vec<u8>,
}

/// The contents that are being read: of the coming lane, and of the former one.
#[derive(Default)]
struct Cursors {
    now: Option<Cursor>,
    before: Option<Cursor>,
}

impl LaneReader<'_> {
    /// Works until there are no more tasks, or nobody takes what is read.
    pub(super) fn run(mut self, tasks: &Receiver<LaneTask>, steps: &SyncSender<LaneStep>) -> LaneOutcome {
        let mut cursors = Cursors::default();
        'all: while let Ok(task) = tasks.recv() {
            for step in 0..self.steps {
                let now = self.fill(task.cell, step, &task.now, &mut cursors.now);
                let before = self.fill(task.cell, step, &task.before, &mut cursors.before);
                if steps.send(LaneStep { now, before }).is_err() {
                    break 'all;
                }
            }
        }
        self.leave(&mut cursors.now);
        self.leave(&mut cursors.before);
        self.outcome
    }

    /// One step of a cell; nothing where no piece touches it.
    fn fill(
        &mut self,
        cell: CellIndex,
        step: usize,
        pieces: &[PieceTask],
        cursor: &mut Option<Cursor>,
    ) -> Option<Buffer> {
        let granules = self.step as u64 / GRANULE;
        let (from, to) = (step as u64 * granules, (step as u64 + 1) * granules);
        let mut touched = pieces
            .iter()
            .skip_while(|piece| piece.start + piece.length <= from)
            .take_while(|piece| piece.start < to)
            .peekable();
        touched.peek()?;
        let mut buffer = self.buffers.lend();
        let mut filled = 0;
        let at = |granule: u64| usize::try_from((granule - from) * GRANULE).expect("within a step");
        for piece in touched {
            let (start, end) = (piece.start.max(from), (piece.start + piece.length).min(to));
            buffer[filled..at(start)].fill(0);
            filled = at(end);
            let bytes = &mut buffer[at(start)..filled];
            let offset = piece.offset + (start - piece.start);
            if self.piece(cell, piece, offset, bytes, cursor).is_none() {
                // Whatever was read of it: the cell has failed.
                bytes.fill(0);
            }
        }
        buffer[filled..].fill(0);
        Some(buffer)
    }

    /// Reads a part of a piece; nothing where it cannot be had.
    fn piece(
        &mut self,
        cell: CellIndex,
        piece: &PieceTask,
        offset: u64,
        bytes: &mut [u8],
        cursor: &mut Option<Cursor>,
    ) -> Option<()> {
        let Some(source) = &piece.source else {
            self.outcome.failed.insert(cell);
            return None;
        };
        if self.outcome.dropped.contains_key(&source.version) {
            self.outcome.failed.insert(cell);
            return None;
        }
        if cursor.as_ref().is_none_or(|cursor| cursor.source.version != source.version) {
            self.leave(cursor);
            let known = self.outcome.unfinished.remove(&source.version).unwrap_or_default();
            match Cursor::open(self.disk, source, known) {
                Ok(opened) => *cursor = Some(opened),
                Err(trouble) => {
                    self.broken(source, (trouble, vec![cell]));
                    return None;
                }
            }
        }
        let open = cursor.as_mut().expect("it was just opened");
        let granules = bytes.len() as u64 / GRANULE;
        let scratch = &mut self.scratch;
        let mut result = open.read(offset, bytes, cell, scratch);
        if result.is_ok() && open.is_at_end(offset + granules) {
            result = open.finish(scratch).map(|sum| {
                self.outcome.finished.push((source.version, sum));
                self.fresh_cells.remove(&source.version);
            });
            *cursor = None;
        }
        match result {
            Ok(()) => Some(()),
            Err((trouble, mut cells)) => {
                cells.push(cell);
                self.broken(source, (trouble, cells));
                if matches!(source.checks, Checks::Fresh { .. }) {
                    *cursor = None;
                }
                None
            }
        }
    }

    fn broken(&mut self, source: &Source, (trouble, cells): Broken) {
        self.outcome.failed.extend(cells);
        if matches!(source.checks, Checks::Fresh { .. }) {
            self.outcome.failed.extend(self.fresh_cells.remove(&source.version).unwrap_or_default());
            self.outcome.dropped.insert(source.version, trouble);
        }
    }

    /// Finishes the cell of a content that is being read, and closes it.
    fn leave(&mut self, cursor: &mut Option<Cursor>) {
        let Some(mut open) = cursor.take() else { return };
        let source = Arc::clone(&open.source);
        let scratch = &mut self.scratch;
        let result = match source.checks {
            Checks::Known(_) => open.complete(scratch),
            Checks::Fresh { .. } => open.pause(scratch).map(|(subtrees, cells)| {
                self.outcome.unfinished.insert(source.version, subtrees);
                self.fresh_cells.entry(source.version).or_default().extend(cells);
            }),
        };
        if let Err(broken) = result {
            self.broken(&source, broken);
        }
    }
}
