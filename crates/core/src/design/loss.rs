//! What is lost when disks die: exactly, for volumes that are full.

use serde::Serialize;

use super::{DesignDisk, Layout, Plan};
use crate::units::ByteLength;

/// What is lost when one disk more dies than a plan survives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize)]
pub struct Loss {
    /// How many disks die.
    pub disks: usize,
    /// The share of what is stored, from 0 to 1, over all choices of disks.
    pub average: f64,
    /// The share for the worst choice.
    pub worst: f64,
}

/// The bytes of a full volume that are gone when the disks `dead` (positions in the list) die.
///
/// A disk of a span, a tier or without parity takes its own files with it, a pair only when both die, a stripe
/// everything when more die than it has parities. With dedicated parity drives a row is lost when more of its
/// lanes are missing than parities survive: of the dead data disks, sorted from the largest, each loses what lies
/// below the end of disk number `surviving + 1`.
pub fn lost_bytes(plan: &Plan, disks: &[DesignDisk], dead: &[usize]) -> ByteLength {
    let is_dead = |i: &&usize| dead.contains(i);
    let size = |i: &usize| disks[*i].size;
    match plan.layout {
        Layout::Spanned | Layout::Tiered => plan.data.iter().filter(is_dead).map(size).sum(),
        Layout::MirroredPairs => {
            let pairs = plan.data.chunks(2).filter(|pair| pair.iter().all(|i| dead.contains(i)));
            pairs.map(|pair| pair.iter().map(size).min().unwrap_or_default()).sum()
        }
        Layout::RotatingParity { parities } => {
            let count = plan.data.iter().filter(is_dead).count();
            if count > usize::from(parities) { plan.usable } else { ByteLength::ZERO }
        }
        Layout::Unstriped { .. } => {
            let surviving = plan.parity.iter().filter(|i| !dead.contains(i)).count();
            let mut sizes: Vec<ByteLength> = plan.data.iter().filter(is_dead).map(size).collect();
            sizes.sort_unstable_by(|a, b| b.cmp(a));
            match sizes.get(surviving) {
                None => ByteLength::ZERO,
                Some(end) => sizes.iter().map(|s| (*s).min(*end)).sum(),
            }
        }
    }
}

/// The disks of a plan whose death can cost something.
fn members(plan: &Plan) -> Vec<usize> {
    plan.data.iter().chain(&plan.parity).copied().collect()
}

/// How many disks may die, whichever they are, with nothing lost.
pub fn survives(plan: &Plan, disks: &[DesignDisk]) -> usize {
    let members = members(plan);
    let is_safe = |count: usize| {
        let mut safe = true;
        for_each_choice(&members, count, &mut |dead| {
            safe &= lost_bytes(plan, disks, dead) == ByteLength::ZERO;
        });
        safe
    };
    (1..=members.len()).take_while(|count| is_safe(*count)).count()
}

/// What is lost when one disk more dies than the plan survives: over every choice of disks.
pub fn one_more(plan: &Plan, disks: &[DesignDisk]) -> Loss {
    let members = members(plan);
    let count = survives(plan, disks) + 1;
    let (mut sum, mut worst, mut choices) = (0.0, 0.0f64, 0u64);
    for_each_choice(&members, count, &mut |dead| {
        let share = lost_bytes(plan, disks, dead).exact() as f64 / plan.usable.exact().max(1) as f64;
        sum += share;
        worst = worst.max(share);
        choices += 1;
    });
    Loss { disks: count, average: sum / choices.max(1) as f64, worst }
}

