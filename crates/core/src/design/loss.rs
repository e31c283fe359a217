//! What is lost when disks die: for volumes that are full.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;

use super::copies::{Copied, fill};
use super::{DesignDisk, Layout, PlannedVolume};

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

/// What any set of disks costs a volume that is full. Its disks are numbered from 0, the data disks first.
pub(super) struct VolumeLosses {
    layout: Layout,
    /// Bytes of each disk.
    sizes: Vec<f64>,
    data: usize,
    parities: usize,
    usable: f64,
    /// Of a mirrored volume, what each two disks have in common.
    shared: HashMap<[usize; 2], Vec<Copied>>,
}

impl VolumeLosses {
    pub(super) fn new(volume: &PlannedVolume, disks: &[DesignDisk]) -> Self {
        let usable = volume.usable.exact() as f64;
        let mut shared: HashMap<[usize; 2], Vec<Copied>> = HashMap::new();
        if matches!(volume.layout, Layout::Mirrored { .. }) {
            let sizes: Vec<_> = volume.data.iter().map(|i| disks[*i].size).collect();
            for copied in fill(&sizes, usable) {
                shared.entry(copied.disks).or_default().push(copied);
            }
        }
        Self {
            layout: volume.layout,
            sizes: volume.members().map(|member| disks[member].size.exact() as f64).collect(),
            data: volume.data.len(),
            parities: volume.parity.len(),
            usable,
            shared,
        }
    }

    /// How many disks it has.
    pub(super) fn disks(&self) -> usize {
        self.sizes.len()
    }

    /// What may be stored, in bytes.
    pub(super) fn usable(&self) -> f64 {
        self.usable
    }

    /// What any two disks of a mirrored volume have in common, in bytes.
    pub(super) fn pairs(&self) -> impl Iterator<Item = ([usize; 2], f64)> {
        self.shared.iter().map(|(pair, copies)| (*pair, copies.iter().map(|copied| copied.bytes).sum()))
    }

    /// How many disks may die, whichever they are, with nothing lost.
    pub(super) fn survives(&self) -> usize {
        match self.layout {
            Layout::Spanned => 0,
            // With a pair gone, each row lacks both copies: one parity alone brings neither back.
            Layout::Mirrored { .. } => self.parities.max(1),
            // As many data disks as there are parities, and one more, is too many; parities that die leave fewer to do it.
            Layout::RotatingParity { parities } => usize::from(parities).min(self.data - 1),
            Layout::Unstriped { .. } | Layout::Tiered { .. } => self.parities,
        }
    }

    /// Bytes that are gone when some disks die.
    ///
    /// A disk of a span takes its own files with it, a stripe everything when more die than it has parities. With dedicated
    /// parity drives a row is lost when more of its lanes are missing than parities are left; a file of a mirrored volume
    /// when it has such a row on both of its disks.
    pub(super) fn bytes(&self, is_lost: impl Fn(usize) -> bool) -> f64 {
        let dead: Vec<usize> = (0..self.data).filter(|disk| is_lost(*disk)).collect();
        let left = self.parities - (self.data..self.sizes.len()).filter(|disk| is_lost(*disk)).count();
        match self.layout {
            Layout::Spanned => dead.iter().map(|disk| self.sizes[*disk]).sum(),
            Layout::RotatingParity { parities } if dead.len() > usize::from(parities) => self.usable,
            Layout::RotatingParity { .. } => 0.0,
            Layout::Mirrored { .. } => self.copies_lost(&dead, left),
            Layout::Unstriped { .. } | Layout::Tiered { .. } => {
                let end = self.lost_below(&dead, left);
                dead.iter().map(|disk| self.sizes[*disk].min(end)).sum()
            }
        }
    }

    /// Below this row more disks are missing than parities are left: the end of the smallest of the largest that are too many.
    fn lost_below(&self, dead: &[usize], left: usize) -> f64 {
        let mut sizes: Vec<f64> = dead.iter().map(|disk| self.sizes[*disk]).collect();
        sizes.sort_by(|a, b| b.total_cmp(a));
        sizes.get(left).copied().unwrap_or(0.0)
    }

