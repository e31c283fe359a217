//! Guards against a sweep that promises more, or less, than the matrices over GF(2^8) allow.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use sieve_core::code::coefficient;
use sieve_core::fate::*;
use sieve_core::gf256::{inverse, mul};
use sieve_core::lane::Rows;
use sieve_core::units::{ByteLength, GRANULE, ParityIndex, Slot};

const ROWS: u64 = 24;
const CELL: u64 = 4;

/// How a file of the pool is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum State {
    Same,
    Changed,
    Doubtful,
    Touched,
    /// Removed through us: in the snapshot, readable, and no file any more.
    Held,
    /// Its second half is known to be damaged.
    Damaged,
    /// Its first granule lost its place in the snapshot to an interrupted sync.
    Partial,
    /// Changed, checksummed anew, not yet in parity; the content of the last sync is its older one.
    Replaced,
    /// Came after the last sync.
    New,
    /// A link, or an empty file: in the catalogue alone.
    Node,
}

/// One lane as drawn by proptest: (gap before, length, state).
type Drawn = Vec<(u64, u64, State)>;

fn state() -> impl Strategy<Value = State> {
    use State::*;
    prop_oneof![
        12 => Just(Same), 2 => Just(Changed), 1 => Just(Doubtful), 1 => Just(Touched), 1 => Just(Held),
        1 => Just(Damaged), 1 => Just(Partial), 1 => Just(Replaced), 1 => Just(New), 1 => Just(Node),
    ]
}

fn pool() -> impl Strategy<Value = Model> {
    let lane = prop::collection::vec((0..4u64, 1..9u64, state()), 0..5);
    let invalid = prop::collection::vec((0..ROWS, 1..6u64), 0..3);
    let replicas = prop::collection::vec(prop::sample::select(vec![0u32, 1, 2, 3, 3, 3]), 12);
    (prop::collection::vec(lane, 1..=8), prop::collection::vec(invalid, 1..=4), replicas).prop_map(build)
}

/// Lanes, the invalid rows of each parity, and the checkpoint of the replica on each disk (0: none).
type DrawnPool = (Vec<Drawn>, Vec<Vec<(u64, u64)>>, Vec<u32>);

fn build((lanes, parities, replicas): DrawnPool) -> Model {
    let mut model = Model::default();
    for (slot, drawn) in lanes.iter().enumerate() {
        let disk = DiskIndex(slot as u16);
        model.lanes.push(LaneState { disk, slot: Slot::new(slot as u8), pieces: Vec::new() });
        let mut row = 0;
        for (gap, length, state) in drawn {
            add_file(&mut model, disk, row + gap, *length, *state);
            row += gap + length;
        }
    }
    for (index, drawn) in parities.iter().enumerate() {
        let mut bad = BTreeSet::new();
        drawn.iter().for_each(|(start, length)| bad.extend(*start..start + length));
        let invalid = bad.into_iter().map(|row| Rows::at(row, 1)).collect();
        let disk = DiskIndex((lanes.len() + index) as u16);
        let index = ParityIndex::new(index as u8);
        model.parities.push(ParityState::new(disk, index, ParityState::ALL, invalid));
    }
    let disks = 0..(lanes.len() + parities.len()) as u16;
    model.replicas =
        disks.zip(replicas).filter(|(_, of)| *of > 0).map(|(disk, of)| (DiskIndex(disk), of)).collect();
    model
}

