//! Computing parity from what the readers hand on: from all lanes, or from the old parity and what changed.

use sieve_core::code::Encoders;
use sieve_core::units::Slot;

use crate::stream::{Buffer, CellTask, Coder, LaneStep, Output};
use sieve_disk::Result;

/// Computes parity and hands it to its writers.
pub struct ParityCoder {
    /// One an image that is written.
    pub encoders: Encoders,
    /// The slots of the lanes.
    pub slots: Vec<Slot>,
}

impl Coder for ParityCoder {
    fn step(
        &mut self,
        task: &CellTask,
        step: usize,
        lanes: Vec<LaneStep>,
        parities: Vec<Buffer>,
        output: &mut Output,
    ) -> Result<()> {
        let mut slots = Vec::with_capacity(2 * lanes.len());
        let mut contents: Vec<&[u8]> = Vec::with_capacity(2 * lanes.len());
        for (lane, read) in task.lanes.iter().zip(&lanes) {
            for bytes in read.now.iter().chain(&read.before) {
                slots.push(self.slots[*lane]);
                contents.push(bytes);
            }
        }
        let mut computed = output.lend();
        {
            let mut targets: Vec<&mut [u8]> = computed.iter_mut().map(|buffer| &mut **buffer).collect();
            let encoder = self.encoders.of(slots);
            if task.with_parity {
                targets.iter_mut().zip(&parities).for_each(|(target, old)| target.copy_from_slice(old));
                encoder.update(&mut targets, &contents);
            } else {
                encoder.encode(&mut targets, &contents);
            }
        }
        output.write(task.cell, step, computed)
    }
}
