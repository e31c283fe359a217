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
        caches: (0..count).map(|disk| is_cache(subject.now, index(disk))).collect(),
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

/// Whether a disk holds files and takes part in no parity.
pub(super) fn is_cache(model: &Model, disk: DiskIndex) -> bool {
    let in_parity = model.lanes.iter().map(|l| l.disk).chain(model.parities.iter().map(|p| p.disk));
    !in_parity.into_iter().any(|known| known == disk)
        && model.objects.iter().any(|object| object.disk == disk)
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::paper::PaperVolume;
    use crate::pool::parse;
    use crate::units::{ByteLength, GRANULE};
    use rstest::rstest;

    /// Five data disks with a few hundred files of all sizes, and so many parities.
    fn volume(parities: usize) -> PaperVolume {
        let names: Vec<String> = (0..5 + parities).map(|n| format!("\"d{n}\"")).collect();
        let disks: String =
            names.iter().map(|n| format!("[[disk]]\nname = {n}\ncapacity = \"4 GB\"\n")).collect();
        let text = format!(
            "[pool]\nname = \"p\"\n{disks}[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [{}]\nparity = [{}]\n",
            names[..5].join(","),
            names[5..].join(",")
        );
        let spec = parse(&text).spec.unwrap();
        let mut volume = PaperVolume::new(&spec, &spec.volumes[0]).unwrap();
        for number in 0..300u64 {
            let size = ByteLength::new(number * number * 97 % 3_000_000);
            volume.add(&format!("folder-{}/{number}", number % 7), size).unwrap();
        }
        volume
    }

    /// The model with every `each`th file changed since the sync.
    fn changed(model: &Model, each: usize) -> Model {
        let mut model = model.clone();
        for position in (0..model.objects.len()).step_by(each) {
            let version = model.objects[position].version;
            model.objects[position].standing = crate::fate::Standing::Changed;
            for piece in model.lanes.iter_mut().flat_map(|l| &mut l.pieces) {
                piece.stale |= Some(piece.version) == version;
            }
        }
        model
    }

    fn conditions(disks: usize) -> Conditions {
        let disk = |n: usize| RiskDisk {
            name: format!("d{n}"),
            rate: 0.03 + 0.02 * n as f64,
            batch: n.is_multiple_of(2).then(|| "march".to_string()),
            window: 0.02,
        };
        Conditions {
            disks: (0..disks).map(disk).collect(),
            per_bit: vec![1e-13; disks],
            batch_factor: 4.0,
            sync_interval: 7.0,
        }
    }

    #[rstest]
    fn what_each_file_may_lose_adds_up_to_what_the_volume_may(#[values(0, 1, 2)] parities: usize) {
        let volume = volume(parities);
        let (model, names) = (volume.model(), vec![1; 300]);
        let missing = LostSet::new();
        let subject = Subject { now: model, synced: model, missing: &missing, names: &names, age: 7.0 };
        let assessment = assess(&subject, &conditions(5 + parities));
        let yearly = assessment.yearly_losses(&subject);
        let files: f64 = yearly.iter().map(|(_, all)| all).sum();
        let bytes: f64 =
            model.objects.iter().zip(&yearly).map(|(o, (_, all))| o.size.exact() as f64 * all).sum();
        let of = |cause| assessment.odds.causes[&cause];
        let (single, second) = (of(super::super::Cause::Single), of(super::super::Cause::Second));
        let near = |a: f64, b: f64| (a - b).abs() <= b.abs() * 1e-9 + 1e-12;
        assert!(near(files, single.files + second.files), "{files} {single:?} {second:?}");
        assert!(near(bytes, single.bytes + second.bytes), "{bytes} {single:?} {second:?}");
        assert_eq!(single.files > 0.0, parities == 0);
        assert_eq!(second.files > 0.0, parities < 2);
    }

    #[test]
    fn what_changed_since_the_sync_costs_in_proportion_to_the_interval() {
        let volume = volume(1);
        let synced = volume.model();
        let now = changed(synced, 40);
        let (names, missing) = (vec![1; 300], LostSet::new());
        let subject = Subject { now: &now, synced, missing: &missing, names: &names, age: 7.0 };
        let cost = |interval: f64| {
            let conditions = Conditions { sync_interval: interval, ..conditions(6) };
            assess(&subject, &conditions).odds.causes[&super::super::Cause::Single].bytes
        };
        assert!(cost(1.0) > 0.0);
        assert!((cost(2.0) / cost(1.0) - 2.0).abs() < 1e-9, "{} {}", cost(1.0), cost(2.0));
        // More than everything cannot be stale.
        let all: f64 = synced.objects.iter().map(|o| o.size.exact() as f64).sum();
        assert!(cost(3000.0) < all, "{} of {all}", cost(3000.0));
    }

    #[test]
    fn a_dead_disk_leaves_less_to_guard_with() {
        let volume = volume(1);
        let model = volume.model();
        let names = vec![1; 300];
        let total = |missing: &LostSet| {
            let subject = Subject { now: model, synced: model, missing, names: &names, age: 7.0 };
            let mut conditions = conditions(6);
            missing.iter().for_each(|disk| conditions.disks[usize::from(disk.0)].rate = 0.0);
            assess(&subject, &conditions).odds.total().bytes
        };
        let (none, parity): (LostSet, LostSet) = (LostSet::new(), [DiskIndex(5)].into());
        assert!(total(&parity) > 10.0 * total(&none));
    }

    #[test]
    fn unreadable_sectors_count_in_bytes_of_all_that_is_read() {
        let volume = volume(1);
        let model = volume.model();
        let (names, missing) = (vec![1; 300], LostSet::new());
        let subject = Subject { now: model, synced: model, missing: &missing, names: &names, age: 7.0 };
        let assessment = assess(&subject, &conditions(6));
        // Losing the parity drive, every granule of every file is one that must be read.
        let granules: u64 = model.objects.iter().map(|o| o.size.granules()).sum();
        let expected = granules as f64 * (GRANULE * 8) as f64 * 1e-13;
        let found = assessment.process.unreadable[5].events;
        assert!((found - expected).abs() < expected * 1e-9, "{found} {expected}");
    }
}
