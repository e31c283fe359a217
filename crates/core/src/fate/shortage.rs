//! Why rows do not come back: the trace from a verdict to the disks and contents that decide it.

use std::collections::BTreeMap;

use super::model::{DiskIndex, LostSet, Model, ParityState};
use super::sweep::{Segment, sweep};
use crate::lane::Rows;

/// Why rows are short of parity: more lanes are missing in them than valid parities are left.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Cause {
    /// The lost disks whose lanes are not zero there.
    pub lost: Vec<DiskIndex>,
    /// The lanes that are stale there although their disks are not lost, or stale besides: the disk, and the content
    /// that parity encodes.
    pub stale: Vec<(DiskIndex, u32)>,
    /// The parities that can be used.
    pub valid: Vec<DiskIndex>,
    /// The parities that are lost.
    pub lost_parities: Vec<DiskIndex>,
    /// The parities that are there and not valid in these rows.
    pub invalid_parities: Vec<DiskIndex>,
}

impl Cause {
    /// How many lanes are missing.
    pub const fn missing(&self) -> usize {
        self.lost.len() + self.stale.len()
    }
}

/// The first rows of a content that do not come back, and why.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Shortage {
    /// These rows of the lanes.
    pub rows: Rows,
    /// All granules of the content that do not come back.
    pub granules: u64,
    /// Why, as a position in [`Shortages::causes`].
    cause: u32,
}

/// Why contents do not come back.
#[derive(Clone, Debug, Default)]
pub struct Shortages {
    causes: Vec<Cause>,
    of_version: BTreeMap<u32, Shortage>,
}

impl Shortages {
    /// Traces every content of `wanted` that does not come back when `lost` disks are gone.
    pub fn new(model: &Model, lost: &LostSet, wanted: impl Fn(u32) -> bool) -> Self {
        let mut found = Self::default();
        let mut is_short = false;
        sweep(model, |segment| {
            let stale_entered =
                || segment.entered.iter().any(|l| segment.pieces[*l].is_some_and(|p| p.stale));
            if segment.is_new_pattern || stale_entered() {
                let cause = cause_of(model, segment, lost);
                is_short = cause.missing() > cause.valid.len();
                if is_short {
                    found.causes.push(cause);
                }
            }
            if !is_short {
                return;
            }
            for (lane, piece) in model.lanes.iter().zip(segment.pieces) {
                let Some(piece) = piece.filter(|p| p.stale || lost.contains(&lane.disk)) else { continue };
                if wanted(piece.version) {
                    found.add(piece.version, segment.rows);
                }
            }
        });
        found
    }

    fn add(&mut self, version: u32, rows: Rows) {
        let cause = u32::try_from(self.causes.len() - 1).unwrap_or(u32::MAX);
        let known = self.of_version.entry(version).or_insert(Shortage {
            rows: Rows::new(rows.start(), rows.start()),
            granules: 0,
            cause,
        });
        known.granules += rows.length();
        if known.rows.end() == rows.start()
            && self.causes[known.cause as usize] == self.causes[cause as usize]
        {
            known.rows = Rows::new(known.rows.start(), rows.end());
        }
    }

    /// Why this content does not come back, if it does not: its first rows and the cause.
    pub fn of(&self, version: u32) -> Option<(Shortage, &Cause)> {
        let shortage = self.of_version.get(&version)?;
        Some((*shortage, &self.causes[shortage.cause as usize]))
    }
}

fn cause_of(model: &Model, segment: &Segment<'_>, lost: &LostSet) -> Cause {
    let mut cause = Cause::default();
    for (lane, piece) in model.lanes.iter().zip(segment.pieces) {
        match piece {
            Some(piece) if piece.stale => cause.stale.push((lane.disk, piece.version)),
            Some(_) if lost.contains(&lane.disk) => cause.lost.push(lane.disk),
            _ => {}
        }
    }
    let is_here = |parity: &ParityState| !parity.rows.intersection(segment.rows).is_empty();
    for (parity, usable) in model.parities.iter().zip(segment.valid).filter(|(parity, _)| is_here(parity)) {
        let list = match (lost.contains(&parity.disk), usable) {
            (true, _) => &mut cause.lost_parities,
            (false, true) => &mut cause.valid,
            (false, false) => &mut cause.invalid_parities,
        };
        list.push(parity.disk);
    }
    cause
}
