//! From the fate model to the process: what each failure costs, and how likely each file is to be lost.

use std::collections::HashMap;

use serde::Serialize;

use super::closed::{EventRates, closed_form, event_rates};
use super::process::{Loss, Odds, Process, RiskDisk};
use super::unreadable::unreadable_risk;
use crate::fate::{Cost, DiskIndex, DiskSet, ExposureId, LostSet, Model, Stakes};

/// A volume now, and as it would be right after a sync. Both models have the same objects in the same order.
#[derive(Clone, Copy)]
pub struct Subject<'a> {
    /// As it is.
    pub now: &'a Model,
    /// As it would be.
    pub synced: &'a Model,
    /// The disks that are missing: they are lost in any case.
    pub missing: &'a LostSet,
    /// How many names of files each object has.
    pub names: &'a [u32],
    /// Days since the last sync.
    pub age: f64,
}

/// What is assumed about failures.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Conditions {
    /// The disks, in the order of [`DiskIndex`]; those that are missing have no rate.
    pub disks: Vec<RiskDisk>,
    /// The share of bits of each that cannot be read.
    pub per_bit: Vec<f64>,
    /// So many times likelier a disk fails while another of its batch is being rebuilt.
    pub batch_factor: f64,
    /// Days from one sync to the next.
    pub sync_interval: f64,
}

/// What is to be expected of a volume.
pub struct Assessment {
    /// The process that follows from the models.
    pub process: Process,
    /// Its expected values.
    pub odds: Odds,
    rates: EventRates,
    now: Stakes,
    synced: Stakes,
    /// How much of what changed since the last sync is stale at a failure on average.
    fresh: f64,
}

/// Works a volume out.
pub fn assess(subject: &Subject<'_>, conditions: &Conditions) -> Assessment {
    let stakes = |model: &Model| {
        let names = |position: usize| subject.names.get(position).copied().unwrap_or(0);
        crate::fate::Exposures::new(model, subject.missing, 2).stakes(model, names)
    };
    let (now, synced) = (stakes(subject.now), stakes(subject.synced));
    let count = conditions.disks.len();
    let costs = Costs {
        now: &now,
        synced: &synced,
        age: subject.age,
        interval: conditions.sync_interval,
        held: files_on_disks(subject, count),
    };
    let unreadable = unreadable_risk(subject.synced, count, &conditions.per_bit);
    let process = Process {
        disks: conditions.disks.clone(),
        batch_factor: conditions.batch_factor,
        sync_interval: conditions.sync_interval,
        single: (0..count).map(|disk| costs.loss(&[], &[disk])).collect(),
        second: (0..count)
            .map(|first| (0..count).map(|second| costs.loss(&[first], &[first, second])).collect())
            .collect(),
        unreadable: unreadable.single,
        unreadable_pair: unreadable.pair,
    };
    let (odds, rates) = (closed_form(&process), event_rates(&process));
    let fresh = conditions.sync_interval / 2.0 / subject.age;
    Assessment { process, odds, rates, now, synced, fresh }
}

/// How many files lie on each disk.
fn files_on_disks(subject: &Subject<'_>, disks: usize) -> Vec<f64> {
    let mut held = vec![0.0; disks];
    for (object, names) in subject.now.objects.iter().zip(subject.names) {
        if let Some(sum) = held.get_mut(usize::from(object.disk.0)) {
            *sum += f64::from(*names);
        }
    }
    held
}

struct Costs<'a> {
    now: &'a Stakes,
    synced: &'a Stakes,
    age: f64,
    interval: f64,
    /// Files on each disk: no more of them can be stale.
    held: Vec<f64>,
}

impl Costs<'_> {
    /// What is lost with `then` and not yet with `before`.
    fn loss(&self, before: &[usize], then: &[usize]) -> Loss {
        let set = |disks: &[usize]| -> DiskSet { disks.iter().map(|d| index(*d)).collect() };
        let step = |stakes: &Stakes| {
            let (before, then): (Cost, Cost) = (stakes.cost(&set(before)), stakes.cost(&set(then)));
            let bytes = then.bytes.exact() as f64 - before.bytes.exact() as f64;
            (bytes, then.files as f64 - before.files as f64)
        };
        let ((bytes, files), (bytes_now, files_now)) = (step(self.synced), step(self.now));
        let fresh = (files_now - files).max(0.0);
        let left: f64 =
            then.iter().filter(|d| !before.contains(d)).map(|d| self.held[*d]).sum::<f64>() - files;
        let files_per_day = (fresh / self.age).min(left.max(0.0) / self.interval);
        let bytes_each = if fresh > 0.0 { (bytes_now - bytes).max(0.0) / fresh } else { 0.0 };
        Loss { bytes, files, files_per_day, bytes_each }
    }
}

fn index(position: usize) -> DiskIndex {
    DiskIndex(u16::try_from(position).unwrap_or(u16::MAX))
}

impl Assessment {
    /// How often each object is to be expected to be lost in a year, by the failure of its own disk, alone or with
    /// another; in the model's order. First as right after a sync, then with what changes until the next.
    pub fn yearly_losses(&self, subject: &Subject<'_>) -> Vec<(f64, f64)> {
        let mut known: HashMap<(DiskIndex, ExposureId, ExposureId), (f64, f64)> = HashMap::new();
        let objects = subject.now.objects.iter().zip(&subject.synced.objects);
        objects
            .map(|(now, synced)| {
                let of_now = self.now.exposures.of(subject.now, now);
                let of_synced = self.synced.exposures.of(subject.synced, synced);
                *known.entry((now.disk, of_now, of_synced)).or_insert_with(|| {
                    let least = self.yearly(&self.synced, of_synced, now.disk);
                    let most = self.yearly(&self.now, of_now, now.disk);
                    (least, least + self.fresh * (most - least).max(0.0))
                })
            })
            .collect()
    }

    fn yearly(&self, stakes: &Stakes, exposure: ExposureId, disk: DiskIndex) -> f64 {
        let own = usize::from(disk.0);
        let is_lost = |set: &[DiskIndex]| stakes.exposures.is_lost(exposure, &set.iter().copied().collect());
        let alone = is_lost(&[disk]);
        let mut sum = if alone { self.rates.first[own] } else { 0.0 };
        for other in (0..self.process.disks.len()).filter(|other| *other != own) {
            if is_lost(&[disk, index(other)]) {
                // If its own disk fails second, whatever it loses is the second failure's doing.
                let first = if alone { 0.0 } else { self.rates.second[own][other] };
                sum += first + self.rates.second[other][own];
            }
        }
        sum
    }
}
