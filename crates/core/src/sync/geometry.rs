//! How rows are cut into parity cells.

use crate::lane::Rows;
use crate::units::{ByteLength, CellIndex, GRANULE};

/// The most cells of one parity image: the table of 32 bytes a cell stays under 128 MB.
const MOST_CELLS: u64 = 4_000_000;

/// The size of the parity cells of a volume: 1 MiB or a larger power of two.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CellGeometry {
    bytes: u64,
}

impl CellGeometry {
    /// The geometry for lanes of at most `largest` bytes.
    pub fn for_capacity(largest: ByteLength) -> Self {
        let mut bytes = 1 << 20;
        while largest.exact() / bytes > MOST_CELLS {
            bytes *= 2;
        }
        Self { bytes }
    }

    /// The geometry with cells of so many bytes; nothing unless that is a power of two of 1 MiB to 1 GiB.
    pub fn with_cell(bytes: u64) -> Option<Self> {
        (bytes.is_power_of_two() && (1 << 20..=1 << 30).contains(&bytes)).then_some(Self { bytes })
    }

    /// Bytes in a cell.
    pub const fn cell_bytes(self) -> u64 {
        self.bytes
    }

    /// Rows (granules) in a cell.
    pub const fn cell_rows(self) -> u64 {
        self.bytes / GRANULE
    }

    /// The rows of one cell.
    pub const fn rows(self, cell: CellIndex) -> Rows {
        Rows::at(cell.get() as u64 * self.cell_rows(), self.cell_rows())
    }

    /// The cells that touch `rows`.
    pub fn cells(self, rows: Rows) -> impl Iterator<Item = CellIndex> {
        let first = rows.start() / self.cell_rows();
        let end = if rows.is_empty() { first } else { rows.end().div_ceil(self.cell_rows()) };
        (first..end)
            .map(|cell| CellIndex::new(u32::try_from(cell).expect("an image has at most 4 million cells")))
    }
}
