//! Guards against a sweep that promises more, or less, than the matrices over GF(2^8) allow.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use sieve_core::code::coefficient;
use sieve_core::fate::*;
use sieve_core::gf256::{inverse, mul};
use sieve_core::lane::Rows;
use sieve_core::units::{ByteLength, GRANULE, ParityIndex, Slot};

const ROWS: u64 = 24;
const CELL: u64 = 4;

/// One lane as drawn by proptest: (gap before, length, stale).
type Drawn = Vec<(u64, u64, bool)>;

fn pool() -> impl Strategy<Value = Model> {
    let lane = prop::collection::vec((0..4u64, 1..9u64, prop::bool::weighted(0.2)), 0..5);
    let invalid = prop::collection::vec((0..ROWS, 1..6u64), 0..3);
    (prop::collection::vec(lane, 1..=8), prop::collection::vec(invalid, 1..=4)).prop_map(build)
}

fn build((lanes, parities): (Vec<Drawn>, Vec<Vec<(u64, u64)>>)) -> Model {
    let mut model = Model::default();
    for (slot, drawn) in lanes.iter().enumerate() {
        let disk = DiskIndex(slot as u16);
        let mut pieces = Vec::new();
        let mut row = 0;
        for (gap, length, stale) in drawn {
            let version = model.versions.len() as u32;
            pieces.push(StatedPiece {
                rows: Rows::at(row + gap, *length),
                version,
                offset: 0,
                stale: *stale,
            });
            row += gap + length;
            model.versions.push(VersionState {
                size: ByteLength::new(length * GRANULE),
                cell: CELL,
                data: *length,
                mapped: *length,
                recorded: true,
            });
            let standing = if *stale { Standing::Changed } else { Standing::Same };
            model.objects.push(ObjectState {
                disk,
                size: ByteLength::new(length * GRANULE),
                version: Some(version),
                standing,
                older: None,
                catalogued: None,
            });
        }
        model.lanes.push(LaneState { disk, slot: Slot::new(slot as u8), pieces });
        model.replicas.insert(disk);
    }
    for (index, drawn) in parities.iter().enumerate() {
        let mut bad = BTreeSet::new();
        drawn.iter().for_each(|(start, length)| bad.extend(*start..start + length));
        let invalid = bad.into_iter().map(|row| Rows::at(row, 1)).collect();
        let disk = DiskIndex((lanes.len() + index) as u16);
        model.parities.push(ParityState { disk, index: ParityIndex::new(index as u8), invalid });
        model.replicas.insert(disk);
    }
    model
}

fn rank(mut matrix: Vec<Vec<u8>>, columns: usize) -> usize {
    let mut rank = 0;
    for column in 0..columns {
        let Some(pivot) = (rank..matrix.len()).find(|r| matrix[*r][column] != 0) else { continue };
        matrix.swap(rank, pivot);
        let scale = inverse(matrix[rank][column]).unwrap();
        for row in rank + 1..matrix.len() {
            let factor = mul(matrix[row][column], scale);
            let pivot_row = matrix[rank].clone();
            for (value, above) in matrix[row].iter_mut().zip(pivot_row).take(columns) {
                *value ^= mul(factor, above);
            }
        }
        rank += 1;
    }
    rank
}

/// The granules of each version that cannot be had, row by row, by the rank of the matrix of the row.
fn brute(model: &Model, lost: &LostSet) -> BTreeMap<u32, BTreeSet<u64>> {
    let mut gone: BTreeMap<u32, BTreeSet<u64>> = BTreeMap::new();
    for row in 0..ROWS * 4 {
        let missing: Vec<(Slot, u32, u64)> = model
            .lanes
            .iter()
            .filter_map(|lane| {
                let piece = lane.pieces.iter().find(|p| p.rows.start() <= row && row < p.rows.end())?;
                (piece.stale || lost.contains(&lane.disk))
                    .then(|| (lane.slot, piece.version, piece.offset + row - piece.rows.start()))
            })
            .collect();
        let equations: Vec<Vec<u8>> = model
            .parities
            .iter()
            .filter(|p| !lost.contains(&p.disk))
            .filter(|p| !p.invalid.iter().any(|r| r.start() <= row && row < r.end()))
            .map(|p| missing.iter().map(|(slot, ..)| coefficient(p.index, *slot)).collect())
            .collect();
        if rank(equations, missing.len()) < missing.len() {
            for (_, version, granule) in missing {
                gone.entry(version).or_default().insert(granule);
            }
        }
    }
    gone
}

fn brute_fate(
    model: &Model,
    object: &ObjectState,
    gone: &BTreeMap<u32, BTreeSet<u64>>,
    lost: &LostSet,
) -> Fate {
    if !lost.contains(&object.disk) {
        return Fate::Untouched;
    }
    let version = object.version.unwrap();
    let none = BTreeSet::new();
    let bad = gone.get(&version).unwrap_or(&none);
    let cells = model.versions[version as usize].size.exact().div_ceil(CELL * GRANULE);
    let back = (0..cells).filter(|c| !bad.iter().any(|g| g / CELL == *c)).count() as u64;
    match back {
        0 => Fate::Gone,
        b if b < cells => Fate::Torn,
        _ if object.standing == Standing::Same => Fate::Rebuilt,
        _ => Fate::Older,
    }
}

fn subsets(disks: usize) -> impl Iterator<Item = LostSet> {
    (0u32..1 << disks)
        .map(move |set| (0..disks as u16).filter(|d| set >> d & 1 == 1).map(DiskIndex).collect())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 500, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_sweep_agrees_with_brute_force(model in pool(), seed in any::<u64>()) {
        let disks = model.lanes.len() + model.parities.len();
        for lost in subsets(disks).skip((seed % 3) as usize).step_by(1 + disks) {
            let gone = brute(&model, &lost);
            let expected: Vec<Fate> =
                model.objects.iter().map(|o| brute_fate(&model, o, &gone, &lost)).collect();
            prop_assert_eq!(&verdicts(&model, &lost).fates, &expected, "lost {:?}", lost);
        }
    }

    #[test]
    fn the_guard_is_the_most_losses_that_every_choice_of_disks_allows(model in pool(), seed in any::<u64>()) {
        let disks = model.lanes.len() + model.parities.len();
        prop_assume!(disks <= 9);
        // In every other case one disk is missing already.
        let missing: LostSet =
            (0..disks as u16).filter(|d| seed % 2 == 1 && seed as usize / 2 % disks == usize::from(*d)).map(DiskIndex).collect();
        let mut levels = vec![disks as u8; model.objects.len()];
        for lost in subsets(disks).filter(|lost| missing.is_disjoint(lost)) {
            let all: LostSet = lost.union(&missing).copied().collect();
            let gone = brute(&model, &all);
            for (object, level) in model.objects.iter().zip(&mut levels) {
                if !brute_fate(&model, object, &gone, &all).is_whole() {
                    *level = (*level).min((lost.len() as u8).saturating_sub(1));
                }
            }
        }
        for ((guard, object), expected) in guards(&model, &missing).iter().zip(&model.objects).zip(&levels) {
            // A changed object is never lost while its disk lives, and is unguarded all the same.
            let expected = if object.standing == Standing::Same { *expected } else { 0 };
            prop_assert_eq!(guard.level, expected);
            prop_assert_eq!(guard.reason.is_some(), expected == 0);
        }
    }
}
