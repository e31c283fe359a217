//! Rows by what they need and what they have left.

use super::model::{DiskIndex, Model};
use super::sweep::sweep;
use crate::lane::Rows;
use crate::units::ByteLength;

/// Rows over which the same disks are needed, and the same files lie in them.
#[derive(Debug)]
pub struct Pattern<'a> {
    /// The rows.
    pub rows: Rows,
    /// Valid parities less the lanes that need them already; so many of the disks below may be lost.
    pub spare: i32,
    /// The disks whose loss takes something from the rows; for a data disk the size of its file there.
    pub within: &'a [(DiskIndex, Option<ByteLength>)],
}

/// Calls `visit` with the rows of a model, in order.
pub fn for_each_pattern(model: &Model, mut visit: impl FnMut(&Pattern<'_>)) {
    let mut within = Vec::new();
    sweep(model, |segment| {
        within.clear();
        let mut spare = 0;
        for (lane, piece) in model.lanes.iter().zip(segment.pieces) {
            match piece {
                Some(piece) if piece.stale => spare -= 1,
                Some(piece) => {
                    within.push((lane.disk, Some(model.versions[piece.version as usize].size)));
                }
                None => {}
            }
        }
        for (parity, _) in model.parities.iter().zip(segment.valid).filter(|(_, usable)| **usable) {
            spare += 1;
            within.push((parity.disk, None));
        }
        visit(&Pattern { rows: segment.rows, spare, within: &within });
    });
}