fn add_file(model: &mut Model, disk: DiskIndex, row: u64, length: u64, state: State) {
    use State::*;
    let size = ByteLength::new(length * GRANULE);
    let version = model.versions.len() as u32;
    let mut object = ObjectState {
        disk,
        size,
        version: Some(version),
        standing: match state {
            Changed => Standing::Changed,
            Doubtful => Standing::Doubtful,
            Touched => Standing::Touched,
            _ => Standing::Same,
        },
        older: None,
        catalogued: None,
    };
    if matches!(state, New | Node) {
        object.version = None;
        object.catalogued = (state == Node).then_some(u32::try_from(length % 4).unwrap());
        model.objects.push(object);
        return;
    }
    let stale = matches!(state, Changed | Doubtful | Touched | Replaced);
    let first = u64::from(state == Partial);
    // A damaged file is cut where the damage begins.
    let cut = if state == Damaged { length / 2 } else { length };
    let pieces = &mut model.lanes[usize::from(disk.0)].pieces;
    for (from, to, stale) in [(first, cut, stale), (cut, length, true)] {
        if to > from {
            pieces.push(StatedPiece { rows: Rows::new(row + from, row + to), version, offset: from, stale });
        }
    }
    let known = VersionState {
        size,
        cell: CELL,
        data: length,
        mapped: length - first,
        recorded: 1 + u32::try_from(length % 3).unwrap(),
    };
    model.versions.push(known);
    if state == Partial {
        model.unmapped.insert(version, vec![Rows::new(0, 1)]);
    }
    if state == Replaced {
        model.versions.push(VersionState { mapped: 0, ..known });
        (object.version, object.older) = (Some(version + 1), Some(version));
    }
    if state != Held {
        model.objects.push(object);
    }
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
    if let Some(recorded) = object.catalogued {
        let is_known = |(disk, of): (&DiskIndex, &u32)| !lost.contains(disk) && *of >= recorded;
        return if recorded > 0 && model.replicas.iter().any(is_known) { Fate::Rebuilt } else { Fate::Gone };
    }
    let none = BTreeSet::new();
    // The cells of a content that come back, and how many it has.
    let back = |index: u32| {
        let version = &model.versions[index as usize];
        let cells = version.size.exact().div_ceil(CELL * GRANULE);
        let mut bad = gone.get(&index).unwrap_or(&none).clone();
        bad.extend(model.unmapped.get(&index).into_iter().flatten().flat_map(|r| r.start()..r.end()));
        let whole = |cell: &u64| !bad.iter().any(|granule| granule / CELL == *cell);
        (if version.mapped == 0 { 0 } else { (0..cells).filter(whole).count() as u64 }, cells)
    };
    let is_whole = |index: &u32| back(*index).0 == back(*index).1;
    let has_pieces = |index: &u32| back(*index).0 > 0;
    match (object.version, object.older) {
        (Some(version), _) if object.standing == Standing::Same && is_whole(&version) => Fate::Rebuilt,
        (version, older) if version.iter().chain(&older).any(is_whole) => Fate::Older,
        (version, older) if version.iter().chain(&older).any(has_pieces) => Fate::Torn,
        _ => Fate::Gone,
    }
}

fn subsets(disks: usize) -> impl Iterator<Item = LostSet> {
    (0u32..1 << disks)
        .map(move |set| (0..disks as u16).filter(|d| set >> d & 1 == 1).map(DiskIndex).collect())
}

/// Makes files of several objects out of some, on as many disks.
fn joined_at_random(mut model: Model, seed: u64) -> Model {
    let mut free: Vec<u32> = (0..model.objects.len() as u32).collect();
    let mut draw = seed;
    while free.len() >= 4 && model.composites.len() < 3 {
        let mut parts: Vec<u32> = Vec::new();
        for _ in 0..2 + draw % 3 {
            draw = draw.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let object = free.remove((draw >> 33) as usize % free.len());
            let disk = |o: u32| model.objects[o as usize].disk;
            if parts.iter().all(|part| disk(*part) != disk(object)) {
                parts.push(object);
            }
        }
        let copies = parts.split_off(match draw >> 40 & 3 {
            0 => 0,
            1 => parts.len() - 1,
            _ => parts.len(),
        });
        // A piece may be there several times, as while it is held where it was.
        let in_a_piece = 1 + (draw >> 42 & 1) as usize;
        let pieces = parts.chunks(in_a_piece).map(<[u32]>::to_vec).collect();
        model.composites.push(Composite { pieces, copies });
    }
    model
}

