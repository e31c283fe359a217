//! Rows of a lane put together to the cells of its contents: a cell counts when it is what its checksum says, and is handed
//! on then. A drill, `get`, `restore` and a mounted volume all get their bytes from here, so that a drill proves the code
//! that brings a file back.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use sieve_catalogue::versions::VersionRow;
use sieve_core::checksum::cell_sum;
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::units::{GRANULE, VersionId};
use sieve_disk::Result;

use super::solve::RowSink;

/// Who is handed the cells of contents.
pub trait CellTaker: Send {
    /// The record of a content; none where nobody wants it.
    ///
    /// # Errors
    /// What the database says.
    fn record(&mut self, version: VersionId) -> Result<Option<Arc<VersionRow>>>;

    /// A cell is together, and is what was checksummed. It may come more than once.
    ///
    /// # Errors
    /// What ends the pass.
    fn take(&mut self, row: &VersionRow, cell: u64, bytes: &[u8]) -> Result<()>;

    /// A cell that was handed on came of bytes that turned out not to be known: it counts for nothing (I3), until it comes
    /// again.
    fn take_back(&mut self, version: VersionId, cell: u64);
}

/// A cell of a content while its granules come in.
struct Partial {
    bytes: Vec<u8>,
    /// Granules that came in, known or not.
    seen: u64,
    /// One of them is not known.
    spoiled: bool,
}

/// Puts the rows of one lane together.
pub struct Gatherer<T> {
    lane: usize,
    /// Who is handed the cells.
    pub taker: T,
    partial: BTreeMap<(VersionId, u64), Partial>,
    /// The content used last, since its rows come one after another; none where nobody wants it.
    at_hand: Option<(VersionId, Option<Arc<VersionRow>>)>,
}

impl<T: CellTaker> Gatherer<T> {
    /// For a lane of a snapshot.
    pub const fn new(lane: usize, taker: T) -> Self {
        Self { lane, taker, partial: BTreeMap::new(), at_hand: None }
    }

    /// Takes those of these cells of a content that are nothing but holes: no row has them.
    ///
    /// # Errors
    /// What the taker says.
    pub fn take_holes(&mut self, row: &VersionRow, cells: Range<u64>) -> Result<()> {
        for cell in cells {
            if data_granules(row, cell) == 0 {
                let zeros = vec![0; usize::try_from(row.cell_span(cell).1).unwrap_or(0)];
                self.check(row, cell, &zeros)?;
            }
        }
        Ok(())
    }

    fn record(&mut self, version: VersionId) -> Result<Option<Arc<VersionRow>>> {
        match &self.at_hand {
            Some((at_hand, row)) if *at_hand == version => Ok(row.clone()),
            _ => {
                let row = self.taker.record(version)?;
                self.at_hand = Some((version, row.clone()));
                Ok(row)
            }
        }
    }

    /// Takes one part of a cell, `part` of the content, with its bytes; checks the cell when it is complete.
    fn part(&mut self, row: &VersionRow, cell: u64, part: Rows, bytes: Option<&[u8]>) -> Result<()> {
        let (_, length) = row.cell_span(cell);
        let whole = Rows::at(cell * row.cell_granules(), row.cell_granules());
        let partial = self.partial.entry((row.id, cell)).or_insert_with(|| Partial {
            bytes: vec![0; usize::try_from(length).unwrap_or(0)],
            seen: 0,
            spoiled: false,
        });
        partial.seen += part.length();
        match bytes {
            Some(bytes) => {
                let start = in_memory(part.start() - whole.start());
                let end = (start + bytes.len()).min(partial.bytes.len());
                partial.bytes[start..end].copy_from_slice(&bytes[..end - start]);
            }
            None => {
                partial.spoiled = true;
                self.taker.take_back(row.id, cell);
            }
        }
        if partial.seen < data_granules(row, cell) {
            return Ok(());
        }
        // What does not come out right stays: the same rows may come again, looked at with care.
        let Some(whole) = self.partial.remove(&(row.id, cell)) else { return Ok(()) };
        if !whole.spoiled && !self.check(row, cell, &whole.bytes)? {
            self.partial.insert((row.id, cell), whole);
        }
        Ok(())
    }

    fn check(&mut self, row: &VersionRow, cell: u64, bytes: &[u8]) -> Result<bool> {
        let expected = usize::try_from(cell).ok().and_then(|index| row.sum.cells.get(index));
        let is_right = expected == Some(&cell_sum(row.sum.size, cell, bytes));
        if is_right {
            self.taker.take(row, cell, bytes)?;
        }
        Ok(is_right)
    }
}

impl<T: CellTaker> RowSink for Gatherer<T> {
    fn lane(&self) -> usize {
        self.lane
    }

    fn take_rows(&mut self, map: &LaneMap, rows: Rows, bytes: &[u8], unknown: &[Rows]) -> Result<()> {
        for piece in map.overlapping(rows) {
            let Some(row) = self.record(piece.value.version)? else { continue };
            let size = row.cell_granules();
            let content = Rows::at(piece.value.offset, piece.rows.length());
            for cell in content.start() / size..content.end().div_ceil(size) {
                let part = Rows::at(cell * size, size).intersection(content);
                let place = Rows::at(piece.rows.start() + (part.start() - content.start()), part.length());
                let is_known = unknown.iter().all(|unknown| unknown.intersection(place).is_empty());
                let of_place = in_memory(place.start() - rows.start())..in_memory(place.end() - rows.start());
                self.part(&row, cell, part, is_known.then(|| &bytes[of_place]))?;
            }
        }
        Ok(())
    }
}

