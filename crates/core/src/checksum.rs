//! Checksums of content: BLAKE3, with the subtrees of equal cells kept as checksums of their own.
//!
//! # Source
//! J. O'Connor, J.-P. Aumasson, S. Neves, Z. Wilcox-O'Hearn, "BLAKE3: one function, fast everywhere":
//! chaining values of aligned power-of-two subtrees do not depend on the rest of the input, so that one
//! pass yields the checksum of each cell and the hash of the whole file.

use blake3::hazmat::{
    ChainingValue, HasherExt, Mode, left_subtree_len, merge_subtrees_non_root, merge_subtrees_root,
};

use crate::units::ByteLength;

/// The smallest cell of an object, in bytes.
pub const SMALLEST_CELL: u64 = 1 << 20;
/// More cells than this, and the cells of the object double in size.
pub const MOST_CELLS: u64 = 1 << 20;

/// The first 128 bits of the BLAKE3 chaining value of one cell (of the hash itself where the file is one cell).
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CellSum(pub [u8; 16]);

/// The size in bytes of the cells of an object of this size: 1 MiB, or a larger power of two.
pub fn cell_size(object: ByteLength) -> u64 {
    let mut cell = SMALLEST_CELL;
    while object.exact().div_ceil(cell) > MOST_CELLS {
        cell *= 2;
    }
    cell
}

/// What one pass over a content yields.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ContentSum {
    /// The length of the content.
    pub size: ByteLength,
    /// BLAKE3 of the whole, as any b3sum prints it.
    pub whole: [u8; 32],
    /// One checksum for each cell, in order; none for an empty content.
    pub cells: Vec<CellSum>,
}

/// The checksum of the cell number `index` of an object of `size` bytes, given exactly its bytes.
pub fn cell_sum(size: ByteLength, index: u64, bytes: &[u8]) -> CellSum {
    if size.exact() <= cell_size(size) {
        return shorten(blake3::hash(bytes).as_bytes());
    }
    shorten(&subtree(index * cell_size(size), bytes))
}

fn shorten(hash: &[u8; 32]) -> CellSum {
    let mut short = [0; 16];
    short.copy_from_slice(&hash[..16]);
    CellSum(short)
}

fn subtree(offset: u64, bytes: &[u8]) -> ChainingValue {
    let mut hasher = blake3::Hasher::new();
    hasher.set_input_offset(offset);
    hasher.update(bytes);
    hasher.finalize_non_root()
}

/// Computes a [`ContentSum`] from pieces handed over in order.
#[derive(Debug)]
pub struct ContentHasher {
    expected: ByteLength,
    cell: u64,
    seen: u64,
    current: blake3::Hasher,
    chain: Vec<ChainingValue>,
}

impl ContentHasher {
    /// Starts on a content that is expected to have `size` bytes.
    pub fn new(size: ByteLength) -> Self {
        let cell = cell_size(size);
        Self { expected: size, cell, seen: 0, current: blake3::Hasher::new(), chain: Vec::new() }
    }

    /// Takes the next bytes.
    pub fn update(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            let filled = self.seen % self.cell;
            if filled == 0 && self.seen > 0 {
                self.close_cell();
            }
            let room = usize::try_from(self.cell - filled).unwrap_or(usize::MAX);
            let (now, later) = bytes.split_at(room.min(bytes.len()));
            self.current.update(now);
            self.seen += now.len() as u64;
            bytes = later;
        }
    }

    fn close_cell(&mut self) {
        self.chain.push(self.current.finalize_non_root());
        self.current = blake3::Hasher::new();
        self.current.set_input_offset(self.seen);
    }

    /// The checksums, or nothing when the content had another length than expected.
    pub fn finish(mut self) -> Option<ContentSum> {
        if self.seen != self.expected.exact() {
            return None;
        }
        if self.seen <= self.cell {
            let whole = *self.current.finalize().as_bytes();
            let cells = if self.seen == 0 { Vec::new() } else { vec![shorten(&whole)] };
            return Some(ContentSum { size: self.expected, whole, cells });
        }
        self.chain.push(self.current.finalize_non_root());
        let cells = self.chain.iter().map(shorten).collect();
        let (left, right) = self.split(0, self.seen);
        let whole = *merge_subtrees_root(&left, &right, Mode::Hash).as_bytes();
        Some(ContentSum { size: self.expected, whole, cells })
    }

    /// The chaining values of the two halves of the subtree at `start`.
    fn split(&self, start: u64, length: u64) -> (ChainingValue, ChainingValue) {
        let left = left_subtree_len(length);
        (self.merged(start, left), self.merged(start + left, length - left))
    }

    fn merged(&self, start: u64, length: u64) -> ChainingValue {
        if length <= self.cell {
            let index = usize::try_from(start / self.cell).expect("the cells are in memory");
            return self.chain[index];
        }
        let (left, right) = self.split(start, length);
        merge_subtrees_non_root(&left, &right, Mode::Hash)
    }
}

/// The checksums of a content that lies in memory.
pub fn content_sum(bytes: &[u8]) -> ContentSum {
    let mut hasher = ContentHasher::new(ByteLength::new(bytes.len() as u64));
    hasher.update(bytes);
    hasher.finish().expect("the length is that of the slice")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn pattern(length: usize) -> Vec<u8> {
        (0..length).map(|i| (i * 31 + i / 251) as u8).collect()
    }

    #[rstest]
    fn the_whole_is_what_b3sum_prints(
        #[values(0, 1, 1023, 1 << 20, (1 << 20) + 1, 2 << 20, 3 * (1 << 20) + 77, 5 << 20)] length: usize,
        #[values(1 << 20, 65_537)] step: usize,
    ) {
        let bytes = pattern(length);
        let mut hasher = ContentHasher::new(ByteLength::new(length as u64));
        bytes.chunks(step).for_each(|piece| hasher.update(piece));
        let sum = hasher.finish().unwrap();
        assert_eq!(sum.whole, *blake3::hash(&bytes).as_bytes());
        assert_eq!(sum.cells.len(), length.div_ceil(1 << 20));
        for (index, cell) in bytes.chunks(1 << 20).enumerate() {
            assert_eq!(sum.cells[index], cell_sum(sum.size, index as u64, cell));
        }
    }

    #[test]
    fn another_length_than_expected_has_no_sum() {
        let mut hasher = ContentHasher::new(ByteLength::new(10));
        hasher.update(b"nine byte");
        assert_eq!(hasher.finish(), None);
    }

    #[test]
    fn cells_grow_with_very_large_objects() {
        assert_eq!(cell_size(ByteLength::new(1 << 40)), 1 << 20);
        assert_eq!(cell_size(ByteLength::new((1 << 40) + 1)), 1 << 21);
    }
}