/// Calls `visit` with every choice of `count` of the members.
fn for_each_choice(members: &[usize], count: usize, visit: &mut impl FnMut(&[usize])) {
    fn choose(rest: &[usize], count: usize, chosen: &mut Vec<usize>, visit: &mut impl FnMut(&[usize])) {
        if count == 0 {
            return visit(chosen);
        }
        for (position, member) in rest.iter().enumerate().take((rest.len() + 1).saturating_sub(count)) {
            chosen.push(*member);
            choose(&rest[position + 1..], count - 1, chosen, visit);
            chosen.pop();
        }
    }
    choose(members, count, &mut Vec::new(), visit);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{parse_disks, plans};
    use crate::pool::Media;
    use proptest::prelude::*;

    fn choices(members: &[usize], count: usize) -> Vec<Vec<usize>> {
        let mut found = Vec::new();
        for_each_choice(members, count, &mut |chosen| found.push(chosen.to_vec()));
        found
    }

    #[test]
    fn every_choice_comes_once() {
        assert_eq!(choices(&[1, 2, 3], 2), [[1, 2], [1, 3], [2, 3]]);
        assert_eq!(choices(&[1, 2], 3), Vec::<Vec<usize>>::new());
    }

    #[test]
    fn losses_by_hand() {
        let disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        let of = |layout: Layout| {
            let plan = plans(&disks).into_iter().find(|p| p.layout == layout).unwrap();
            (survives(&plan, &disks), one_more(&plan, &disks))
        };
        let (count, loss) = of(Layout::Spanned);
        assert_eq!((count, loss.disks), (0, 1));
        assert!((loss.average - 0.2).abs() < 1e-12 && (loss.worst - 12.0 / 38.0).abs() < 1e-12);
        let (count, loss) = of(Layout::MirroredPairs);
        // Six pairs of the four members; two of them are partners: 10 and 6 of 16.
        assert_eq!(count, 1);
        assert!(
            (loss.average - (10.0 + 6.0) / 16.0 / 6.0).abs() < 1e-12 && (loss.worst - 0.625).abs() < 1e-12
        );
        let (count, loss) = of(Layout::RotatingParity { parities: 1 });
        assert_eq!((count, loss.average, loss.worst), (1, 1.0, 1.0));
        let (count, loss) = of(Layout::Unstriped { parities: 1 });
        // Parity 12; data 10, 6, 6, 4 (26). Two data disks lose twice the smaller, parity and a disk lose that disk.
        let expected = [10.0, 6.0, 6.0, 4.0, 12.0, 12.0, 8.0, 12.0, 8.0, 8.0];
        assert_eq!(count, 1);
        assert!((loss.average - expected.iter().sum::<f64>() / 26.0 / 10.0).abs() < 1e-12);
        assert!((loss.worst - 12.0 / 26.0).abs() < 1e-12);
        assert_eq!(of(Layout::Unstriped { parities: 3 }).0, 3);
    }

    /// Files of one row on every row of every data disk; kills a set of disks and counts row by row.
    fn brute(plan: &Plan, disks: &[DesignDisk], dead: &[usize]) -> u64 {
        let rows = |i: usize| disks[i].size.exact();
        let gone = |i: &usize| dead.contains(i);
        match plan.layout {
            Layout::Spanned | Layout::Tiered => {
                plan.data.iter().map(|i| (0..rows(*i)).filter(|_| gone(i)).count() as u64).sum()
            }
            Layout::MirroredPairs => {
                let file = |pair: &[usize], row: u64| pair.iter().all(|i| row < rows(*i));
                let lost = |pair: &[usize]| {
                    (0..100).filter(|row| file(pair, *row) && pair.iter().all(gone)).count() as u64
                };
                plan.data.chunks(2).map(lost).sum()
            }
            Layout::RotatingParity { parities } => {
                let smallest = plan.data.iter().map(|i| rows(*i)).min().unwrap();
                let missing = plan.data.iter().filter(|i| gone(i)).count();
                let strips = plan.data.len() - usize::from(parities);
                (0..smallest).filter(|_| missing > usize::from(parities)).count() as u64 * strips as u64
            }
            Layout::Unstriped { .. } => (0..100u64)
                .map(|row| {
                    let missing = plan.data.iter().filter(|i| gone(i) && row < rows(**i)).count();
                    let parities = plan.parity.iter().filter(|i| !gone(i)).count();
                    if missing > parities { missing as u64 } else { 0 }
                })
                .sum(),
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn losses_agree_with_counting_row_by_row(
            hdds in prop::collection::vec(1..100u64, 1..6),
            ssds in prop::collection::vec(1..100u64, 0..3),
        ) {
            let disk = |(i, size): (usize, &u64), media| DesignDisk::on_paper(format!("{i}"), ByteLength::new(*size), media);
            let mut disks: Vec<DesignDisk> = hdds.iter().enumerate().map(|d| disk(d, Media::Hdd)).collect();
            disks.extend(ssds.iter().enumerate().map(|d| disk(d, Media::Ssd)));
            for plan in plans(&disks) {
                let members: Vec<usize> = plan.data.iter().chain(&plan.parity).copied().collect();
                for count in 0..=members.len() {
                    for dead in choices(&members, count) {
                        prop_assert_eq!(lost_bytes(&plan, &disks, &dead).exact(), brute(&plan, &disks, &dead), "{:?} {:?}", plan, dead);
                    }
                }
                let all = lost_bytes(&plan, &disks, &members);
                prop_assert_eq!(all, plan.usable, "when all die, all is lost: {:?}", plan);
            }
        }
    }
}
