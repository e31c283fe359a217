//! Which files of a tiered volume belong on its fast disks.

use schemars::JsonSchema;
use serde::Serialize;

use crate::pool::Tier;
use crate::units::ByteLength;

/// A file as far as it matters for its tier.
#[derive(Clone, Copy, Debug)]
pub struct TieredFile {
    /// What it takes.
    pub size: ByteLength,
    /// How much it has been used of late: each use counts 1, and half as much after each half-life.
    pub heat: f64,
    /// Where it lies.
    pub tier: Tier,
    /// Where its owner wants it.
    pub pin: Option<Tier>,
}

/// Why a file changes its tier.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// Its owner pinned it.
    Pinned,
    /// It is used often for its size.
    Hot,
    /// It is not used any more.
    Cold,
    /// Others are used more often, or the reserve is short.
    MakesRoom,
}

/// A file that is to change its tier.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Change {
    /// The file, by its position.
    pub file: usize,
    /// Where it goes.
    pub to: Tier,
    /// Why.
    pub reason: Reason,
}

/// What is decided, and what it is good for.
#[derive(Clone, Debug, PartialEq)]
pub struct Assignment {
    /// What moves: down first, so that there is room for what moves up.
    pub changes: Vec<Change>,
    /// The share of uses that the fast disks serve now, from 0 to 1.
    pub fast_share_before: f64,
    /// The same when everything has moved.
    pub fast_share_after: f64,
}

/// A file that is used less than this is not worth a move up: it came, and has been read little since.
const HOT: f64 = 1.5;
/// A file that is used less than this has no place on a fast disk.
const COLD: f64 = 0.05;
/// Staying is worth this much against coming: else two files of nearly the same use would change places for ever.
const STAYS: f64 = 1.25;

/// The heat of a file whose uses summed up to `score` at a time, `days` later.
pub fn cooled(score: f64, days: f64, half_life: f64) -> f64 {
    score * (-days.max(0.0) / half_life.max(f64::MIN_POSITIVE)).exp2()
}

/// Decides for every file where it belongs, with so much room for them on the fast disks in all.
///
/// Pinned files come first; then those with the most use a byte, as long as there is room: the greedy rule for the
/// knapsack problem (Dantzig, "Discrete-Variable Extremum Problems", 1957).
pub fn assign(files: &[TieredFile], room: ByteLength) -> Assignment {
    let mut candidates: Vec<usize> = (0..files.len()).filter(|file| may_be_fast(&files[*file])).collect();
    candidates.sort_by(|a, b| rank(&files[*b]).total_cmp(&rank(&files[*a])).then(a.cmp(b)));
    let mut left = room;
    let mut is_fast = vec![false; files.len()];
    for file in candidates {
        if files[file].size <= left {
            left = left.minus(files[file].size);
            is_fast[file] = true;
        }
    }
    let mut changes = Vec::new();
    for (file, state) in files.iter().enumerate().filter(|(file, f)| f.tier == Tier::Fast && !is_fast[*file])
    {
        let reason = match state.pin {
            Some(Tier::Slow) => Reason::Pinned,
            _ if state.heat < COLD => Reason::Cold,
            _ => Reason::MakesRoom,
        };
        changes.push(Change { file, to: Tier::Slow, reason });
    }
    let mut rising: Vec<usize> =
        (0..files.len()).filter(|file| is_fast[*file] && files[*file].tier == Tier::Slow).collect();
    rising.sort_by(|a, b| rank(&files[*b]).total_cmp(&rank(&files[*a])).then(a.cmp(b)));
    for file in rising {
        let reason = if files[file].pin.is_some() { Reason::Pinned } else { Reason::Hot };
        changes.push(Change { file, to: Tier::Fast, reason });
    }
    let all: f64 = files.iter().map(|file| file.heat).sum();
    let share = |fast: f64| if all > 0.0 { fast / all } else { 0.0 };
    let before = files.iter().filter(|file| file.tier == Tier::Fast).map(|file| file.heat).sum();
    let after = files.iter().zip(&is_fast).filter(|(_, fast)| **fast).map(|(file, _)| file.heat).sum();
    Assignment { changes, fast_share_before: share(before), fast_share_after: share(after) }
}