    fn copies_lost(&self, dead: &[usize], left: usize) -> f64 {
        let end = self.lost_below(dead, left);
        let is_lost = |copied: &&Copied| copied.rows.iter().all(|row| *row < end);
        let of = |pair: [usize; 2]| {
            let copies = self.shared.get(&pair).map_or(&[][..], Vec::as_slice);
            copies.iter().filter(is_lost).map(|copied| copied.bytes).sum::<f64>()
        };
        let further =
            |(at, one): (usize, &usize)| dead[at + 1..].iter().map(|other| of([*one, *other])).sum::<f64>();
        dead.iter().enumerate().map(further).sum()
    }

    /// The sum of what every choice of one disk more than it survives costs, and the most that one does: in closed form, so
    /// that a shelf of any size is compared at once.
    pub(super) fn one_more(&self) -> (f64, f64) {
        let count = self.survives() + 1;
        let data = &self.sizes[..self.data];
        let largest = |sizes: &[f64]| sizes.iter().copied().fold(0.0, f64::max);
        match self.layout {
            Layout::Spanned => (self.usable, largest(data)),
            Layout::Mirrored { parities: 0 } => {
                (self.usable, self.pairs().map(|(_, bytes)| bytes).fold(0.0, f64::max))
            }
            Layout::Mirrored { .. } => self.every_choice(count),
            Layout::RotatingParity { .. } => (self.usable * choose(self.data, count), self.usable),
            Layout::Unstriped { .. } | Layout::Tiered { .. } => self.lost_rows(count),
        }
    }

    /// The sum of what every choice of `count` disks costs, and the most that one does.
    ///
    /// Of p parities and d = `count` - q dead data disks with q dead parities, one row more is lost than survives: exactly
    /// those rows in which all d lie, up to the end of the smallest. In the order of their sizes, disk number i is the
    /// smallest of d disks in as many choices as there are of d - 1 among the larger ones.
    fn lost_rows(&self, count: usize) -> (f64, f64) {
        let mut sizes = self.sizes[..self.data].to_vec();
        sizes.sort_by(f64::total_cmp);
        let (mut sum, mut worst) = (0.0, 0.0f64);
        for dead in 1..=count.min(sizes.len()) {
            let of_parities = choose(self.parities, count - dead);
            if of_parities == 0.0 {
                continue;
            }
            let smallest = |(i, size): (usize, &f64)| size * choose(sizes.len() - 1 - i, dead - 1);
            sum += of_parities * dead as f64 * sizes.iter().enumerate().map(smallest).sum::<f64>();
            worst = worst.max(dead as f64 * sizes[sizes.len() - dead]);
        }
        (sum, worst)
    }

    /// The same, choice by choice.
    fn every_choice(&self, count: usize) -> (f64, f64) {
        let (mut sum, mut worst) = (0.0, 0.0f64);
        for_each_choice(self.disks(), count, &mut |chosen| {
            let bytes = self.bytes(|disk| chosen.contains(&disk));
            sum += bytes;
            worst = worst.max(bytes);
        });
        (sum, worst)
    }
}

/// How many disks of several volumes may die, whichever they are, with nothing lost.
pub(super) fn survives(volumes: &[&VolumeLosses]) -> usize {
    volumes.iter().map(|volume| volume.survives()).min().unwrap_or(0)
}

/// What is lost when one disk more dies than the volumes survive, over every choice of disks. Only such a choice costs
/// anything that takes all of its disks from one volume, which survives no more than the weakest.
pub(super) fn one_more(volumes: &[&VolumeLosses]) -> Loss {
    let survives = survives(volumes);
    let weakest = volumes.iter().filter(|volume| volume.survives() == survives);
    let (sum, worst) = weakest
        .map(|volume| volume.one_more())
        .fold((0.0, 0.0f64), |(sum, worst), (more, at_worst)| (sum + more, worst.max(at_worst)));
    let disks = survives + 1;
    let choices = choose(volumes.iter().map(|volume| volume.disks()).sum(), disks);
    let usable = volumes.iter().map(|volume| volume.usable()).sum::<f64>().max(1.0);
    let share = |bytes: f64| if choices > 0.0 { bytes / usable } else { 0.0 };
    Loss { disks, average: share(sum / choices.max(1.0)), worst: share(worst) }
}

