//! The readers and writers of parity disks.

use std::collections::BTreeSet;
use std::sync::mpsc::{Receiver, SyncSender};

use sieve_core::units::CellIndex;

use super::buffer::{Buffer, Buffers};
use crate::image::{OpenCell, ParityImage, ParityReader};
use sieve_disk::Result;

/// Reads cells of one parity image, step by step; returns the cells that are not what they should be.
pub(super) fn read(
    image: &ParityReader,
    buffers: &Buffers,
    steps: usize,
    tasks: &Receiver<CellIndex>,
    out: &SyncSender<Buffer>,
) -> BTreeSet<CellIndex> {
    let mut failed = BTreeSet::new();
    while let Ok(cell) = tasks.recv() {
        let mut hasher = blake3::Hasher::new();
        let is_absent = image.is_absent(cell);
        for step in 0..steps {
            let mut buffer = buffers.lend();
            if is_absent {
                buffer.fill(0);
            } else if image.read_part(cell, (step * buffer.len()) as u64, &mut buffer).is_some() {
                hasher.update(&buffer);
            } else {
                failed.insert(cell);
                buffer.fill(0);
            }
            if out.send(buffer).is_err() {
                return failed;
            }
        }
        if !is_absent && !image.is_sum_of(cell, &hasher) {
            failed.insert(cell);
        }
    }
    failed
}

/// One step of a cell of parity that was computed.
pub(super) struct ComputedStep {
    pub(super) cell: CellIndex,
    pub(super) is_first: bool,
    pub(super) is_last: bool,
    pub(super) bytes: Buffer,
}

/// Writes cells to one parity image in the order in which they come.
///
/// # Errors
/// What the disk says.
pub(super) fn write(image: &mut ParityImage, steps: &Receiver<ComputedStep>) -> Result<()> {
    let mut open: Option<OpenCell> = None;
    while let Ok(step) = steps.recv() {
        if step.is_first {
            open = image.part_at(step.cell).is_some().then(|| image.begin_cell(step.cell)).transpose()?;
        }
        let Some(cell) = open.as_mut() else { continue };
        image.append(cell, &step.bytes)?;
        if step.is_last
            && let Some(whole) = open.take()
        {
            image.finish_cell(whole)?;
        }
    }
    Ok(())
}
