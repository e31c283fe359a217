//! The threads of a pass and the channels between them.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::{Scope, ScopedJoinHandle};

use sieve_core::checksum::Subtree;
use sieve_core::units::{ByteLength, CellIndex, VersionId};

use super::buffer::{Buffer, Buffers};
use super::lane::{LaneOutcome, LaneReader, LaneStep, LaneTask};
use super::parity::{self, ComputedStep};
use crate::image::{ParityImage, ParityReader};
use sieve_disk::Disk;
use sieve_disk::{Error, Kind, Result};

/// Cells that a disk's list of tasks may be ahead of the computing.
const TASKS_AHEAD: usize = 8;
/// Fewest and most bytes that are handed on at once.
const STEPS: (usize, usize) = (64 << 10, 256 << 10);
/// Most steps that a reader may be ahead.
const MOST_AHEAD: usize = 8;

/// The disks of a pass.
pub struct Disks<'a> {
    /// The data disks, in the order of the lanes.
    pub lanes: Vec<LaneDisk>,
    /// The parity images that are read.
    pub readers: Vec<ParityReader>,
    /// The parity images that are written.
    pub images: &'a mut [ParityImage],
    /// Bytes in a cell.
    pub cell_bytes: usize,
    /// Some of them turn: their readers run ahead, so that a seek of one does not hold up the others. Where none does,
    /// fewer steps are under way, and they stay in the cache.
    pub turning: bool,
}

/// One data disk of a pass.
pub struct LaneDisk {
    /// None where it is not to be read.
    pub disk: Option<Arc<dyn Disk>>,
    /// What was read before of contents that are fresh.
    pub begun: HashMap<VersionId, Vec<Subtree>>,
}

/// What is brought together for a cell.
#[derive(Debug)]
pub struct CellTask {
    /// The cell of parity.
    pub cell: CellIndex,
    /// Lanes that take part.
    pub lanes: Vec<usize>,
    /// The old parities take part.
    pub with_parity: bool,
}

/// What computes.
pub trait Coder: Send {
    /// Takes one step of a cell: the lanes that take part, in the order of the task, and the old parities.
    ///
    /// # Errors
    /// What ends the pass.
    fn step(
        &mut self,
        task: &CellTask,
        step: usize,
        lanes: Vec<LaneStep>,
        parities: Vec<Buffer>,
        output: &mut Output,
    ) -> Result<()>;
}

/// Where computed parity goes.
pub struct Output {
    writers: Vec<(Buffers, SyncSender<ComputedStep>)>,
    step: usize,
    steps: usize,
}

impl Output {
    /// Bytes in a step.
    pub const fn step_bytes(&self) -> usize {
        self.step
    }

    /// Buffers for one step of all parities that are written.
    pub fn lend(&self) -> Vec<Buffer> {
        self.writers.iter().map(|(buffers, _)| buffers.lend()).collect()
    }

    /// Hands a computed step of all parities to their writers.
    ///
    /// # Errors
    /// When a writer has ended: it says why.
    pub fn write(&self, cell: CellIndex, step: usize, parities: Vec<Buffer>) -> Result<()> {
        for ((_, writer), bytes) in self.writers.iter().zip(parities) {
            let is_last = step + 1 == self.steps;
            writer.send(ComputedStep { cell, is_first: step == 0, is_last, bytes }).map_err(|_| ended())?;
        }
        Ok(())
    }
}

/// Sends the tasks of a cell to those who read it.
pub struct Feeder {
    lanes: Vec<SyncSender<LaneTask>>,
    parities: Vec<SyncSender<CellIndex>>,
    cells: SyncSender<CellTask>,
}

