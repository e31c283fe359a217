//! What a plan is to be expected to lose in a year, from the process that `risk` is worked out from.

use std::rc::Rc;

use schemars::JsonSchema;
use serde::Serialize;

use super::{DesignDisk, Layout, Plan};
use crate::fate::{DiskIndex, DiskSet};
use crate::pool::DiskSpec;
use crate::risk::{DAYS, Hazard, Loss, Losses, Process, RiskDisk, closed_form, yearly_rate};

/// What is to be expected of a full volume in a year: by disks that fail, on top of each other while others are rebuilt.
/// What comes between syncs and sectors that cannot be read are left out: they depend on habits, and on files.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct PlanRisk {
    /// The chance to lose anything.
    pub any_in_a_year: f64,
    /// Bytes to be expected to be lost.
    #[serde(rename = "bytes_a_year")]
    pub bytes: f64,
}

/// Days until a successor is in the bay of a disk that failed.
const REPLACE_WITHIN: f64 = 3.0;
/// With more disks than these there are too many sets of them: the first set that costs anything stands for all.
const FEW: usize = 24;

/// Works it out, with disks of unknown age, each of which is back after three days and a rebuild of so many hours.
pub(super) fn plan_risk(plan: &Plan, disks: &[DesignDisk], rebuild_hours: f64) -> PlanRisk {
    let members: Vec<usize> = plan.data.iter().chain(&plan.parity).copied().collect();
    let window = (REPLACE_WITHIN + rebuild_hours / 24.0) / DAYS;
    let process_disks: Vec<RiskDisk> = members
        .iter()
        .map(|member| {
            let spec = DiskSpec { media: Some(disks[*member].media), ..DiskSpec::default() };
            let rate = yearly_rate(&spec, None, 1.0).per_year();
            RiskDisk { name: disks[*member].name.clone(), rate, batch: None, window, is_cache: false }
        })
        .collect();
    let losses = PlanLosses::new(plan, disks);
    if members.len() > FEW {
        return of_many(&process_disks, &losses, plan, disks);
    }
    let odds = closed_form(&Process {
        disks: process_disks,
        batch_factor: 1.0,
        sync_interval: 0.0,
        losses: Rc::new(losses),
    });
    PlanRisk { any_in_a_year: odds.any_in_a_year(), bytes: odds.total().bytes }
}

/// The leading term: so many disks as cost anything fail one after another, each in the window of the one before; what
/// that costs is the mean over all choices of them.
fn of_many(process: &[RiskDisk], losses: &PlanLosses, plan: &Plan, disks: &[DesignDisk]) -> PlanRisk {
    let count = process.len();
    let (rate, window) = (process.iter().map(|d| d.rate).sum::<f64>() / count as f64, process[0].window);
    let deadly = losses.depth();
    let yearly = (1..deadly).fold(count as f64 * rate, |sum, before| {
        sum * -(-((count - before) as f64) * rate * window).exp_m1()
    });
    let loss = super::one_more(plan, disks);
    let bytes = yearly * loss.average * plan.usable.exact() as f64;
    // Of mirrored pairs most choices of two disks cost nothing.
    let costly = match plan.layout {
        Layout::MirroredPairs => 1.0 / (count as f64 - 1.0).max(1.0),
        _ => 1.0,
    };
    PlanRisk { any_in_a_year: -(-yearly * costly).exp_m1(), bytes }
}

/// What any set of disks costs a plan whose disks are full.
struct PlanLosses {
    layout: Layout,
    /// Sizes of the disks, data disks first.
    sizes: Vec<f64>,
    data: usize,
    parities: usize,
    usable: f64,
}

impl PlanLosses {
    fn new(plan: &Plan, disks: &[DesignDisk]) -> Self {
        let members = plan.data.iter().chain(&plan.parity);
        Self {
            layout: plan.layout,
            sizes: members.map(|member| disks[*member].size.exact() as f64).collect(),
            data: plan.data.len(),
            parities: plan.parity.len(),
            usable: plan.usable.exact() as f64,
        }
    }

    fn bytes(&self, lost: &DiskSet) -> f64 {
        let is_lost = |disk: usize| lost.contains(DiskIndex(disk as u16));
        let dead = || (0..self.data).filter(|disk| is_lost(*disk));
        match self.layout {
            Layout::Spanned | Layout::Tiered => dead().map(|disk| self.sizes[disk]).sum(),
            Layout::MirroredPairs => (0..self.data / 2)
                .filter(|pair| is_lost(2 * pair) && is_lost(2 * pair + 1))
                .map(|pair| self.sizes[2 * pair].min(self.sizes[2 * pair + 1]))
                .sum(),
            Layout::RotatingParity { parities } => {
                if dead().count() > usize::from(parities) {
                    self.usable
                } else {
                    0.0
                }
            }
            Layout::Unstriped { .. } => {
                let left =
                    self.parities - (self.data..self.sizes.len()).filter(|disk| is_lost(*disk)).count();
                let mut sizes: Vec<f64> = dead().map(|disk| self.sizes[disk]).collect();
                sizes.sort_by(f64::total_cmp);
                // Between the ends of two of them the same disks lie in every row: all of the larger ones.
                let mut from = 0.0;
                let mut sum = 0.0;
                for (number, to) in sizes.iter().enumerate() {
                    let here = sizes.len() - number;
                    if here > left {
                        sum += (to - from) * here as f64;
                    }
                    from = *to;
                }
                sum
            }
        }
    }
}

