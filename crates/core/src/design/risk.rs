//! What a plan is to be expected to lose in a year, from the process that `risk` is worked out from.

use std::rc::Rc;

use schemars::JsonSchema;
use serde::Serialize;

use super::loss::{VolumeLosses, choose};
use super::{DesignDisk, Layout, PlannedVolume};
use crate::fate::{DiskIndex, DiskSet};
use crate::pool::DiskSpec;
use crate::risk::{DAYS, Hazard, Loss, Losses, Process, RiskDisk, closed_form, yearly_rate};

/// What is to be expected of full volumes in a year: by disks that fail, on top of each other while others are rebuilt.
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
/// The closed form goes on to so many disks at least.
const LEVELS: usize = 3;
/// Where more sets of disks than these can be down before anything is lost, the first that costs anything stands for all.
const MOST_SETS: f64 = 1_000.0;

impl PlanRisk {
    /// That of this and of another volume, whose disks fail independently.
    pub(super) fn and(self, other: Self) -> Self {
        // As a sum it keeps the digits of what is nearly never.
        let both = self.any_in_a_year * other.any_in_a_year;
        let any_in_a_year = self.any_in_a_year + other.any_in_a_year - both;
        Self { any_in_a_year, bytes: self.bytes + other.bytes }
    }
}

/// Works it out, with disks of unknown age, each of which is back after three days and a rebuild of so many hours.
pub(super) fn volume_risk(
    volume: &PlannedVolume,
    losses: Rc<VolumeLosses>,
    disks: &[DesignDisk],
    rebuild_hours: f64,
) -> PlanRisk {
    let window = (REPLACE_WITHIN + rebuild_hours / 24.0) / DAYS;
    let process_disks: Vec<RiskDisk> = volume
        .members()
        .map(|member| {
            let spec = DiskSpec { media: Some(disks[member].media), ..DiskSpec::default() };
            let rate = yearly_rate(&spec, None, 1.0).per_year();
            RiskDisk { name: disks[member].name.clone(), rate, batch: None, window, is_cache: false }
        })
        .collect();
    let disks_down = losses.depth().max(LEVELS);
    if choose(process_disks.len(), disks_down) > MOST_SETS {
        return of_many(&process_disks, &losses, volume.layout);
    }
    let odds = closed_form(&Process { disks: process_disks, batch_factor: 1.0, sync_interval: 0.0, losses });
    PlanRisk { any_in_a_year: odds.any_in_a_year(), bytes: odds.total().bytes }
}

/// The leading term: so many disks as cost anything fail one after another, each in the window of the one before; what
/// that costs is the mean over all choices of them.
fn of_many(process: &[RiskDisk], losses: &VolumeLosses, layout: Layout) -> PlanRisk {
    let count = process.len();
    let (rate, window) = (process.iter().map(|d| d.rate).sum::<f64>() / count as f64, process[0].window);
    let deadly = losses.survives() + 1;
    let yearly = (1..deadly).fold(count as f64 * rate, |sum, before| {
        sum * -(-((count - before) as f64) * rate * window).exp_m1()
    });
    let choices = choose(count, deadly);
    let bytes = yearly * losses.one_more().0 / choices;
    // Of a mirrored volume most choices of two disks may cost nothing.
    let costly = match layout {
        Layout::Mirrored { .. } => losses.pairs().count() as f64 / choices,
        _ => 1.0,
    };
    PlanRisk { any_in_a_year: -(-yearly * costly).exp_m1(), bytes }
}

impl Losses for VolumeLosses {
    fn loss(&self, lost: &DiskSet) -> Loss {
        let bytes = self.bytes(|disk| lost.contains(DiskIndex(disk as u16)));
        Loss { bytes, files: if bytes > 0.0 { 1.0 } else { 0.0 }, ..Loss::default() }
    }

    fn hazard(&self, _before: &DiskSet, _lost: &DiskSet) -> Hazard {
        Hazard::default()
    }

    fn depth(&self) -> usize {
        self.survives() + 1
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::design::{parse_disks, plans};
    use crate::pool::Media;

    fn risk(shelf: &str, layout: Layout) -> PlanRisk {
        let disks = parse_disks(shelf, Media::Hdd).unwrap();
        let plan = plans(&disks).into_iter().find(|plan| plan.layout() == Some(layout)).unwrap();
        let volume = &plan.volumes[0];
        volume_risk(volume, Rc::new(VolumeLosses::new(volume, &disks)), &disks, 20.0)
    }

    #[test]
    fn each_parity_makes_it_less_and_many_disks_go_on_where_few_end() {
        let guarded = |shelf: &str, parities: u8| risk(shelf, Layout::Unstriped { parities });
        let falling: Vec<f64> = [1, 2, 3].map(|p| guarded("12x8TB", p).any_in_a_year).to_vec();
        assert!(falling[0] > 10.0 * falling[1] && falling[1] > 10.0 * falling[2], "{falling:?}");
        let mirrored = |shelf: &str| risk(shelf, Layout::Mirrored { parities: 0 });
        // The larger shelf of each has too many sets to go through; what costs anything grows as the choices of disks do.
        type Risk<'a> = &'a dyn Fn(&str) -> PlanRisk;
        let cases: [(Risk<'_>, [usize; 2], f64); 4] = [
            (&|shelf| guarded(shelf, 1), [19, 20], choose(20, 2) / choose(19, 2)),
            (&|shelf| guarded(shelf, 2), [19, 20], choose(20, 3) / choose(19, 3)),
            (&|shelf| guarded(shelf, 3), [13, 14], choose(14, 4) / choose(13, 4)),
            (&|shelf| mirrored(shelf), [18, 20], 20.0 / 18.0),
        ];
        for (risk, disks, growth) in cases {
            let [few, many] = disks.map(|disks| risk(&format!("{disks}x8TB")));
            let ratio = many.any_in_a_year / few.any_in_a_year / growth;
            assert!((0.85..1.15).contains(&ratio), "{ratio}: {few:?} {many:?}");
            let ratio = many.bytes / few.bytes / growth;
            assert!((0.85..1.15).contains(&ratio), "{ratio}: {few:?} {many:?}");
        }
    }

    #[test]
    fn two_volumes_risk_what_either_does() {
        let one = PlanRisk { any_in_a_year: 0.5, bytes: 3.0 };
        let both = one.and(PlanRisk { any_in_a_year: 0.2, bytes: 4.0 });
        assert!((both.any_in_a_year - 0.6).abs() < 1e-12 && (both.bytes - 7.0).abs() < 1e-12);
        let rare = PlanRisk { any_in_a_year: 1e-20, bytes: 0.0 };
        assert!(rare.and(rare).any_in_a_year > 1.9e-20);
    }
}