fn may_be_fast(file: &TieredFile) -> bool {
    match (file.pin, file.tier) {
        (Some(pin), _) => pin == Tier::Fast,
        (None, Tier::Fast) => file.heat >= COLD,
        (None, Tier::Slow) => file.heat >= HOT,
    }
}

/// Use a byte; what is pinned comes before everything else.
fn rank(file: &TieredFile) -> f64 {
    if file.pin == Some(Tier::Fast) {
        return f64::INFINITY;
    }
    let worth = file.heat / file.size.exact().max(1) as f64;
    if file.tier == Tier::Fast { worth * STAYS } else { worth }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn file(size: u64, heat: f64, tier: Tier, pin: Option<Tier>) -> TieredFile {
        TieredFile { size: ByteLength::new(size), heat, tier, pin }
    }

    fn moves(files: &[TieredFile], room: u64) -> Vec<(usize, Tier, Reason)> {
        let assignment = assign(files, ByteLength::new(room));
        assignment.changes.iter().map(|change| (change.file, change.to, change.reason)).collect()
    }

    #[test]
    fn what_is_used_often_rises_and_what_is_not_goes_down() {
        let files = [
            file(10, 0.0, Tier::Fast, None),
            file(10, 5.0, Tier::Slow, None),
            file(10, 1.0, Tier::Fast, None),
            file(10, 0.1, Tier::Slow, None),
        ];
        let expected = [(0, Tier::Slow, Reason::Cold), (1, Tier::Fast, Reason::Hot)];
        assert_eq!(moves(&files, 20), expected);
        let assignment = assign(&files, ByteLength::new(20));
        assert!((assignment.fast_share_before - 1.0 / 6.1).abs() < 1e-9, "{assignment:?}");
        assert!((assignment.fast_share_after - 6.0 / 6.1).abs() < 1e-9, "{assignment:?}");
    }

    #[test]
    fn pins_hold_and_the_reserve_is_kept() {
        let files = [
            file(10, 9.0, Tier::Fast, Some(Tier::Slow)),
            file(10, 0.0, Tier::Slow, Some(Tier::Fast)),
            file(10, 9.0, Tier::Fast, None),
        ];
        let expected = [
            (0, Tier::Slow, Reason::Pinned),
            (2, Tier::Slow, Reason::MakesRoom),
            (1, Tier::Fast, Reason::Pinned),
        ];
        assert_eq!(moves(&files, 10), expected);
    }

    #[test]
    fn nearly_the_same_use_moves_nothing() {
        let files = [file(10, 1.0, Tier::Fast, None), file(10, 1.2, Tier::Slow, None)];
        assert_eq!(moves(&files, 10), []);
        assert_eq!(cooled(8.0, 60.0, 30.0), 2.0);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        /// What was decided once is not decided otherwise when it is done.
        #[test]
        fn a_second_look_moves_nothing(
            list in prop::collection::vec((1..50u64, 0.0..3.0f64, any::<bool>(), 0..4u8), 0..20),
            room in 0..300u64,
        ) {
            let tier = |fast: bool| if fast { Tier::Fast } else { Tier::Slow };
            let pin = |n: u8| match n { 0 => Some(Tier::Fast), 1 => Some(Tier::Slow), _ => None };
            let mut files: Vec<TieredFile> =
                list.into_iter().map(|(size, heat, fast, n)| file(size, heat, tier(fast), pin(n))).collect();
            let assignment = assign(&files, ByteLength::new(room));
            for change in &assignment.changes {
                files[change.file].tier = change.to;
            }
            let fast: u64 = files.iter().filter(|f| f.tier == Tier::Fast).map(|f| f.size.exact()).sum();
            prop_assert!(fast <= room);
            prop_assert_eq!(assign(&files, ByteLength::new(room)).changes, vec![]);
        }
    }
}
