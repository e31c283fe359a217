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

/// The whole chaining value of one cell (the hash itself where the content is one cell): what the checksum of the
/// cell is cut from, and what the hash of the whole content is put together from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Subtree(pub [u8; 32]);

impl Subtree {
    /// The checksum of the cell.
    pub fn sum(&self) -> CellSum {
        let mut short = [0; 16];
        short.copy_from_slice(&self.0[..16]);
        CellSum(short)
    }
}

/// The checksum of the cell number `index` of an object of `size` bytes, given exactly its bytes.
pub fn cell_sum(size: ByteLength, index: u64, bytes: &[u8]) -> CellSum {
    let mut hasher = CellHasher::new(size, index);
    hasher.update(bytes);
    hasher.finish().sum()
}

/// Computes the [`Subtree`] of one cell from its bytes, handed over in order.
#[derive(Clone, Debug)]
pub struct CellHasher {
    hasher: blake3::Hasher,
    is_whole: bool,
}

impl CellHasher {
    /// Starts on the cell number `index` of an object of `size` bytes.
    pub fn new(size: ByteLength, index: u64) -> Self {
        let cell = cell_size(size);
        let is_whole = size.exact() <= cell;
        let mut hasher = blake3::Hasher::new();
        if !is_whole {
            hasher.set_input_offset(index * cell);
        }
        Self { hasher, is_whole }
    }

    /// Takes the next bytes of the cell.
    pub fn update(&mut self, bytes: &[u8]) {
        self.hasher.update(bytes);
    }

    /// The value of the cell; of an empty one only where it is all of its object.
    pub fn finish(&self) -> Subtree {
        Subtree(if self.is_whole {
            *self.hasher.finalize().as_bytes()
        } else {
            self.hasher.finalize_non_root()
        })
    }
}

impl ContentSum {
    /// Puts the checksums of a content of `size` bytes together; nothing unless there is one subtree for each cell.
    pub fn of_subtrees(size: ByteLength, subtrees: &[Subtree]) -> Option<Self> {
        let cell = cell_size(size);
        if subtrees.len() as u64 != size.exact().div_ceil(cell) {
            return None;
        }
        let cells = subtrees.iter().map(Subtree::sum).collect();
        let whole = match subtrees {
            [] => *blake3::hash(&[]).as_bytes(),
            [one] => one.0,
            _ => {
                let (left, right) = split(subtrees, cell, 0, size.exact());
                *merge_subtrees_root(&left, &right, Mode::Hash).as_bytes()
            }
        };
        Some(Self { size, whole, cells })
    }
}

/// The chaining values of the two halves of the subtree at `start`.
fn split(subtrees: &[Subtree], cell: u64, start: u64, length: u64) -> (ChainingValue, ChainingValue) {
    let left = left_subtree_len(length);
    (merged(subtrees, cell, start, left), merged(subtrees, cell, start + left, length - left))
}

fn merged(subtrees: &[Subtree], cell: u64, start: u64, length: u64) -> ChainingValue {
    if length <= cell {
        let index = usize::try_from(start / cell).expect("the cells are in memory");
        return subtrees[index].0;
    }
    let (left, right) = split(subtrees, cell, start, length);
    merge_subtrees_non_root(&left, &right, Mode::Hash)
}

/// Computes a [`ContentSum`] from pieces handed over in order.
#[derive(Debug)]
pub struct ContentHasher {
    expected: ByteLength,
    cell: u64,
    seen: u64,
    current: CellHasher,
    subtrees: Vec<Subtree>,
}

impl ContentHasher {
    /// Starts on a content that is expected to have `size` bytes.
    pub fn new(size: ByteLength) -> Self {
        let current = CellHasher::new(size, 0);
        Self { expected: size, cell: cell_size(size), seen: 0, current, subtrees: Vec::new() }
    }

    /// Takes the next bytes.
    pub fn update(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            let filled = self.seen % self.cell;
            if filled == 0 && self.seen > 0 {
                self.subtrees.push(self.current.finish());
                self.current = CellHasher::new(self.expected, self.seen / self.cell);
            }
            let room = usize::try_from(self.cell - filled).unwrap_or(usize::MAX);
            let (now, later) = bytes.split_at(room.min(bytes.len()));
            self.current.update(now);
            self.seen += now.len() as u64;
            bytes = later;
        }
    }

    /// The checksums, or nothing when the content had another length than expected.
    pub fn finish(mut self) -> Option<ContentSum> {
        if self.seen != self.expected.exact() {
            return None;
        }
        if self.seen > 0 {
            self.subtrees.push(self.current.finish());
        }
        ContentSum::of_subtrees(self.expected, &self.subtrees)
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
