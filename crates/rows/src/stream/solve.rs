//! The one pass over rows that verifies, drills and rebuilds: every lane is read and checked, what is missing is solved for,
//! what is lost is encoded, and what is there is compared.
//!
//! A disk that is away makes no detour: its rows are solved from as many parities as lanes are missing, and the parities that
//! are left over are still compared. What turns out not to be as it should be is handed back by cell; whoever asked looks at
//! it with care (`window.rs`).

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use sieve_core::code::{Decoder, Encoders};
use sieve_core::gf256::Kernel;
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, ParityIndex, Slot};
use sieve_disk::Result;

use super::buffer::Buffer;
use super::cells_in_a_batch;
use super::lane::LaneStep;
use super::pass::{CellTask, Coder, Disks, Output, stream};
use super::snapshot::{SnapshotFeed, lane_disks, parity_readers};
use crate::image::ParityImage;
use crate::places::Places;
use crate::window::Snapshot;

/// What takes the rows of a lane, most often of one that is not read: files on a new disk, or somebody who only checks them.
pub trait RowSink: Send {
    /// Which lane of the snapshot it takes.
    fn lane(&self) -> usize;

    /// Takes rows of it; those that are unknown come as zeros. The same rows may come again: the last ones count.
    ///
    /// # Errors
    /// What ends the pass.
    fn take_rows(&mut self, map: &LaneMap, rows: Rows, bytes: &[u8], unknown: &[Rows]) -> Result<()>;
}

/// How far a pass is, and whether it is to end.
pub trait Progress {
    /// One more cell was ordered.
    fn advance(&mut self);
    /// Whether no further one is to be ordered.
    fn is_stopped(&self) -> bool;
}

/// What an image that is read is good for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Serves {
    /// It solves for lanes that are missing.
    ToSolve,
    /// It is compared with what is computed from everything else.
    ToCompare,
    /// Either: it is compared in rows where it is not needed to solve.
    Both,
}

/// What goes into a pass, and what comes out of it.
pub struct Solving<'a, 's> {
    /// Where the disks are.
    pub places: &'a dyn Places,
    /// The rows.
    pub snapshot: &'a Snapshot,
    /// The images that are read.
    pub read: Vec<(&'a ParityImage, Serves)>,
    /// Disks that are not read although they may be there.
    pub lost: &'a [DiskId],
    /// Who takes rows.
    pub sinks: Vec<&'s mut dyn RowSink>,
    /// Images that are computed and written anew.
    pub written: &'a mut [ParityImage],
    /// Memory for buffers.
    pub memory: ByteLength,
}

/// What came of a pass.
#[derive(Debug, Default)]
pub struct Solved {
    /// So many of the cells were ordered before it was to stop.
    pub ordered: usize,
    /// Cells that have to be looked at with care: something in them is not as it should be, or more is missing than can be
    /// solved for.
    pub left: BTreeSet<CellIndex>,
    /// Cells that are as they should be and were computed and compared, by image.
    pub compared: BTreeMap<ParityIndex, u64>,
    /// Cells that are right by their own checksums, and could not be computed from the others, by image.
    pub by_checksum: BTreeMap<ParityIndex, u64>,
}

/// What is done in one cell.
struct CellPlan {
    /// Lanes of disks that are not there, and are not zero.
    missing: Vec<usize>,
    /// The readers that solve for them, by position.
    solving: Vec<usize>,
    /// The readers that are compared.
    compared: Vec<usize>,
    /// The readers that have the cell.
    there: Vec<usize>,
}

impl Solving<'_, '_> {
    /// Passes the cells, in their order. In cells where too much is missing to be solved for nothing is compared; they are
    /// among those left where somebody waits for the rows.
    ///
    /// # Errors
    /// What a sink, a disk that is written, or the database says.
    pub fn run(&mut self, cells: &[CellIndex], progress: &mut dyn Progress) -> Result<Solved> {
        let mut solved = Solved::default();
        // Batch by batch, so that what is kept for each cell does not grow with the pool.
        for batch in cells.chunks(cells_in_a_batch(self.snapshot.geometry)) {
            let ordered = self.batch(batch, progress, &mut solved)?;
            solved.ordered += ordered;
            if ordered < batch.len() {
                break;
            }
        }
        Ok(solved)
    }

