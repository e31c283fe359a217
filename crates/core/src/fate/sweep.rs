//! The walk over the rows of all lanes at once.

use std::collections::BTreeMap;

use super::model::{LostSet, Model, StatedPiece};
use crate::lane::{Rows, joined};

/// Rows over which nothing changes: the same pieces, the same valid parities.
pub(super) struct Segment<'a> {
    pub(super) rows: Rows,
    /// For each lane of the model its piece, if it is not zero here.
    pub(super) pieces: &'a [Option<StatedPiece>],
    /// For each parity of the model whether it can be used here.
    pub(super) valid: &'a [bool],
    /// The lanes whose piece is another one than in the segment before.
    pub(super) entered: &'a [usize],
    /// Whether some lane became zero, good or stale, or some parity valid or invalid, since the segment before.
    pub(super) is_new_pattern: bool,
}

/// Calls `visit` for each segment in which some lane is not zero, in order.
///
/// Only the lanes and parities that have a border there are looked at, so that a walk takes time in proportion to
/// the number of pieces.
pub(super) fn sweep(model: &Model, mut visit: impl FnMut(&Segment<'_>)) {
    let lanes = model.lanes.len();
    let mut walk = Walk::new(model);
    let mut entered = Vec::new();
    let mut is_new_pattern = true;
    let mut row = 0;
    while walk.next[..lanes].iter().any(|border| *border != u64::MAX) {
        for track in 0..walk.next.len() {
            if walk.next[track] > row {
                continue;
            }
            if track < lanes {
                is_new_pattern |= walk.enter_lane(track, row);
                entered.push(track);
            } else {
                is_new_pattern |= walk.enter_parity(track, row);
            }
        }
        let border = walk.next.iter().copied().min().unwrap_or(u64::MAX);
        if walk.filled > 0 {
            let rows = Rows::new(row, border);
            let (pieces, valid) = (&walk.pieces, &walk.valid);
            visit(&Segment { rows, pieces, valid, entered: &entered, is_new_pattern });
            entered.clear();
            is_new_pattern = false;
        }
        row = border;
    }
}

/// Where the walk is in each lane, then in each parity.
struct Walk<'a> {
    model: &'a Model,
    cursors: Vec<usize>,
    /// The next row at which something changes; `u64::MAX` when nothing more does.
    next: Vec<u64>,
    pieces: Vec<Option<StatedPiece>>,
    valid: Vec<bool>,
    /// Lanes that are not zero.
    filled: usize,
}

impl<'a> Walk<'a> {
    fn new(model: &'a Model) -> Self {
        let tracks = model.lanes.len() + model.parities.len();
        Self {
            model,
            cursors: vec![0; tracks],
            next: vec![0; tracks],
            pieces: vec![None; model.lanes.len()],
            valid: vec![true; model.parities.len()],
            filled: 0,
        }
    }

    /// Whether the lane is zero, good or stale now where it was another of these before.
    fn enter_lane(&mut self, lane: usize, row: u64) -> bool {
        let before = self.pieces[lane].map(|p| p.stale);
        let pieces = &self.model.lanes[lane].pieces;
        let (found, border) = at_cursor(pieces, |p| p.rows, &mut self.cursors[lane], row);
        self.pieces[lane] = found.copied();
        self.next[lane] = border;
        let after = self.pieces[lane].map(|p| p.stale);
        self.filled = self.filled + usize::from(after.is_some()) - usize::from(before.is_some());
        before != after
    }

    /// Whether the parity is valid now and was not before, or the other way round.
    fn enter_parity(&mut self, track: usize, row: u64) -> bool {
        let parity = track - self.pieces.len();
        let invalid = &self.model.parities[parity].invalid;
        let (found, border) = at_cursor(invalid, |r| *r, &mut self.cursors[track], row);
        self.next[track] = border;
        std::mem::replace(&mut self.valid[parity], found.is_none()) != found.is_none()
    }
}

/// The item that covers `row`, and the row at which that answer next changes.
fn at_cursor<'a, T>(
    items: &'a [T],
    rows: impl Fn(&T) -> Rows,
    cursor: &mut usize,
    row: u64,
) -> (Option<&'a T>, u64) {
    while items.get(*cursor).is_some_and(|item| rows(item).end() <= row) {
        *cursor += 1;
    }
    let Some(item) = items.get(*cursor) else { return (None, u64::MAX) };
    let covers = rows(item).start() <= row;
    (covers.then_some(item), if covers { rows(item).end() } else { rows(item).start() })
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
    let mut all_back = true;
    sweep(model, |segment| {
        let missing = |(piece, gone): (&Option<StatedPiece>, &bool)| piece.filter(|p| *gone || p.stale);
        if segment.is_new_pattern {
            let count = segment.pieces.iter().zip(&lane_lost).filter_map(missing).count();
            let valid = segment.valid.iter().zip(&parity_lost);
            all_back = count <= valid.filter(|(usable, gone)| **usable && !**gone).count();
        }
        if all_back {
            return;
        }
        for piece in segment.pieces.iter().zip(&lane_lost).filter_map(missing) {
            let offset = piece.offset + (segment.rows.start() - piece.rows.start());
            losses.add(piece.version, Rows::at(offset, segment.rows.length()));
        }
    });
    for ranges in losses.lost.values_mut() {
        // A content may lie in several places of its lane.
        *ranges = joined(std::mem::take(ranges));
    }
    losses
}
