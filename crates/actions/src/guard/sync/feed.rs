//! What the readers are told: which pieces of which contents lie in the rows of a cell.

use std::sync::Arc;

use sieve_core::lane::{LaneMap, Rows};
use sieve_core::sync::{Method, WindowPlan, changed_within};
use sieve_core::units::VersionId;

use super::gather::Fresh;
use super::volume::VolumeSync;
use sieve_disk::Result;
use sieve_pool::pool::Pool;
use sieve_rows::stream::{Checks, Feeder, LaneTask, PieceTask, Source, known_source};

/// Finds the contents of the lanes, and orders cells.
pub(super) struct Feed<'a> {
    pool: &'a Pool,
    sync: &'a VolumeSync,
    /// Nothing is computed: only what has no checksum yet is read.
    is_unguarded: bool,
    /// Rows in which each lane differs.
    changed: Vec<Vec<Rows>>,
    /// By lane, the contents that were used last: of the coming lane, and of the former one.
    last: Vec<[Option<Arc<Source>>; 2]>,
}

impl<'a> Feed<'a> {
    pub(super) fn new(pool: &'a Pool, sync: &'a VolumeSync, has_parity: bool) -> Self {
        let lanes = sync.snapshot.lanes.iter().zip(&sync.target);
        let changed: Vec<Vec<Rows>> = lanes.map(|(lane, target)| lane.map.difference(target)).collect();
        let last = vec![[None, None]; changed.len()];
        Self { pool, sync, is_unguarded: !has_parity, changed, last }
    }

    /// Orders one cell.
    ///
    /// # Errors
    /// When the pass has ended, or what the database says.
    pub(super) fn order(&mut self, feeder: &Feeder, window: &WindowPlan) -> Result<()> {
        let cell = window.cell;
        let rows = self.sync.snapshot.geometry.rows(cell);
        let mut lanes = Vec::new();
        for lane in 0..self.changed.len() {
            let (now, before) = match window.method {
                Method::Recompute => (self.pieces(lane, false, &[rows], rows)?, Vec::new()),
                Method::Delta => {
                    let parts: Vec<Rows> = changed_within(&self.changed[lane], rows).collect();
                    (self.pieces(lane, false, &parts, rows)?, self.pieces(lane, true, &parts, rows)?)
                }
            };
            if !now.is_empty() || !before.is_empty() {
                lanes.push((lane, LaneTask { cell, now, before }));
            }
        }
        feeder.order(cell, lanes, window.method == Method::Delta)
    }

    fn pieces(&mut self, lane: usize, before: bool, parts: &[Rows], cell: Rows) -> Result<Vec<PieceTask>> {
        let map: &LaneMap =
            if before { &self.sync.snapshot.lanes[lane].map } else { &self.sync.target[lane] };
        let mut pieces = Vec::new();
        for piece in parts.iter().flat_map(|rows| map.overlapping(*rows)) {
            if self.is_unguarded && !self.sync.fresh.contains_key(&piece.value.version) {
                continue;
            }
            pieces.push(PieceTask {
                start: piece.rows.start() - cell.start(),
                length: piece.rows.length(),
                offset: piece.value.offset,
                source: self.source(lane, before, piece.value.version)?,
            });
        }
        Ok(pieces)
    }

    fn source(&mut self, lane: usize, before: bool, version: VersionId) -> Result<Option<Arc<Source>>> {
        let slot = usize::from(before);
        if let Some(last) = self.last[lane][slot].as_ref().filter(|source| source.version == version) {
            return Ok(Some(Arc::clone(last)));
        }
        let found = match self.sync.fresh.get(&version) {
            Some(fresh) => Some(fresh_source(version, fresh)),
            None => known_source(self.pool, self.sync.snapshot.lanes[lane].disk, version)?,
        };
        self.last[lane][slot] = found.map(Arc::new);
        Ok(self.last[lane][slot].clone())
    }
}

fn fresh_source(version: VersionId, fresh: &Fresh) -> Source {
    let end = fresh.data.ranges().last().map_or(0, |rows| rows.end());
    Source {
        version,
        names: vec![fresh.path.clone()],
        stamp: fresh.stamp,
        size: fresh.stamp.size,
        checks: Checks::Fresh { end },
    }
}

/// Contents that cannot be read in one pass: their pieces do not lie in their own order in the lane, or they have none
/// there at all (nothing but holes).
pub(super) fn out_of_order(sync: &VolumeSync) -> Vec<VersionId> {
    let hollow = sync.fresh.iter().filter(|(_, fresh)| fresh.data.ranges().is_empty());
    let mut found: Vec<VersionId> = hollow.map(|(version, _)| *version).collect();
    for target in &sync.target {
        let mut reached = std::collections::HashMap::<VersionId, u64>::new();
        for piece in target.iter().filter(|piece| sync.fresh.contains_key(&piece.value.version)) {
            let offset = piece.value.offset;
            let before = reached.insert(piece.value.version, offset + piece.rows.length());
            if before.is_some_and(|before| before > offset) {
                found.push(piece.value.version);
            }
        }
    }
    found.sort_unstable();
    found.dedup();
    found
}