    fn batch(
        &mut self,
        batch: &[CellIndex],
        progress: &mut dyn Progress,
        solved: &mut Solved,
    ) -> Result<usize> {
        let lanes = lane_disks(self.places, self.snapshot, self.lost);
        let present: Vec<bool> = lanes.iter().map(|lane| lane.disk.is_some()).collect();
        let plans: HashMap<CellIndex, CellPlan> =
            batch.iter().map(|cell| (*cell, self.plan(*cell, &present))).collect();
        let waits_for_rows = !self.sinks.is_empty() || !self.written.is_empty();
        let is_streamed = |cell: &CellIndex| {
            let plan = &plans[cell];
            !waits_for_rows || plan.missing.len() == plan.solving.len()
        };
        let wrong = Arc::new(Mutex::new(BTreeSet::new()));
        let coder = Solver {
            snapshot: self.snapshot,
            kernel: self.snapshot.kernel,
            indices: self.read.iter().map(|(image, _)| image.index()).collect(),
            comparers: HashMap::new(),
            written: Encoders::new(
                self.snapshot.kernel,
                self.written.iter().map(ParityImage::index).collect(),
            ),
            plans: &plans,
            decoders: HashMap::new(),
            sinks: &mut self.sinks,
            wrong: Arc::clone(&wrong),
        };
        let readers = parity_readers(self.snapshot, self.read.iter().map(|(image, _)| *image), batch);
        let disks = Disks::of(self.places, self.snapshot, lanes, readers, self.written);
        let mut feed = SnapshotFeed::new(self.places, self.snapshot);
        let mut ordered = 0;
        let outcome = stream(disks, self.memory, coder, |feeder| {
            for cell in batch {
                if progress.is_stopped() {
                    break;
                }
                if is_streamed(cell) {
                    feed.order(feeder, *cell, |lane| present[lane], true)?;
                }
                ordered += 1;
                progress.advance();
            }
            Ok(())
        })?;
        let mut left = outcome.failed;
        left.extend(wrong.lock().unwrap_or_else(PoisonError::into_inner).iter());
        left.extend(batch[..ordered].iter().filter(|cell| !is_streamed(cell)));
        let good = batch[..ordered].iter().filter(|cell| !left.contains(cell));
        good.for_each(|cell| self.count(&plans[cell], solved));
        solved.left.append(&mut left);
        Ok(ordered)
    }

    /// One more cell in which all is as it should be.
    fn count(&self, plan: &CellPlan, solved: &mut Solved) {
        for reader in &plan.there {
            let is_compared = plan.compared.contains(reader);
            let count = if is_compared { &mut solved.compared } else { &mut solved.by_checksum };
            *count.entry(self.read[*reader].0.index()).or_default() += 1;
        }
    }

    /// As few parities solve as lanes are missing; the others are compared.
    fn plan(&self, cell: CellIndex, present: &[bool]) -> CellPlan {
        let rows = self.snapshot.geometry.rows(cell);
        let holds = |lane: usize| self.snapshot.lanes[lane].map.overlapping(rows).next().is_some();
        let missing: Vec<usize> = (0..present.len()).filter(|lane| !present[*lane] && holds(*lane)).collect();
        // Where an image lies on several disks, and the one with this cell is not there, the others serve.
        let has = |reader: &usize| self.read[*reader].0.part_at(cell).is_some();
        let there: Vec<usize> = (0..self.read.len()).filter(has).collect();
        let solves = |reader: &&usize| self.read[**reader].1 != Serves::ToCompare;
        let solving: Vec<usize> = there.iter().filter(solves).take(missing.len()).copied().collect();
        let is_solved = solving.len() == missing.len();
        let is_compared = |reader: &&usize| {
            is_solved && self.read[**reader].1 != Serves::ToSolve && !solving.contains(reader)
        };
        let compared = there.iter().filter(is_compared).copied().collect();
        CellPlan { missing, solving: if is_solved { solving } else { Vec::new() }, compared, there }
    }
}

/// What computes some parities to be compared, and the buffers for them.
type Comparer = (Encoders, Vec<Vec<u8>>);

/// What the rows of a missing lane are solved with: its lanes, the known ones, and the readers that solve.
type Decoders = HashMap<(Vec<Slot>, Vec<Slot>, Vec<usize>), Decoder>;

struct Solver<'a, 's, 'k> {
    snapshot: &'a Snapshot,
    kernel: Kernel,
    /// The parities that are read, in the order of the readers.
    indices: Vec<ParityIndex>,
    /// Those that are compared: which ones changes from cell to cell.
    comparers: HashMap<Vec<usize>, Comparer>,
    written: Encoders,
    plans: &'a HashMap<CellIndex, CellPlan>,
    decoders: Decoders,
    sinks: &'k mut Vec<&'s mut dyn RowSink>,
    wrong: Arc<Mutex<BTreeSet<CellIndex>>>,
}