/// A cause lists exactly what is in the row.
fn check_cause(model: &Model, lost: &LostSet, cause: &Cause, row: u64) -> Result<(), TestCaseError> {
    let covers = |rows: Rows| rows.start() <= row && row < rows.end();
    let (mut lanes, mut stale) = (Vec::new(), Vec::new());
    for lane in &model.lanes {
        match lane.pieces.iter().find(|p| covers(p.rows)) {
            Some(piece) if piece.stale => stale.push((lane.disk, piece.version)),
            Some(_) if lost.contains(&lane.disk) => lanes.push(lane.disk),
            _ => {}
        }
    }
    prop_assert_eq!(&cause.lost, &lanes);
    prop_assert_eq!(&cause.stale, &stale);
    let usable = |p: &&ParityState| !lost.contains(&p.disk) && !p.invalid.iter().any(|rows| covers(*rows));
    let valid: Vec<DiskIndex> = model.parities.iter().filter(usable).map(|p| p.disk).collect();
    prop_assert_eq!(&cause.valid, &valid);
    let all = cause.valid.len() + cause.lost_parities.len() + cause.invalid_parities.len();
    prop_assert_eq!(all, model.parities.len());
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: crate::cases(500), failure_persistence: None, max_global_rejects: 1 << 20, ..ProptestConfig::default() })]

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
    fn what_a_set_costs_is_what_its_verdicts_say(model in pool(), seed in any::<u64>()) {
        let disks = model.lanes.len() + model.parities.len();
        let missing: LostSet =
            (0..disks as u16).filter(|d| seed % 2 == 1 && seed as usize / 2 % disks == usize::from(*d)).map(DiskIndex).collect();
        for most in 1..=3 {
            let exposures = Exposures::new(&model, &missing, most);
            let stakes = exposures.stakes(&model, |_| 1);
            for lost in subsets(disks).filter(|lost| lost.len() <= most && missing.is_disjoint(lost)) {
                let all: LostSet = lost.union(&missing).copied().collect();
                let mut expected = Cost::default();
                let fates = verdicts(&model, &all).fates;
                model.objects.iter().zip(fates).for_each(|(o, fate)| expected.add(fate, 1, o.size));
                let set: DiskSet = lost.iter().copied().collect();
                prop_assert_eq!(stakes.cost(&set), expected, "lost {:?} besides {:?}", lost, &missing);
            }
        }
    }

    #[test]
    fn a_reason_is_what_the_rows_show(model in pool(), seed in any::<u64>()) {
        let disks = model.lanes.len() + model.parities.len();
        for lost in subsets(disks).skip((seed % 5) as usize).step_by(1 + 2 * disks) {
            let gone = brute(&model, &lost);
            let shortages = Shortages::new(&model, &lost, |_| true);
            for version in 0..model.versions.len() as u32 {
                let found = shortages.of(version);
                prop_assert_eq!(found.is_some(), gone.contains_key(&version), "content {}", version);
                let Some((shortage, cause)) = found else { continue };
                prop_assert_eq!(shortage.granules, gone[&version].len() as u64);
                prop_assert!(cause.missing() > cause.valid.len(), "the count decides: {:?}", cause);
                prop_assert!(!shortage.rows.is_empty());
                for row in shortage.rows.start()..shortage.rows.end() {
                    check_cause(&model, &lost, cause, row)?;
                    let own = model.lanes.iter().flat_map(|l| &l.pieces).find(|p| {
                        p.version == version && p.rows.start() <= row && row < p.rows.end()
                    });
                    let own = own.expect("the rows are rows of the content");
                    prop_assert!(gone[&version].contains(&(own.offset + row - own.rows.start())));
                }
            }
        }
    }

    #[test]
    fn files_of_several_objects_fare_as_their_parts_do(model in pool(), seed in any::<u64>()) {
        let disks = model.lanes.len() + model.parities.len();
        prop_assume!(disks <= 8);
        let model = joined_at_random(model, seed);
        let nothing = LostSet::new();
        let exposures = Exposures::new(&model, &nothing, disks);
        let levels = guards(&model, &nothing);
        let mut expected = vec![disks; model.composites.len()];
        for lost in subsets(disks) {
            let gone = brute(&model, &lost);
            let fates: Vec<Fate> = model.objects.iter().map(|o| brute_fate(&model, o, &gone, &lost)).collect();
            for (composite, level) in model.composites.iter().zip(&mut expected) {
                let fate = fate_of_composite(&model, composite, &fates);
                let is_whole = |part: &u32| fates[*part as usize].is_whole();
                let pieces = &composite.pieces;
                let survives = composite.copies.iter().any(is_whole)
                    || !pieces.is_empty() && pieces.iter().all(|piece| piece.iter().any(is_whole));
                prop_assert_eq!(fate.is_whole(), survives, "{:?} under {:?}", composite, &lost);
                let nothing_left = composite.objects().all(|part| fates[part as usize] == Fate::Gone);
                prop_assert_eq!(fate == Fate::Gone, nothing_left, "{:?} under {:?}", composite, &lost);
                if !survives {
                    *level = (*level).min(lost.len().saturating_sub(1));
                }
            }
            let mut cost = Cost::default();
            let is_part = |o: usize| model.composites.iter().any(|c| c.objects().any(|part| part == o as u32));
            for (position, (object, fate)) in model.objects.iter().zip(&fates).enumerate() {
                if !is_part(position) {
                    cost.add(*fate, 1, object.size);
                }
            }
            for composite in &model.composites {
                let size = |o: &u32| model.objects[*o as usize].size;
                let whole = composite.copies.iter().map(size).max();
                let size = whole.unwrap_or_else(|| composite.pieces.iter().map(|piece| size(&piece[0])).sum());
                cost.add(fate_of_composite(&model, composite, &fates), 1, size);
            }
            let stakes = Exposures::new(&model, &nothing, disks).stakes(&model, |_| 1);
            prop_assert_eq!(stakes.cost(&lost.iter().copied().collect()), cost, "under {:?}", &lost);
        }
        for (composite, expected) in model.composites.iter().zip(expected) {
            let level = guard_of_composite(&model, composite, &exposures, &levels, &nothing);
            let is_changed = |o: &u32| model.objects[*o as usize].standing != Standing::Same;
            if composite.pieces.is_empty() || !composite.objects().any(|o| is_changed(&o)) {
                prop_assert!(usize::from(level) <= expected, "{:?} promises {} of {}", composite, level, expected);
            }
            if !composite.copies.is_empty() {
                prop_assert_eq!(usize::from(level), expected, "{:?}", composite);
            }
        }
    }

    #[test]
    fn one_more_parity_saves_what_one_more_loss_would_take(model in pool()) {
        let disks = model.lanes.len() + model.parities.len();
        let mut more = model.clone();
        more.add_parity(disks);
        prop_assert_eq!(more.parities.len(), model.parities.len() + 1);
        let (before, after) = (guards(&model, &LostSet::new()), guards(&more, &LostSet::new()));
        for (position, (before, after)) in before.iter().zip(&after).enumerate() {
            prop_assert!(after.level >= before.level, "object {}", position);
            prop_assert!(after.level <= before.level + 1 || before.level == 0, "object {}", position);
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
            // A file that changed, or is damaged, is not lost while its disk lives, and is unguarded all the same.
            let damaged = |version| model.lanes.iter().flat_map(|l| &l.pieces).any(|p| p.version == version && p.stale);
            let is_sound = object.standing == Standing::Same && !object.version.is_some_and(damaged);
            let expected = if is_sound { *expected } else { 0 };
            prop_assert_eq!(guard.level, expected);
            prop_assert_eq!(guard.reason.is_some(), expected == 0);
        }
    }
}
