//! Lanes: the address space of a data disk that parity is computed over, in granules of 4 KiB.

mod allocator;
mod interval;

pub use allocator::LaneAllocator;
pub use interval::{Interval, IntervalMap, Splittable};

use crate::units::VersionId;

/// A half-open range of rows (or of granules of a content), in granules.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Rows {
    start: u64,
    end: u64,
}

impl Rows {
    /// The rows from `start` up to but not including `end`; empty when `end` is not after `start`.
    pub const fn new(start: u64, end: u64) -> Self {
        Self { start, end: if end > start { end } else { start } }
    }

    /// `length` rows from `start` on.
    pub const fn at(start: u64, length: u64) -> Self {
        Self { start, end: start.saturating_add(length) }
    }

    /// The first row.
    pub const fn start(self) -> u64 {
        self.start
    }

    /// The row after the last one.
    pub const fn end(self) -> u64 {
        self.end
    }

    /// The number of rows, in granules.
    pub const fn length(self) -> u64 {
        self.end - self.start
    }

    /// Whether there are no rows.
    pub const fn is_empty(self) -> bool {
        self.start == self.end
    }

    /// The rows in both.
    #[must_use]
    pub fn intersection(self, other: Self) -> Self {
        Self::new(self.start.max(other.start), self.end.min(other.end))
    }
}

/// Ranges in order, and joined where they meet or overlap.
pub fn joined(mut ranges: Vec<Rows>) -> Vec<Rows> {
    ranges.sort_unstable();
    let mut joined: Vec<Rows> = Vec::with_capacity(ranges.len());
    for range in ranges {
        match joined.last_mut() {
            Some(last) if last.end() >= range.start() => {
                *last = Rows::new(last.start(), last.end().max(range.end()));
            }
            _ => joined.push(range),
        }
    }
    joined
}

/// What a stretch of a lane holds: granules of a content, from `offset` on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Piece {
    /// The content.
    pub version: VersionId,
    /// The first granule of the content that lies here.
    pub offset: u64,
}

impl Splittable for Piece {
    fn advanced(&self, granules: u64) -> Self {
        Self { version: self.version, offset: self.offset + granules }
    }
}

/// What parity encodes of one lane.
pub type LaneMap = IntervalMap<Piece>;
