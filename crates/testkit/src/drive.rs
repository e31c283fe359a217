//! How long a turning disk takes: its head moves, its platter turns, and it is slower towards its end.

use std::collections::HashMap;

use sieve_core::forecast::SpeedCurve;
use sieve_core::path::RelPath;

/// A model of a hard disk with a clock of its own.
///
/// # Source
/// The time of a seek goes with the square root of its distance for short ones and, roughly, linearly for long ones; half
/// a turn is added (C. Ruemmler, J. Wilkes, "An Introduction to Disk Drive Modeling"). Passing over a gap costs as much as
/// reading it, if that is less than a seek.
#[derive(Debug)]
pub struct Drive {
    curve: SpeedCurve,
    capacity: u64,
    /// From one track to the next, and across the whole disk, in seconds.
    seeks: (f64, f64),
    /// Half a turn, in seconds.
    half_turn: f64,
    head: u64,
    clock: f64,
    /// Where files begin on it, in the order in which they were first touched.
    files: HashMap<RelPath, u64>,
    next: u64,
}

/// Files begin so far from each other: none is larger in a test.
const APART: u64 = 1 << 30;

impl Drive {
    /// A disk of 7200 turns a minute.
    pub fn new(curve: SpeedCurve, capacity: u64) -> Self {
        Self {
            curve,
            capacity,
            seeks: (0.001, 0.018),
            half_turn: 60.0 / 7200.0 / 2.0,
            head: 0,
            clock: 0.0,
            files: HashMap::new(),
            next: 0,
        }
    }

    /// Seconds that it was busy.
    pub const fn clock(&self) -> f64 {
        self.clock
    }

    /// Reads or writes a part of a file.
    pub fn pass(&mut self, path: &RelPath, offset: u64, length: u64) {
        let start = *self.files.entry(path.clone()).or_insert_with(|| {
            self.next += APART;
            self.next - APART
        });
        self.at(start + offset, length);
    }

    /// Reads or writes at an address.
    pub fn at(&mut self, address: u64, length: u64) {
        self.clock += self.way(address);
        let share = (address as f64 / self.capacity as f64).min(1.0);
        self.clock += length as f64 / self.curve.at(share).per_second();
        self.head = address + length;
    }

    fn way(&self, address: u64) -> f64 {
        if address == self.head {
            return 0.0;
        }
        let distance = self.head.abs_diff(address) as f64;
        let share = (distance / self.capacity as f64).min(1.0);
        let seek = self.seeks.0 + (self.seeks.1 - self.seeks.0) * share.sqrt() + self.half_turn;
        let rate = self.curve.at((self.head as f64 / self.capacity as f64).min(1.0)).per_second();
        if address > self.head { seek.min(distance / rate) } else { seek }
    }
}
