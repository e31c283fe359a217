//! Streaming a volume's rows: one sequential reader a disk, steps of all lanes brought together, computed, and
//! handed to one writer a parity disk. Memory is bounded, and every byte of a disk is touched once: hashed where it was
//! read, while it is in the cache.
//!
//! Whatever is not as it should be makes its cells of parity *failed*: what was computed of them is not to be used. They
//! are looked at again with care (`complete.rs`, `window.rs`), which finds out more and does it cell by cell.

mod buffer;
mod complete;
pub mod encode;
pub mod gather;
mod lane;
mod parity;
mod pass;
mod snapshot;
pub mod solve;
mod source;

pub use buffer::Buffer;
pub use complete::Completed;
pub use lane::{LaneStep, LaneTask, PieceTask};
pub use pass::{CellTask, Coder, Disks, Feeder, LaneDisk, Outcome, Output, stream};
pub use snapshot::{SnapshotFeed, known_source, lane_disks, parity_readers};
pub use source::{Checks, Source, Trouble};

use sieve_core::sync::CellGeometry;

/// At most so many bytes of parity are computed between two checkpoints.
const BATCH_BYTES: u64 = 1 << 30;

/// So many cells are computed between two checkpoints.
pub fn cells_in_a_batch(geometry: CellGeometry) -> usize {
    usize::try_from(BATCH_BYTES / geometry.cell_bytes()).unwrap_or(1).max(1)
}