impl Solver<'_, '_, '_> {
    fn slots(&self, lanes: impl Iterator<Item = usize>) -> Vec<Slot> {
        lanes.map(|lane| self.snapshot.lanes[lane].slot).collect()
    }

    /// Computes the missing lanes from the others and the parities.
    fn solve(
        &mut self,
        plan: &CellPlan,
        known: &[(usize, &[u8])],
        parities: &[Buffer],
        length: usize,
    ) -> Vec<Vec<u8>> {
        let mut found = vec![vec![0; length]; plan.solving.len()];
        if plan.solving.is_empty() {
            return found;
        }
        let missing_slots = self.slots(plan.missing.iter().copied());
        let known_slots = self.slots(known.iter().map(|(lane, _)| *lane));
        let (kernel, indices) = (self.kernel, &self.indices);
        let decoder = self
            .decoders
            .entry((missing_slots, known_slots, plan.solving.clone()))
            .or_insert_with_key(|(missing, known, solving)| {
                let read: Vec<ParityIndex> = solving.iter().map(|reader| indices[*reader]).collect();
                Decoder::new(kernel, missing, &read, known)
                    .expect("as many parities solve as lanes are missing")
            });
        let parities: Vec<&[u8]> = plan.solving.iter().map(|reader| &*parities[*reader]).collect();
        let contents: Vec<&[u8]> = known.iter().map(|(_, bytes)| *bytes).collect();
        decoder.decode(
            &mut found.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(),
            &parities,
            &contents,
        );
        found
    }

    /// Whether the parities that are compared are what the lanes make them.
    fn are_right(&mut self, plan: &CellPlan, slots: &[Slot], all: &[&[u8]], parities: &[Buffer]) -> bool {
        let Some(length) = plan.compared.first().map(|reader| parities[*reader].len()) else { return true };
        let (kernel, indices) = (self.kernel, &self.indices);
        let (encoders, computed) =
            self.comparers.entry(plan.compared.clone()).or_insert_with_key(|compared| {
                let compared: Vec<ParityIndex> = compared.iter().map(|reader| indices[*reader]).collect();
                let buffers = vec![Vec::new(); compared.len()];
                (Encoders::new(kernel, compared), buffers)
            });
        computed.iter_mut().for_each(|buffer| buffer.resize(length, 0));
        let mut targets: Vec<&mut [u8]> = computed.iter_mut().map(Vec::as_mut_slice).collect();
        encoders.of(slots.to_vec()).encode(&mut targets, all);
        computed.iter().zip(&plan.compared).all(|(computed, reader)| computed[..] == *parities[*reader])
    }
}

impl Coder for Solver<'_, '_, '_> {
    fn step(
        &mut self,
        task: &CellTask,
        step: usize,
        lanes: Vec<LaneStep>,
        parities: Vec<Buffer>,
        output: &mut Output,
    ) -> Result<()> {
        let plans = self.plans;
        let plan = &plans[&task.cell];
        let steps = task.lanes.iter().zip(&lanes);
        let known: Vec<(usize, &[u8])> =
            steps.filter_map(|(lane, step)| Some((*lane, &**step.now.as_ref()?))).collect();
        let length = parities.first().map(|parity| parity.len()).or(known.first().map(|(_, b)| b.len()));
        let length = length.unwrap_or_else(|| output.step_bytes());
        let found = self.solve(plan, &known, &parities, length);
        let cell = self.snapshot.geometry.rows(task.cell);
        let granules = length as u64 / GRANULE;
        let rows = Rows::at(cell.start() + step as u64 * granules, granules);
        let solved = plan.missing.iter().copied().zip(found.iter().map(Vec::as_slice));
        for (lane, bytes) in known.iter().copied().chain(solved) {
            for sink in self.sinks.iter_mut().filter(|sink| sink.lane() == lane) {
                sink.take_rows(&self.snapshot.lanes[lane].map, rows, bytes, &[])?;
            }
        }
        let missing = plan.missing.iter().copied().take(found.len());
        let slots = self.slots(known.iter().map(|(lane, _)| *lane).chain(missing));
        let all: Vec<&[u8]> =
            known.iter().map(|(_, bytes)| *bytes).chain(found.iter().map(Vec::as_slice)).collect();
        if !self.are_right(plan, &slots, &all, &parities) {
            self.wrong.lock().unwrap_or_else(PoisonError::into_inner).insert(task.cell);
        }
        if self.written.is_empty() {
            return Ok(());
        }
        let mut computed = output.lend();
        self.written
            .of(slots)
            .encode(&mut computed.iter_mut().map(|buffer| &mut **buffer).collect::<Vec<_>>(), &all);
        output.write(task.cell, step, computed)
    }
}