/// Calls `visit` with every choice of `count` of so many disks.
fn for_each_choice(disks: usize, count: usize, visit: &mut impl FnMut(&[usize])) {
    fn choose(
        from: usize,
        disks: usize,
        count: usize,
        chosen: &mut Vec<usize>,
        visit: &mut impl FnMut(&[usize]),
    ) {
        if count == 0 {
            return visit(chosen);
        }
        for disk in from..(disks + 1).saturating_sub(count) {
            chosen.push(disk);
            choose(disk + 1, disks, count - 1, chosen, visit);
            chosen.pop();
        }
    }
    choose(0, disks, count, &mut Vec::new(), visit);
}

/// How many choices there are of `count` among `all`.
pub(super) fn choose(all: usize, count: usize) -> f64 {
    if count > all {
        return 0.0;
    }
    (0..count).map(|i| (all - i) as f64 / (count - i) as f64).product()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{Plan, parse_disks, plans};
    use crate::pool::Media;
    use crate::units::ByteLength;
    use proptest::prelude::*;
    use rstest::rstest;

    fn losses_of(plan: &Plan, disks: &[DesignDisk]) -> Vec<VolumeLosses> {
        plan.volumes.iter().map(|volume| VolumeLosses::new(volume, disks)).collect()
    }

    /// What a set of disks, numbered through all volumes, costs a plan.
    fn lost_bytes(volumes: &[VolumeLosses], dead: &[usize]) -> f64 {
        let mut before = 0;
        let mut sum = 0.0;
        for volume in volumes {
            sum += volume.bytes(|disk| dead.contains(&(before + disk)));
            before += volume.disks();
        }
        sum
    }

    fn choices(disks: usize, count: usize) -> Vec<Vec<usize>> {
        let mut found = Vec::new();
        for_each_choice(disks, count, &mut |chosen| found.push(chosen.to_vec()));
        found
    }

    #[test]
    fn every_choice_comes_once() {
        assert_eq!(choices(3, 2), [[0, 1], [0, 2], [1, 2]]);
        assert_eq!(choices(2, 3), Vec::<Vec<usize>>::new());
    }

    #[rstest]
    #[case("12TB,10TB,2x6TB,4TB", None)]
    #[case("5x3TB,2TB,1TB", None)]
    #[case("4TB,4TB", None)]
    #[case("3x4TB", None)]
    #[case("3x8TB,5TB", Some("1TB,2TB"))]
    #[case("9TB,7TB,5TB,3TB,2TB,2TB,1TB,1TB", None)]
    fn the_closed_form_is_the_sum_over_every_choice(#[case] hard: &str, #[case] ssd: Option<&str>) {
        let mut disks = parse_disks(hard, Media::Hdd).unwrap();
        disks.extend(ssd.iter().flat_map(|sizes| parse_disks(sizes, Media::Ssd).unwrap()));
        for plan in plans(&disks) {
            let volumes = losses_of(&plan, &disks);
            let members = plan.members().count();
            let costs = |count: usize| -> Vec<f64> {
                choices(members, count).iter().map(|dead| lost_bytes(&volumes, dead)).collect()
            };
            let safe =
                (1..=members).take_while(|count| costs(*count).iter().all(|cost| *cost == 0.0)).count();
            let each: Vec<&VolumeLosses> = volumes.iter().collect();
            assert_eq!(survives(&each), safe, "{plan:?}");
            let (all, told) = (costs(safe + 1), one_more(&each));
            let share = |bytes: f64| bytes / plan.usable.exact() as f64;
            let average = share(all.iter().sum::<f64>()) / all.len().max(1) as f64;
            let worst = share(all.iter().copied().fold(0.0, f64::max));
            assert!((told.average - average).abs() < 1e-9, "{plan:?}: {} and {average}", told.average);
            assert!((told.worst - worst).abs() < 1e-9, "{plan:?}: {} and {worst}", told.worst);
        }
    }

    #[test]
    fn losses_by_hand() {
        let disks = parse_disks("12TB,10TB,2x6TB,4TB", Media::Hdd).unwrap();
        let of = |layout: Layout| {
            let plan = plans(&disks).into_iter().find(|plan| plan.layout() == Some(layout)).unwrap();
            let volumes = losses_of(&plan, &disks);
            (survives(&[&volumes[0]]), one_more(&[&volumes[0]]))
        };
        let (count, loss) = of(Layout::Spanned);
        assert_eq!((count, loss.disks), (0, 1));
        assert!((loss.average - 0.2).abs() < 1e-12 && (loss.worst - 12.0 / 38.0).abs() < 1e-12);
        let (count, loss) = of(Layout::Mirrored { parities: 0 });
        // Every file is on one of the ten pairs.
        assert_eq!(count, 1);
        assert!((loss.average - 0.1).abs() < 1e-12 && loss.worst < 0.5, "{loss:?}");
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

    #[test]
    fn equal_disks_of_a_mirror_stay_pairs_and_an_odd_one_shares_with_all() {
        let pairs = |shelf: &str| {
            let disks = parse_disks(shelf, Media::Hdd).unwrap();
            let mirror = Layout::Mirrored { parities: 0 };
            let plan = plans(&disks).into_iter().find(|plan| plan.layout() == Some(mirror)).unwrap();
            let mut pairs: Vec<_> = losses_of(&plan, &disks)[0].pairs().collect();
            pairs.sort_by(|a, b| b.1.total_cmp(&a.1));
            pairs
        };
        assert_eq!(pairs("4x4TB").len(), 2);
        let three = pairs("3x4TB");
        assert_eq!(three.len(), 3);
        assert!(three.iter().all(|(_, bytes)| (bytes / 2e12 - 1.0).abs() < 0.15), "a third each: {three:?}");
    }

    const ROW: u64 = 1 << 30;

    /// Files of one row on every row of every data disk; kills a set of disks and counts row by row.
    fn brute(plan: &Plan, disks: &[DesignDisk], dead: &[usize]) -> u64 {
        let volume = &plan.volumes[0];
        let rows = |i: usize| disks[i].size.exact() / ROW;
        let gone = |i: &usize| dead.contains(i);
        match volume.layout {
            Layout::Spanned => {
                volume.data.iter().map(|i| (0..rows(*i)).filter(|_| gone(i)).count() as u64).sum()
            }
            Layout::RotatingParity { parities } => {
                let smallest = volume.data.iter().map(|i| rows(*i)).min().unwrap();
                let missing = volume.data.iter().filter(|i| gone(i)).count();
                let strips = volume.data.len() - usize::from(parities);
                (0..smallest).filter(|_| missing > usize::from(parities)).count() as u64 * strips as u64
            }
            Layout::Unstriped { .. } | Layout::Tiered { .. } | Layout::Mirrored { .. } => (0..100u64)
                .map(|row| {
                    let missing = volume.data.iter().filter(|i| gone(i) && row < rows(**i)).count();
                    let parities = volume.parity.iter().filter(|i| !gone(i)).count();
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
            let disk = |(i, size): (usize, &u64), media| DesignDisk::on_paper(format!("{i}"), ByteLength::new(*size * ROW), media);
            let mut disks: Vec<DesignDisk> = hdds.iter().enumerate().map(|d| disk(d, Media::Hdd)).collect();
            disks.extend(ssds.iter().enumerate().map(|d| disk(d, Media::Ssd)));
            let mirrored = |plan: &Plan| plan.volumes.iter().any(|v| matches!(v.layout, Layout::Mirrored { .. }));
            for plan in plans(&disks) {
                let members: Vec<usize> = plan.members().collect();
                let volumes = losses_of(&plan, &disks);
                let all: Vec<usize> = (0..members.len()).collect();
                let lost = lost_bytes(&volumes, &all);
                prop_assert!((lost - plan.usable.exact() as f64).abs() < 1e-6 * lost, "when all die, all is lost: {:?}", plan);
                if plan.volumes.len() > 1 || mirrored(&plan) {
                    continue;
                }
                for dead in (0..=members.len()).flat_map(|count| choices(members.len(), count)) {
                    let positions: Vec<usize> = dead.iter().map(|disk| members[*disk]).collect();
                    prop_assert_eq!(lost_bytes(&volumes, &dead) as u64 / ROW, brute(&plan, &disks, &positions), "{:?} {:?}", plan, dead);
                }
            }
        }
    }
}
