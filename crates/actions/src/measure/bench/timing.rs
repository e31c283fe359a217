//! Timing several ways of doing the same, in turns, so that what else the machine does hits all of them alike.

use std::time::{Duration, Instant};

use sieve_core::units::Rate;

/// Buffers of one length that begin at different places within a page, as the lines of a cache are kept by the low
/// bits of their addresses.
pub struct Lanes {
    memory: Vec<u8>,
    /// Where the first begins: at the start of a line of the cache.
    first: usize,
    length: usize,
    stride: usize,
}

/// Not a divisor of the size of a page: neighbours fall on other sets of the cache.
const STAGGER: usize = 4096 + 320;
/// Bytes in a line of the cache.
const LINE: usize = 64;

impl Lanes {
    /// `count` buffers of `length` bytes, filled with numbers that do not repeat soon.
    pub fn filled(count: usize, length: usize) -> Self {
        let stride = length.next_multiple_of(LINE) + STAGGER;
        let mut memory = vec![0; count * stride + LINE];
        let first = memory.as_ptr().align_offset(LINE);
        let mut state = 0x9E37_79B9_7F4A_7C15_u64;
        for word in memory.chunks_mut(8) {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            word.copy_from_slice(&state.to_le_bytes()[..word.len()]);
        }
        Self { memory, first, length, stride }
    }

    /// The buffers.
    pub fn all(&self) -> Vec<&[u8]> {
        self.memory[self.first..].chunks_exact(self.stride).map(|lane| &lane[..self.length]).collect()
    }

    /// The buffers, to be written to.
    pub fn all_mut(&mut self) -> Vec<&mut [u8]> {
        let length = self.length;
        self.memory[self.first..].chunks_exact_mut(self.stride).map(|lane| &mut lane[..length]).collect()
    }
}

/// So often a way runs at its turn.
const IN_A_ROW: usize = 6;

/// The best rate of each way: all are run in turns until `time` has passed, each at least five times. At its turn a way
/// runs several times in a row: the first ones put its own bytes in the caches in place of its neighbours', and set the
/// clock of the processor to its instructions.
pub fn best_rates(bytes: u64, time: Duration, ways: &mut [&mut dyn FnMut()]) -> Vec<Rate> {
    let mut best = vec![Duration::MAX; ways.len()];
    let begun = Instant::now();
    let mut rounds = 0;
    while rounds < 5 || begun.elapsed() < time {
        for (best, way) in best.iter_mut().zip(ways.iter_mut()) {
            for _ in 0..IN_A_ROW {
                let start = Instant::now();
                way();
                *best = (*best).min(start.elapsed());
            }
        }
        rounds += 1;
    }
    best.into_iter().map(|b| Rate::from_per_second(bytes as f64 / b.as_secs_f64().max(1e-9))).collect()
}
