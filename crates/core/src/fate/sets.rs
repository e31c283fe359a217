//! Every choice of disks, by what its loss costs.

use schemars::JsonSchema;
use serde::Serialize;

use super::verdict::Fate;
use crate::units::ByteLength;

/// Files and bytes that do not come back in their present state.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
pub struct Cost {
    /// Their bytes.
    pub bytes: ByteLength,
    /// How many.
    pub files: u64,
}

impl Cost {
    /// Counts so many names of a file of that size, if it does not survive.
    pub fn add(&mut self, fate: Fate, names: u32, size: ByteLength) {
        if !fate.is_whole() {
            self.count(names, size);
        }
    }

    /// Counts so many names of a file of that size.
    pub fn count(&mut self, names: u32, size: ByteLength) {
        self.files += u64::from(names);
        self.bytes = self.bytes.plus(ByteLength::new(size.exact().saturating_mul(u64::from(names))));
    }

    /// The sum.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        Self { bytes: self.bytes.plus(other.bytes), files: self.files + other.files }
    }
}

/// A set of disks and what its loss costs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RankedSet {
    /// The disks, as positions in the list they were chosen from.
    pub members: Vec<usize>,
    /// What their loss costs.
    pub cost: Cost,
}

/// Works out every choice of `count` out of `disks`, the costliest first; equal ones in the order of the disks.
///
/// # Errors
/// The first one of `cost`.
pub fn rank_sets<E>(
    disks: usize,
    count: usize,
    mut cost: impl FnMut(&[usize]) -> Result<Cost, E>,
) -> Result<Vec<RankedSet>, E> {
    let mut ranked = Vec::new();
    if count == 0 || count > disks {
        return Ok(ranked);
    }
    let mut chosen: Vec<usize> = (0..count).collect();
    loop {
        ranked.push(RankedSet { members: chosen.clone(), cost: cost(&chosen)? });
        // The next choice in order: the last position that can still move does.
        let Some(position) = (0..count).rev().find(|p| chosen[*p] < disks - count + p) else { break };
        chosen[position] += 1;
        for later in position + 1..count {
            chosen[later] = chosen[later - 1] + 1;
        }
    }
    ranked.sort_by_key(|set| std::cmp::Reverse(set.cost));
    Ok(ranked)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::collections::BTreeSet;

    #[rstest]
    #[case(5, 1, 5)]
    #[case(5, 2, 10)]
    #[case(24, 2, 276)]
    #[case(6, 3, 20)]
    #[case(4, 4, 1)]
    #[case(3, 4, 0)]
    #[case(3, 0, 0)]
    fn every_choice_comes_once(#[case] disks: usize, #[case] count: usize, #[case] choices: usize) {
        let ranked = rank_sets(disks, count, |_| Ok::<_, ()>(Cost::default())).unwrap();
        let different: BTreeSet<Vec<usize>> = ranked.iter().map(|s| s.members.clone()).collect();
        assert_eq!((ranked.len(), different.len()), (choices, choices));
        assert!(
            different.iter().all(|set| set.windows(2).all(|w| w[0] < w[1]) && set.iter().all(|d| *d < disks))
        );
    }

    #[test]
    fn the_costliest_comes_first() {
        let cost = |set: &[usize]| {
            Ok::<_, ()>(Cost { bytes: ByteLength::new(set.iter().sum::<usize>() as u64 % 4), files: 1 })
        };
        let ranked = rank_sets(4, 2, cost).unwrap();
        assert_eq!(ranked[0].members, [0, 3]);
        assert!(ranked.windows(2).all(|w| w[0].cost >= w[1].cost));
    }
}
