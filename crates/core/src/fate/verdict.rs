//! From lost granules to the fate of each object.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::model::{LostSet, Model, ObjectState, VersionState};
use super::sweep::{Losses, losses};
use crate::lane::Rows;

/// What becomes of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Fate {
    /// It lies on disks that are not lost.
    Untouched,
    /// Its present content comes back.
    Rebuilt,
    /// Only the content of the last sync comes back.
    Older,
    /// Some pieces come back.
    Torn,
    /// Nothing comes back.
    Gone,
}

impl Fate {
    /// All fates, from the best to the worst.
    pub const ALL: [Self; 5] = [Self::Untouched, Self::Rebuilt, Self::Older, Self::Torn, Self::Gone];

    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Untouched => "untouched",
            Self::Rebuilt => "rebuilt",
            Self::Older => "older",
            Self::Torn => "torn",
            Self::Gone => "gone",
        }
    }

    /// Whether the present content survives.
    pub const fn is_whole(self) -> bool {
        matches!(self, Self::Untouched | Self::Rebuilt)
    }
}

/// How much of one content can be had.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recovered {
    /// Every cell.
    Whole,
    /// Some cells, not all.
    Pieces,
    /// No cell.
    Nothing,
}

/// The fates of all objects, in the model's order.
#[derive(Clone, Debug)]
pub struct Verdicts {
    /// One for each object.
    pub fates: Vec<Fate>,
    /// For each object that comes back, whole in its present or an older state: with which content.
    pub sources: Vec<Option<u32>>,
}

/// Counts the cells that hold none of the lost granules: only they can be checked, and so come back.
///
/// `lost` is in order and disjoint.
pub fn cells_back(version: &VersionState, lost: impl Iterator<Item = Rows>) -> u64 {
    let mut hit = 0;
    let mut next = 0;
    for range in lost.filter(|r| !r.is_empty()) {
        let first = (range.start() / version.cell).max(next);
        let end = range.end().div_ceil(version.cell).max(first);
        hit += end - first;
        next = end;
    }
    version.cells().saturating_sub(hit)
}

/// Computes the fate of every object when `lost` disks are gone.
pub fn verdicts(model: &Model, lost: &LostSet) -> Verdicts {
    let losses = losses(model, lost);
    let surviving = model.replicas.iter().filter(|(disk, _)| !lost.contains(disk)).map(|(_, of)| *of).max();
    let judge = Judge { model, losses: &losses, replica: surviving.unwrap_or(0) };
    let (fates, sources) = model
        .objects
        .iter()
        .map(|object| if lost.contains(&object.disk) { judge.fate(object) } else { (Fate::Untouched, None) })
        .unzip();
    Verdicts { fates, sources }
}

/// The fate of an object by how much of its present content, and of each older one, can be had; and which of
/// the older ones it is.
pub fn fate_by_contents(present: Option<Recovered>, past: &[Recovered]) -> (Fate, Option<usize>) {
    if present == Some(Recovered::Whole) {
        return (Fate::Rebuilt, None);
    }
    match past.iter().position(|r| *r == Recovered::Whole) {
        Some(position) => (Fate::Older, Some(position)),
        None if present.iter().chain(past).any(|r| *r == Recovered::Pieces) => (Fate::Torn, None),
        None => (Fate::Gone, None),
    }
}

struct Judge<'a> {
    model: &'a Model,
    losses: &'a Losses,
    /// The checkpoint of the newest replica that survives; 0 where none does.
    replica: u32,
}

impl Judge<'_> {
    /// Whether a replica that survives knows what replicas know from this checkpoint on.
    fn is_known(&self, recorded: u32) -> bool {
        recorded > 0 && recorded <= self.replica
    }

    fn fate(&self, object: &ObjectState) -> (Fate, Option<u32>) {
        if let Some(recorded) = object.catalogued {
            return (if self.is_known(recorded) { Fate::Rebuilt } else { Fate::Gone }, None);
        }
        let present = object.present().map(|v| self.recovered(v));
        let past: Vec<u32> = object.past().collect();
        let states: Vec<Recovered> = past.iter().map(|v| self.recovered(*v)).collect();
        let (fate, which) = fate_by_contents(present, &states);
        let source =
            if fate == Fate::Rebuilt { object.present() } else { which.map(|position| past[position]) };
        (fate, source)
    }

    fn recovered(&self, index: u32) -> Recovered {
        let version = &self.model.versions[index as usize];
        if version.data == 0 {
            return if self.is_known(version.recorded) { Recovered::Whole } else { Recovered::Nothing };
        }
        if version.mapped == 0 {
            return Recovered::Nothing;
        }
        let lost = self.losses.lost.get(&index).into_iter().flatten();
        let unmapped = self.model.unmapped.get(&index).into_iter().flatten();
        let mut all: Vec<Rows> = lost.chain(unmapped).copied().collect();
        all.sort_unstable();
        match cells_back(version, all.into_iter()) {
            0 => Recovered::Nothing,
            back if back == version.cells() => Recovered::Whole,
            _ => Recovered::Pieces,
        }
    }
}