/// How many granules of a cell are no hole.
fn data_granules(row: &VersionRow, cell: u64) -> u64 {
    let whole = Rows::at(cell * row.cell_granules(), row.cell_granules());
    let first = row.data.partition_point(|data| data.end() <= whole.start());
    let touching = row.data[first..].iter().take_while(|data| data.start() < whole.end());
    touching.map(|data| data.intersection(whole).length()).sum()
}

fn in_memory(granules: u64) -> usize {
    usize::try_from(granules * GRANULE).expect("a cell is in memory")
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use sieve_core::checksum::content_sum;
    use sieve_core::lane::Piece;
    use sieve_core::units::{ByteLength, DiskId};
    use sieve_disk::Attributes;

    use super::*;

    const CELL: u64 = (1 << 20) / GRANULE;
    const VERSION: VersionId = VersionId::new(7);

    /// Keeps what it is handed.
    struct Keeper {
        row: Arc<VersionRow>,
        come: BTreeMap<u64, Vec<u8>>,
    }

    impl CellTaker for Keeper {
        fn record(&mut self, version: VersionId) -> Result<Option<Arc<VersionRow>>> {
            Ok((version == VERSION).then(|| Arc::clone(&self.row)))
        }

        fn take(&mut self, _row: &VersionRow, cell: u64, bytes: &[u8]) -> Result<()> {
            self.come.insert(cell, bytes.to_vec());
            Ok(())
        }

        fn take_back(&mut self, _version: VersionId, cell: u64) {
            self.come.remove(&cell);
        }
    }

    /// A content of two cells and a bit, and what gathers it from a lane that has it from row 5 on.
    fn content() -> (Vec<u8>, LaneMap, Gatherer<Keeper>) {
        let bytes: Vec<u8> = (0..2 * (1 << 20) + 5000_u32).map(|at| (at / 7) as u8).collect();
        let size = ByteLength::new(bytes.len() as u64);
        let row = VersionRow {
            id: VERSION,
            disk: DiskId::new(1),
            sum: content_sum(&bytes),
            data: vec![Rows::at(0, size.granules())],
            attributes: Attributes::default(),
            recorded: 1,
            unfinished: false,
        };
        let mut map = LaneMap::default();
        map.insert(Rows::at(5, size.granules()), Piece { version: VERSION, offset: 0 });
        (bytes, map, Gatherer::new(0, Keeper { row: Arc::new(row), come: BTreeMap::new() }))
    }

    /// The lane over some rows.
    fn lane(bytes: &[u8], rows: Rows) -> Vec<u8> {
        let mut lane = vec![0; in_memory(rows.length())];
        for (at, byte) in lane.iter_mut().enumerate() {
            let position = (in_memory(rows.start()) + at).checked_sub(in_memory(5));
            *byte = position.and_then(|position| bytes.get(position).copied()).unwrap_or(0);
        }
        lane
    }

    #[rstest]
    #[case::in_order(&[0, 1, 2])]
    #[case::backwards(&[2, 1, 0])]
    #[case::some_twice(&[0, 1, 1, 0, 2])]
    fn cells_come_when_their_rows_have(#[case] order: &[u64]) {
        let (bytes, map, mut gatherer) = content();
        for window in order {
            let rows = Rows::at(window * CELL, CELL);
            gatherer.take_rows(&map, rows, &lane(&bytes, rows), &[]).expect("it takes all");
        }
        let come = &gatherer.taker.come;
        assert_eq!(come.keys().copied().collect::<Vec<_>>(), [0, 1, 2]);
        assert_eq!(come.values().flatten().copied().collect::<Vec<u8>>(), bytes);
    }

    #[test]
    fn what_turns_out_unknown_is_taken_back_and_what_is_wrong_never_comes() {
        let (bytes, map, mut gatherer) = content();
        let windows: Vec<Rows> = (0..3).map(|window| Rows::at(window * CELL, CELL)).collect();
        let mut wrong = lane(&bytes, windows[1]);
        wrong[in_memory(CELL / 2)] ^= 1;
        for (rows, bytes) in [
            (windows[0], lane(&bytes, windows[0])),
            (windows[1], wrong),
            (windows[2], lane(&bytes, windows[2])),
        ] {
            gatherer.take_rows(&map, rows, &bytes, &[]).expect("it takes all");
        }
        // The second window has most of the second cell, and the last rows of the first.
        assert_eq!(gatherer.taker.come.keys().copied().collect::<Vec<_>>(), [0, 2]);
        let again = lane(&bytes, windows[1]);
        gatherer.take_rows(&map, windows[1], &again, &[]).expect("it takes all");
        assert_eq!(gatherer.taker.come.len(), 3);
        gatherer.take_rows(&map, windows[2], &lane(&bytes, windows[2]), &[windows[2]]).expect("it takes all");
        assert_eq!(gatherer.taker.come.keys().copied().collect::<Vec<_>>(), [0]);
    }
}
