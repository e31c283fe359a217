//! Streaming a volume's rows: one sequential reader a disk, steps of all lanes brought together, computed, and
//! handed to one writer a parity disk. Memory is bounded, and every byte of a disk is touched once: hashed where it was
//! read, while it is in the cache.
//!
//! Whatever is not as it should be makes its cells of parity *failed*: what was computed of them is not to be used. They
//! are left to the careful way (`window.rs`), which finds out more and does it cell by cell.

mod buffer;
mod lane;
mod pace;
mod parity;
mod snapshot;
mod source;
mod stream;

pub(crate) use buffer::Buffer;
pub(crate) use lane::{LaneStep, LaneTask, PieceTask};
pub(crate) use pace::{Pace, Paced};
pub(crate) use snapshot::{SnapshotFeed, known_source, lane_disks, parity_readers};
pub(crate) use source::{Checks, Source, Trouble};
pub(crate) use stream::{CellTask, Coder, Disks, Feeder, LaneDisk, Outcome, Output, stream};

use sieve_core::units::{ByteLength, Rate};

/// How much a long action may take of the machine.
#[derive(Clone, Debug)]
pub struct Restraint {
    /// Memory for buffers.
    pub memory: ByteLength,
    /// Bytes per second from and to each disk.
    pub rate: Option<Rate>,
    /// Set when the action is to stop at the next checkpoint.
    pub stop: std::sync::Arc<std::sync::atomic::AtomicBool>,
}

impl Default for Restraint {
    fn default() -> Self {
        Self { memory: ByteLength::new(256 << 20), rate: None, stop: std::sync::Arc::default() }
    }
}

impl Restraint {
    /// Whether the action is to stop.
    pub fn is_stopped(&self) -> bool {
        self.stop.load(std::sync::atomic::Ordering::Relaxed)
    }
}
