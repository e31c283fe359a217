//! Computing parity from what the readers hand on: from all lanes, or from the old parity and what changed.

use std::collections::HashMap;

use sieve_core::code::Encoder;
use sieve_core::gf256::Kernel;
use sieve_core::units::{ParityIndex, Slot};

use crate::error::Result;
use crate::pipeline::{Buffer, CellTask, Coder, LaneStep, Output};

/// Computes parity and hands it to its writers.
pub(super) struct ParityCoder {
    pub(super) kernel: Kernel,
    pub(super) parities: Vec<ParityIndex>,
    /// The slots of the lanes.
    pub(super) slots: Vec<Slot>,
    pub(super) encoders: HashMap<Vec<Slot>, Encoder>,
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
            let (kernel, indices) = (self.kernel, &self.parities);
            let encoder =
                self.encoders.entry(slots).or_insert_with_key(|slots| Encoder::new(kernel, indices, slots));
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