impl Feeder {
    /// Orders one cell: what is read of each lane that takes part, in the order of the lanes.
    ///
    /// # Errors
    /// When the pass has ended: its outcome says why.
    pub fn order(&self, cell: CellIndex, lanes: Vec<(usize, LaneTask)>, with_parity: bool) -> Result<()> {
        let task = CellTask { cell, lanes: lanes.iter().map(|(lane, _)| *lane).collect(), with_parity };
        self.cells.send(task).map_err(|_| ended())?;
        for (lane, task) in lanes {
            self.lanes[lane].send(task).map_err(|_| ended())?;
        }
        if with_parity {
            self.parities.iter().try_for_each(|parity| parity.send(cell).map_err(|_| ended()))?;
        }
        Ok(())
    }
}

/// Somebody down the line has ended; why is told by its own outcome.
fn ended() -> Error {
    Error::new(Kind::Internal, ENDED, "a part of the pipeline ended early")
}

const ENDED: &str = "pipeline.ended";

/// What came of a pass.
#[derive(Default)]
pub struct Outcome {
    /// Cells of parity that must not be used, whatever was written.
    pub failed: BTreeSet<CellIndex>,
    /// Lane by lane.
    pub lanes: Vec<LaneOutcome>,
}

/// Runs a pass: `feed` orders the cells, one after the other, and `coder` computes, with so much memory for buffers.
///
/// # Errors
/// The first error of a writer, of the coder, or of `feed`. What a disk that is read says is in the outcome.
pub fn stream<C: Coder>(
    disks: Disks<'_>,
    memory: ByteLength,
    coder: C,
    feed: impl FnOnce(&Feeder) -> Result<()>,
) -> Result<Outcome> {
    let shape = Shape::new(&disks, memory);
    std::thread::scope(|scope| {
        let threads = Threads::start(scope, disks, &shape, coder);
        let fed = feed(&threads.feeder);
        threads.end(fed)
    })
}

/// How cells are cut into steps, and how many may be under way.
struct Shape {
    step: usize,
    steps: usize,
    ahead: usize,
}

impl Shape {
    fn new(disks: &Disks<'_>, memory: ByteLength) -> Self {
        let memory = usize::try_from(memory.exact()).unwrap_or(usize::MAX);
        // Of each lane the old and the new, of each parity what is read and what is written.
        let streams = 2 * (disks.lanes.len() + disks.readers.len() + disks.images.len()).max(1);
        let mut step = STEPS.1.min(disks.cell_bytes);
        while step > STEPS.0 && streams * step * 4 > memory {
            step /= 2;
        }
        // Beside those in the channels one is in work at either end.
        let ahead = (memory / (streams * step))
            .saturating_sub(2)
            .clamp(1, if disks.turning { MOST_AHEAD } else { 1 });
        Self { step, steps: disks.cell_bytes / step, ahead }
    }
}

struct Threads<'scope> {
    feeder: Feeder,
    lanes: Vec<ScopedJoinHandle<'scope, LaneOutcome>>,
    readers: Vec<ScopedJoinHandle<'scope, BTreeSet<CellIndex>>>,
    writers: Vec<ScopedJoinHandle<'scope, Result<()>>>,
    coder: ScopedJoinHandle<'scope, Result<()>>,
}

