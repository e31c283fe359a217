//! Which cells of parity are computed anew, and what is read for each.

use std::collections::BTreeSet;

use super::CellGeometry;
use crate::lane::{LaneMap, Rows};
use crate::units::{ByteLength, CellIndex, GRANULE, VersionId};

/// One checksum cell of a content that has to be read whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CellRead {
    /// The lane, as a position in the list given.
    pub lane: usize,
    /// The content.
    pub version: VersionId,
    /// Which of its checksum cells.
    pub cell: u64,
}

/// The work for one cell of parity.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WindowPlan {
    /// The cell of parity.
    pub cell: CellIndex,
    /// What is read for it; what the window before it read last in the same lane is at hand.
    pub reads: Vec<CellRead>,
}

/// Plans to recompute every cell in which `snapshot` and `target` differ, and those in `also`.
///
/// `content_cell` gives the size in granules of the checksum cells of a content.
pub fn plan_windows(
    snapshot: &[&LaneMap],
    target: &[LaneMap],
    also: &BTreeSet<CellIndex>,
    geometry: CellGeometry,
    content_cell: impl Fn(VersionId) -> u64,
) -> Vec<WindowPlan> {
    let mut dirty = also.clone();
    for (old, new) in snapshot.iter().zip(target) {
        dirty.extend(old.difference(new).into_iter().flat_map(|rows| geometry.cells(rows)));
    }
    let mut at_hand = vec![None; target.len()];
    dirty
        .into_iter()
        .map(|cell| {
            let mut reads = Vec::new();
            for (lane, map) in target.iter().enumerate() {
                for (version, cell) in content_cells(map, geometry.rows(cell), &content_cell) {
                    if at_hand[lane] != Some((version, cell)) {
                        reads.push(CellRead { lane, version, cell });
                        at_hand[lane] = Some((version, cell));
                    }
                }
            }
            WindowPlan { cell, reads }
        })
        .collect()
}

/// What a sync does to one lane.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct LaneChange {
    /// Contents that get rows of parity.
    pub entering_files: u64,
    /// The bytes of those rows.
    pub entering_bytes: ByteLength,
    /// Contents that give rows up: what was removed, replaced or changed.
    pub leaving_files: u64,
    /// The bytes of those rows.
    pub leaving_bytes: ByteLength,
}

/// Compares a lane as it is in the snapshot with what it is to be.
pub fn lane_change(snapshot: &LaneMap, target: &LaneMap) -> LaneChange {
    let differing = snapshot.difference(target);
    let count = |lane: &LaneMap| {
        let pieces = || differing.iter().flat_map(|rows| lane.overlapping(*rows));
        let mut contents: Vec<VersionId> = pieces().map(|p| p.value.version).collect();
        contents.sort_unstable();
        contents.dedup();
        let rows: u64 = pieces().map(|p| p.rows.length()).sum();
        (contents.len() as u64, ByteLength::new(rows * GRANULE))
    };
    let (entering_files, entering_bytes) = count(target);
    let (leaving_files, leaving_bytes) = count(snapshot);
    LaneChange { entering_files, entering_bytes, leaving_files, leaving_bytes }
}

/// The checksum cells of contents that touch `rows` of a lane, in lane order.
pub(crate) fn content_cells(
    lane: &LaneMap,
    rows: Rows,
    content_cell: &impl Fn(VersionId) -> u64,
) -> Vec<(VersionId, u64)> {
    lane.overlapping(rows)
        .flat_map(|piece| {
            let size = content_cell(piece.value.version);
            let first = piece.value.offset / size;
            let end = (piece.value.offset + piece.rows.length()).div_ceil(size);
            (first..end).map(move |cell| (piece.value.version, cell))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lane::Piece;

    #[test]
    fn a_lane_tells_what_enters_and_what_leaves() {
        let piece = |v| Piece { version: VersionId::new(v), offset: 0 };
        let (mut snapshot, mut target) = (LaneMap::default(), LaneMap::default());
        snapshot.insert(Rows::at(0, 10), piece(1));
        snapshot.insert(Rows::at(10, 5), piece(2));
        target.insert(Rows::at(0, 10), piece(1));
        target.insert(Rows::at(10, 2), piece(3));
        target.insert(Rows::at(20, 1), piece(4));
        let change = lane_change(&snapshot, &target);
        assert_eq!((change.entering_files, change.entering_bytes.exact()), (2, 3 * 4096));
        assert_eq!((change.leaving_files, change.leaving_bytes.exact()), (1, 5 * 4096));
        assert_eq!(lane_change(&target, &target), LaneChange::default());
    }

    #[test]
    fn only_cells_that_differ_are_planned_and_straddling_cells_are_read_once() {
        let geometry = CellGeometry::with_cell(1 << 20).unwrap();
        let piece = |v| Piece { version: VersionId::new(v), offset: 0 };
        let mut lane = LaneMap::default();
        lane.insert(Rows::at(0, 100), piece(1));
        lane.insert(Rows::at(100, 500), piece(2));
        let plan = plan_windows(&[&LaneMap::default()], &[lane.clone()], &BTreeSet::new(), geometry, |_| 256);
        assert_eq!(plan.iter().map(|w| w.cell.get()).collect::<Vec<_>>(), [0, 1, 2]);
        let reads: Vec<_> = plan.iter().flat_map(|w| &w.reads).map(|r| (r.version.get(), r.cell)).collect();
        assert_eq!(reads, [(1, 0), (2, 0), (2, 1)]);
        let again = plan_windows(&[&lane.clone()], &[lane], &BTreeSet::new(), geometry, |_| 256);
        assert!(again.is_empty());
    }
}
