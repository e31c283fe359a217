//! The walk over the rows of all lanes at once.

use std::collections::BTreeMap;

use super::model::{LostSet, Model, StatedPiece};
use crate::lane::Rows;

/// Rows over which nothing changes: the same pieces, the same valid parities.
pub(super) struct Segment<'a> {
    pub(super) rows: Rows,
    /// For each lane of the model its piece, if it is not zero here.
    pub(super) pieces: &'a [Option<StatedPiece>],
    /// For each parity of the model whether it can be used here.
    pub(super) valid: &'a [bool],
}

/// Calls `visit` for each segment in which some lane is not zero, in order.
pub(super) fn sweep(model: &Model, mut visit: impl FnMut(&Segment<'_>)) {
    let mut lane_cursors = vec![0; model.lanes.len()];
    let mut parity_cursors = vec![0; model.parities.len()];
    let mut pieces = vec![None; model.lanes.len()];
    let mut valid = vec![true; model.parities.len()];
    let mut row = 0;
    loop {
        let mut border = u64::MAX;
        for ((lane, cursor), piece) in model.lanes.iter().zip(&mut lane_cursors).zip(&mut pieces) {
            *piece = at_cursor(&lane.pieces, |p| p.rows, cursor, row, &mut border).copied();
        }
        if border == u64::MAX {
            return;
        }
        for ((parity, cursor), usable) in model.parities.iter().zip(&mut parity_cursors).zip(&mut valid) {
            *usable = at_cursor(&parity.invalid, |r| *r, cursor, row, &mut border).is_none();
        }
        if pieces.iter().any(Option::is_some) {
            visit(&Segment { rows: Rows::new(row, border), pieces: &pieces, valid: &valid });
        }
        row = border;
    }
}

/// The item that covers `row`; `border` is lowered to where that answer next changes.
fn at_cursor<'a, T>(
    items: &'a [T],
    rows: impl Fn(&T) -> Rows,
    cursor: &mut usize,
    row: u64,
    border: &mut u64,
) -> Option<&'a T> {
    while items.get(*cursor).is_some_and(|item| rows(item).end() <= row) {
        *cursor += 1;
    }
    let item = items.get(*cursor)?;
    let covers = rows(item).start() <= row;
    *border = (*border).min(if covers { rows(item).end() } else { rows(item).start() });
    covers.then_some(item)
}

/// What does not come back, by content: granules of it, in order and joined.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Losses {
    /// For each content (a position in [`Model::versions`]) the granules that are lost.
    pub lost: BTreeMap<u32, Vec<Rows>>,
}

impl Losses {
    fn add(&mut self, version: u32, granules: Rows) {
        let ranges = self.lost.entry(version).or_default();
        match ranges.last_mut() {
            Some(last) if last.end() == granules.start() => *last = Rows::new(last.start(), granules.end()),
            _ => ranges.push(granules),
        }
    }
}

/// Computes which granules of the snapshot's contents can be had neither from their own disk nor from
/// parity when `lost` disks are gone.
pub fn losses(model: &Model, lost: &LostSet) -> Losses {
    let lane_lost: Vec<bool> = model.lanes.iter().map(|l| lost.contains(&l.disk)).collect();
    let parity_lost: Vec<bool> = model.parities.iter().map(|p| lost.contains(&p.disk)).collect();
    let mut losses = Losses::default();
    sweep(model, |segment| {
        let missing = |(piece, gone): (&Option<StatedPiece>, &bool)| piece.filter(|p| *gone || p.stale);
        let count = segment.pieces.iter().zip(&lane_lost).filter_map(missing).count();
        let valid =
            segment.valid.iter().zip(&parity_lost).filter(|(usable, gone)| **usable && !**gone).count();
        if count <= valid {
            return;
        }
        for piece in segment.pieces.iter().zip(&lane_lost).filter_map(missing) {
            let offset = piece.offset + (segment.rows.start() - piece.rows.start());
            losses.add(piece.version, Rows::at(offset, segment.rows.length()));
        }
    });
    for ranges in losses.lost.values_mut() {
        join(ranges);
    }
    losses
}

/// Sorts and joins: a content may lie in several places of its lane.
fn join(ranges: &mut Vec<Rows>) {
    ranges.sort_unstable();
    let mut joined: Vec<Rows> = Vec::with_capacity(ranges.len());
    for range in ranges.drain(..) {
        match joined.last_mut() {
            Some(last) if last.end() >= range.start() => {
                *last = Rows::new(last.start(), last.end().max(range.end()));
            }
            _ => joined.push(range),
        }
    }
    *ranges = joined;
}