impl<'scope> Threads<'scope> {
    fn start<'env: 'scope, C: Coder + 'env>(
        scope: &'scope Scope<'scope, 'env>,
        disks: Disks<'env>,
        shape: &Shape,
        coder: C,
    ) -> Self {
        let (cells, cell_tasks) = sync_channel(TASKS_AHEAD);
        let mut feeder = Feeder { lanes: Vec::new(), parities: Vec::new(), cells };
        let mut sources = Sources { lanes: Vec::new(), parities: Vec::new() };
        let (step, steps) = (shape.step, shape.steps);
        let mut lanes = Vec::new();
        for (number, lane) in disks.lanes.into_iter().enumerate() {
            let (send_task, tasks) = sync_channel(TASKS_AHEAD);
            let (send_step, steps_out) = sync_channel(shape.ahead);
            feeder.lanes.push(send_task);
            sources.lanes.push(steps_out);
            let Some(disk) = lane.disk else { continue };
            let outcome = LaneOutcome { unfinished: lane.begun, ..LaneOutcome::default() };
            let buffers = Buffers::new(step, number);
            lanes.push(named(scope, "lane", move || {
                let reader = LaneReader {
                    disk: &*disk,
                    buffers,
                    step,
                    steps,
                    outcome,
                    fresh_cells: HashMap::new(),
                    scratch: Vec::new(),
                };
                reader.run(&tasks, &send_step)
            }));
        }
        let mut readers = Vec::new();
        for (number, image) in disks.readers.into_iter().enumerate() {
            let (send_task, tasks) = sync_channel(TASKS_AHEAD);
            let (send_step, steps_out) = sync_channel(shape.ahead);
            feeder.parities.push(send_task);
            sources.parities.push(steps_out);
            let buffers = Buffers::new(step, 100 + number);
            readers.push(scope.spawn(move || parity::read(&image, &buffers, steps, &tasks, &send_step)));
        }
        let mut output = Output { writers: Vec::new(), step, steps };
        let mut writers = Vec::new();
        for (number, image) in disks.images.iter_mut().enumerate() {
            let (send, computed) = sync_channel(shape.ahead);
            output.writers.push((Buffers::new(step, 200 + number), send));
            writers.push(named(scope, "parity-out", move || parity::write(image, &computed)));
        }
        let coder = named(scope, "coder", move || sources.compute(coder, &cell_tasks, output, steps));
        Self { feeder, lanes, readers, writers, coder }
    }

    /// Lets everybody finish what was ordered, and gathers what came of it.
    fn end(self, fed: Result<()>) -> Result<Outcome> {
        drop(self.feeder);
        let mut outcome = Outcome::default();
        let coded = joined(self.coder);
        for lane in self.lanes {
            let lane = joined(lane);
            outcome.failed.extend(&lane.failed);
            outcome.lanes.push(lane);
        }
        self.readers.into_iter().for_each(|reader| outcome.failed.extend(joined(reader)));
        let written: Vec<Result<()>> = self.writers.into_iter().map(joined).collect();
        // Whoever ended because of another says only that; the other one says why.
        let mut results: Vec<Result<()>> = written;
        results.extend([coded, fed]);
        let is_cause = |result: &Result<()>| result.as_ref().is_err_and(|error| error.code != ENDED);
        if let Some(position) = results.iter().position(is_cause) {
            results.swap_remove(position)?;
        }
        results.into_iter().try_for_each(|result| result)?;
        Ok(outcome)
    }
}

/// Starts a thread that shows its part in lists of threads.
fn named<'scope, T: Send + 'scope>(
    scope: &'scope Scope<'scope, '_>,
    name: &str,
    work: impl FnOnce() -> T + Send + 'scope,
) -> ScopedJoinHandle<'scope, T> {
    let builder = std::thread::Builder::new().name(name.into());
    builder.spawn_scoped(scope, work).expect("the system has a few threads left")
}

fn joined<T>(handle: ScopedJoinHandle<'_, T>) -> T {
    handle.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

/// Where the steps of all disks come in.
struct Sources {
    lanes: Vec<Receiver<LaneStep>>,
    parities: Vec<Receiver<Buffer>>,
}

impl Sources {
    fn compute<C: Coder>(
        self,
        mut coder: C,
        tasks: &Receiver<CellTask>,
        mut output: Output,
        steps: usize,
    ) -> Result<()> {
        while let Ok(task) = tasks.recv() {
            for step in 0..steps {
                let lanes = task.lanes.iter().map(|lane| self.lanes[*lane].recv().map_err(|_| ended()));
                let lanes = lanes.collect::<Result<Vec<_>>>()?;
                let wanted = if task.with_parity { &self.parities[..] } else { &[] };
                let parities = wanted.iter().map(|parity| parity.recv().map_err(|_| ended()));
                let parities = parities.collect::<Result<Vec<_>>>()?;
                coder.step(&task, step, lanes, parities, &mut output)?;
            }
        }
        Ok(())
    }
}