impl Losses for PlanLosses {
    fn loss(&self, lost: &DiskSet) -> Loss {
        let bytes = self.bytes(lost);
        Loss { bytes, files: if bytes > 0.0 { 1.0 } else { 0.0 }, ..Loss::default() }
    }

    fn hazard(&self, _before: &DiskSet, _lost: &DiskSet) -> Hazard {
        Hazard::default()
    }

    fn depth(&self) -> usize {
        match self.layout {
            Layout::Spanned | Layout::Tiered => 1,
            Layout::MirroredPairs => 2,
            Layout::RotatingParity { parities } => usize::from(parities) + 1,
            Layout::Unstriped { .. } => self.parities + 1,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{one_more, parse_disks, plans, survives};
    use crate::pool::Media;
    use rstest::rstest;

    /// Every set of so many disks, one by one.
    fn sets(disks: usize, count: usize) -> Vec<DiskSet> {
        (0u32..1 << disks)
            .filter(|bits| bits.count_ones() as usize == count)
            .map(|bits| (0..disks as u16).filter(|d| bits >> d & 1 == 1).map(DiskIndex).collect())
            .collect()
    }

    /// What a set of disks costs, byte by byte of a small unstriped plan.
    #[rstest]
    #[case("12TB,10TB,2x6TB,4TB")]
    #[case("8TB,8TB,3TB,2TB,1TB,1TB")]
    #[case("5x4TB")]
    fn what_sets_cost_agrees_with_the_comparison_and_with_counting_rows(#[case] shelf: &str) {
        let disks = parse_disks(shelf, Media::Hdd).unwrap();
        for plan in plans(&disks) {
            let losses = PlanLosses::new(&plan, &disks);
            let members = plan.data.len() + plan.parity.len();
            let count = survives(&plan, &disks) + 1;
            assert!(sets(members, count - 1).iter().all(|set| losses.bytes(set) == 0.0), "{plan:?}");
            let all = sets(members, count);
            let mean = all.iter().map(|set| losses.bytes(set)).sum::<f64>() / all.len() as f64;
            let told = one_more(&plan, &disks);
            let usable = plan.usable.exact() as f64;
            assert!((mean / usable - told.average).abs() < 1e-9, "{plan:?} {mean} {told:?}");
            let worst = all.iter().map(|set| losses.bytes(set)).fold(0.0, f64::max);
            assert!((worst / usable - told.worst).abs() < 1e-9, "{plan:?} {worst} {told:?}");
            if let Layout::Unstriped { .. } = plan.layout {
                for set in all {
                    let by_rows = (0..12).map(|row| {
                        let row = (f64::from(row) + 0.5) * 1e12;
                        let here = |n: usize| losses.sizes[n] > row && set.contains(DiskIndex(n as u16));
                        let dead = (0..losses.data).filter(|n| here(*n)).count();
                        let parities = losses.parities
                            - (losses.data..losses.sizes.len())
                                .filter(|n| set.contains(DiskIndex(*n as u16)))
                                .count();
                        if dead > parities { dead as f64 * 1e12 } else { 0.0 }
                    });
                    assert!((losses.bytes(&set) - by_rows.sum::<f64>()).abs() < 1.0, "{plan:?} {set:?}");
                }
            }
        }
    }

    #[test]
    fn each_parity_makes_it_less_and_many_disks_go_on_where_few_end() {
        let risk = |shelf: &str, parities: u8| {
            let disks = parse_disks(shelf, Media::Hdd).unwrap();
            let plan =
                plans(&disks).into_iter().find(|p| p.layout == Layout::Unstriped { parities }).unwrap();
            plan_risk(&plan, &disks, 20.0)
        };
        let falling: Vec<f64> = [1, 2, 3].map(|p| risk("12x8TB", p).any_in_a_year).to_vec();
        assert!(falling[0] > 10.0 * falling[1] && falling[1] > 10.0 * falling[2], "{falling:?}");
        for parities in [1, 2] {
            let (few, many) = (risk("24x8TB", parities), risk("25x8TB", parities));
            let ratio = many.any_in_a_year / few.any_in_a_year;
            assert!((0.9..1.3).contains(&ratio), "{parities}: {few:?} {many:?}");
            assert!((0.8..1.4).contains(&(many.bytes / few.bytes)), "{parities}: {few:?} {many:?}");
        }
    }
}
