//! How many disks, whichever they are, may die without losing a file's present content.

use super::model::{LostSet, Model, ObjectState, Standing};
use super::sweep::{Segment, sweep};

/// Why a file is unguarded.
#[derive(
    Clone,
    Copy,
    Debug,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    serde::Serialize,
    serde::Deserialize,
    schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Unguarded {
    /// It is not in the snapshot: it came after the last sync.
    New,
    /// It lies on a cache alone, where no parity reaches it.
    OnCache,
    /// It changed after the last sync.
    Changed,
    /// Its times or its place moved; it has not been read since.
    Doubtful,
    /// It was read and differs although its times say that it does not.
    Suspect,
    /// Its rows have no valid parity.
    NoParity,
    /// Other files in its rows changed, so that its rows need the parities already.
    StaleNeighbours,
    /// A disk is missing, and the parities of its rows are needed to bring that one back.
    DiskMissing,
    /// No other disk carries a current replica of the catalogue.
    NoReplica,
}

/// The guard of one object.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Guard {
    /// How many disks may die.
    pub level: u8,
    /// Why none may.
    pub reason: Option<Unguarded>,
}

#[derive(Clone, Copy)]
struct Tightest {
    spare: i16,
    valid: u8,
    own_stale: bool,
    beside_missing: bool,
}

/// Computes the guard of every object in one sweep, with the disks `missing` that are not there now: the
/// least, over its rows, of the valid parities less the lanes that need them already.
pub fn guards(model: &Model, missing: &LostSet) -> Vec<Guard> {
    let roomy = Tightest { spare: i16::MAX, valid: u8::MAX, own_stale: false, beside_missing: false };
    let mut tightest = vec![roomy; model.versions.len()];
    let lane_missing: Vec<bool> = model.lanes.iter().map(|l| missing.contains(&l.disk)).collect();
    let parity_there: Vec<bool> = model.parities.iter().map(|p| !missing.contains(&p.disk)).collect();
    let mut here = roomy;
    sweep(model, |segment| {
        if segment.is_new_pattern {
            here = tightness(segment, &lane_missing, &parity_there);
        }
        let mut tighten = |lane: usize| {
            let Some(piece) = &segment.pieces[lane] else { return };
            let least = &mut tightest[piece.version as usize];
            let own_stale = least.own_stale | piece.stale;
            if here.spare < least.spare {
                *least = here;
            }
            least.own_stale = own_stale;
        };
        if segment.is_new_pattern {
            (0..segment.pieces.len()).for_each(&mut tighten);
        } else {
            segment.entered.iter().copied().for_each(&mut tighten);
        }
    });
    model.objects.iter().map(|object| guard_of(model, object, &tightest, missing)).collect()
}

/// How tight it is in the rows of a segment.
fn tightness(segment: &Segment<'_>, lane_missing: &[bool], parity_there: &[bool]) -> Tightest {
    let usable = segment.valid.iter().zip(parity_there).filter(|(usable, there)| **usable && **there);
    let valid = usable.count() as u8;
    let lanes =
        || segment.pieces.iter().zip(lane_missing).filter_map(|(piece, gone)| Some((piece.as_ref()?, *gone)));
    let needed = lanes().filter(|(piece, gone)| piece.stale || *gone).count() as i16;
    let beside_missing = lanes().any(|(_, gone)| gone);
    Tightest { spare: i16::from(valid) - needed, valid, own_stale: false, beside_missing }
}

fn guard_of(model: &Model, object: &ObjectState, tightest: &[Tightest], missing: &LostSet) -> Guard {
    let unguarded = |reason| Guard { level: 0, reason: Some(reason) };
    let index = match own_trouble(model, object) {
        Some(Unguarded::NoReplica) => return replica_guard(model, object, missing),
        Some(trouble) => return unguarded(trouble),
        None => object.version.expect("what has no trouble of its own has a content"),
    };
    let least = tightest[index as usize];
    if least.own_stale {
        return unguarded(Unguarded::Suspect);
    }
    match u8::try_from(least.spare.max(0)).unwrap_or(0) {
        0 if least.beside_missing => unguarded(Unguarded::DiskMissing),
        0 if least.valid == 0 => unguarded(Unguarded::NoParity),
        0 => unguarded(Unguarded::StaleNeighbours),
        level => Guard { level, reason: None },
    }
}

/// What is the matter with an object itself, whatever its rows are like; [`Unguarded::NoReplica`] where all of it lives in
/// the catalogue, and comes back as long as a replica does.
pub fn own_trouble(model: &Model, object: &ObjectState) -> Option<Unguarded> {
    if let Some(recorded) = object.catalogued {
        return Some(if recorded > 0 { Unguarded::NoReplica } else { Unguarded::New });
    }
    let is_on_lane = model.lanes.iter().any(|lane| lane.disk == object.disk);
    if !is_on_lane && !model.lanes.is_empty() {
        return Some(Unguarded::OnCache);
    }
    let came_or_changed = if object.older.is_some() { Unguarded::Changed } else { Unguarded::New };
    let Some(index) = object.version else { return Some(came_or_changed) };
    let version = &model.versions[index as usize];
    match object.standing {
        Standing::Changed => Some(Unguarded::Changed),
        Standing::Doubtful | Standing::Touched => Some(Unguarded::Doubtful),
        Standing::Suspect => Some(Unguarded::Suspect),
        Standing::Same if !version.is_complete() => Some(came_or_changed),
        Standing::Same if version.data == 0 => Some(Unguarded::NoReplica),
        Standing::Same => None,
    }
}

/// What lives in the catalogue survives while one other member carries a replica that knows it.
fn replica_guard(model: &Model, object: &ObjectState, missing: &LostSet) -> Guard {
    let of_version = || object.version.map_or(0, |version| model.versions[version as usize].recorded);
    let recorded = object.catalogued.unwrap_or_else(of_version);
    let others =
        model.replicas_with(recorded).filter(|disk| *disk != object.disk && !missing.contains(disk)).count();
    let spare = others.saturating_sub(usize::from(missing.contains(&object.disk)));
    match u8::try_from(spare).unwrap_or(u8::MAX) {
        0 => Guard { level: 0, reason: Some(Unguarded::NoReplica) },
        level => Guard { level, reason: None },
    }
}
