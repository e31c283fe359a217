//! What is lost when disks die: exactly, for volumes that are full.

use schemars::JsonSchema;
use serde::Serialize;

use super::{DesignDisk, Layout, Plan};
use crate::units::ByteLength;

/// What is lost when one disk more dies than a plan survives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Loss {
    /// How many disks die.
    pub disks: usize,
    /// The share of what is stored, from 0 to 1, over all choices of disks.
    #[serde(rename = "average_share")]
    pub average: f64,
    /// The share for the worst choice.
    #[serde(rename = "worst_share")]
    pub worst: f64,
}

/// How many disks may die, whichever they are, with nothing lost.
pub fn survives(plan: &Plan, disks: &[DesignDisk]) -> usize {
    let holds = |i: &usize| disks[*i].size > ByteLength::ZERO;
    if !plan.data.iter().any(holds) {
        return plan.data.len() + plan.parity.len();
    }
    match plan.layout {
        Layout::Spanned | Layout::Tiered => 0,
        Layout::MirroredPairs => 1,
        // As many data disks as there are parities, and one more, is too many; parities that die leave fewer to do it.
        Layout::RotatingParity { parities } => usize::from(parities).min(plan.data.len() - 1),
        Layout::Unstriped { .. } => plan.parity.len(),
    }
}

/// What is lost when one disk more dies than the plan survives, over every choice of disks: in closed form, so that a shelf of
/// any size is compared at once.
pub fn one_more(plan: &Plan, disks: &[DesignDisk]) -> Loss {
    let count = survives(plan, disks) + 1;
    let size = |i: &usize| disks[*i].size.exact() as f64;
    let usable = plan.usable.exact().max(1) as f64;
    let members = plan.data.len() + plan.parity.len();
    let (sum, worst) = match plan.layout {
        Layout::Spanned | Layout::Tiered => {
            (plan.data.iter().map(size).sum(), plan.data.iter().map(size).fold(0.0, f64::max))
        }
        Layout::MirroredPairs => {
            let smaller = |pair: &[usize]| pair.iter().map(size).fold(f64::INFINITY, f64::min);
            let pairs: Vec<f64> = plan.data.chunks(2).map(smaller).collect();
            (pairs.iter().sum(), pairs.iter().copied().fold(0.0, f64::max))
        }
        Layout::RotatingParity { .. } => (usable * choose(members, count), usable),
        Layout::Unstriped { .. } => unstriped_losses(plan, count, plan.data.iter().map(size).collect()),
    };
    let choices = choose(members, count);
    let average = if choices > 0.0 { sum / choices / usable } else { 0.0 };
    Loss { disks: count, average, worst: if choices > 0.0 { worst / usable } else { 0.0 } }
}

/// The sum of what every choice of `count` disks costs, and the most that one does.
///
/// Of p parities and d = `count` - q dead data disks with q dead parities, one row more is lost than survives: exactly those rows
/// in which all d lie, up to the end of the smallest. In the order of their sizes, disk number i is the smallest of d disks
/// in as many choices as there are of d - 1 among the larger ones.
fn unstriped_losses(plan: &Plan, count: usize, mut sizes: Vec<f64>) -> (f64, f64) {
    sizes.sort_by(f64::total_cmp);
    let (mut sum, mut worst) = (0.0, 0.0f64);
    for dead in 1..=count.min(sizes.len()) {
        let of_parities = choose(plan.parity.len(), count - dead);
        if of_parities == 0.0 {
            continue;
        }
        let smallest = |(i, size): (usize, &f64)| size * choose(sizes.len() - 1 - i, dead - 1);
        sum += of_parities * dead as f64 * sizes.iter().enumerate().map(smallest).sum::<f64>();
        worst = worst.max(dead as f64 * sizes[sizes.len() - dead]);
    }
    (sum, worst)
}

/// How many choices there are of `count` among `all`.
fn choose(all: usize, count: usize) -> f64 {
    if count > all {
        return 0.0;
    }
    (0..count).map(|i| (all - i) as f64 / (count - i) as f64).product()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{parse_disks, plans};
    use crate::pool::Media;
    use proptest::prelude::*;
    use rstest::rstest;

    /// The bytes of a full volume that are gone when the disks `dead` (positions in the list) die.
    ///
    /// A disk of a span, a tier or without parity takes its own files with it, a pair only when both die, a stripe
    /// everything when more die than it has parities. With dedicated parity drives a row is lost when more of its
    /// lanes are missing than parities survive: of the dead data disks, sorted from the largest, each loses what lies
    /// below the end of disk number `surviving + 1`.
    fn lost_bytes(plan: &Plan, disks: &[DesignDisk], dead: &[usize]) -> ByteLength {
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

    #[rstest]
    #[case("12TB,10TB,2x6TB,4TB", None)]
    #[case("5x3TB,2TB,1TB", None)]
    #[case("4TB,4TB", None)]
    #[case("3x8TB,5TB", Some("1TB,2TB"))]
    #[case("9TB,7TB,5TB,3TB,2TB,2TB,1TB,1TB", None)]
    fn the_closed_form_is_the_sum_over_every_choice(#[case] hard: &str, #[case] ssd: Option<&str>) {
        let mut disks = parse_disks(hard, Media::Hdd).unwrap();
        disks.extend(ssd.iter().flat_map(|sizes| parse_disks(sizes, Media::Ssd).unwrap()));
        for plan in plans(&disks) {
            let members: Vec<usize> = plan.data.iter().chain(&plan.parity).copied().collect();
            let costs = |count: usize| -> Vec<f64> {
                let cost = |dead: &Vec<usize>| lost_bytes(&plan, &disks, dead).exact() as f64;
                choices(&members, count).iter().map(cost).collect()
            };
            let safe =
                (1..=members.len()).take_while(|count| costs(*count).iter().all(|c| *c == 0.0)).count();
            assert_eq!(survives(&plan, &disks), safe, "{:?}", plan.layout);
            let (all, told) = (costs(safe + 1), one_more(&plan, &disks));
            let share = |bytes: f64| bytes / plan.usable.exact() as f64;
            let average = share(all.iter().sum::<f64>()) / all.len().max(1) as f64;
            let worst = share(all.iter().copied().fold(0.0, f64::max));
            assert!(
                (told.average - average).abs() < 1e-9,
                "{:?}: {} and {average}",
                plan.layout,
                told.average
            );
            assert!((told.worst - worst).abs() < 1e-9, "{:?}: {} and {worst}", plan.layout, told.worst);
        }
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
