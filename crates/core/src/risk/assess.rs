//! From the fate model to the process: what each failure costs, and how likely each file is to be lost.

use std::collections::HashMap;
use std::rc::Rc;

use super::closed::{Expected, Step, expected};
use super::habit::{Habit, HabitSource};
use super::process::{Hazard, Loss, Losses, Odds, Process, RiskDisk, index};
use super::unreadable::UnreadableRows;
use crate::fate::{
    DiskIndex, DiskSet, ExposureId, Exposures, LostSet, MOST_DISKS, Model, ObjectState, Stakes,
};

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
    /// What comes between syncs.
    pub habit: &'a Habit,
}

/// What is assumed about failures.
#[derive(Clone, Debug, PartialEq)]
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
    /// How often per year more disks fail together than were reckoned with.
    pub beyond: f64,
    /// Failures while all are there, per year.
    pub cycles: f64,
    losses: Rc<ModelLosses>,
    steps: Vec<Step>,
}

/// The steps that the shares of single files are worked out from: the most frequent ones.
const STEPS_OF_FILES: usize = 20_000;

/// Works a volume out.
pub fn assess(subject: &Subject<'_>, conditions: &Conditions) -> Assessment {
    let losses = Rc::new(ModelLosses::new(subject, conditions));
    let process = Process {
        disks: conditions.disks.clone(),
        batch_factor: conditions.batch_factor,
        sync_interval: conditions.sync_interval,
        losses: Rc::clone(&losses) as Rc<dyn Losses>,
    };
    let Expected { odds, mut steps, beyond, cycles } = expected(&process);
    steps.sort_by(|a, b| b.yearly.total_cmp(&a.yearly).then_with(|| a.then.cmp(&b.then)));
    steps.truncate(STEPS_OF_FILES);
    Assessment { process, odds, beyond, cycles, losses, steps }
}

/// What losses cost a volume, by its model right after a sync and by what comes until the next.
pub(super) struct ModelLosses {
    stakes: Stakes,
    rows: UnreadableRows,
    habit: Habit,
    caches: Vec<bool>,
    /// The disks that are missing already.
    missing: DiskSet,
    depth: usize,
}

impl ModelLosses {
    fn new(subject: &Subject<'_>, conditions: &Conditions) -> Self {
        let model = subject.synced;
        let caches: Vec<bool> = conditions.disks.iter().map(|disk| disk.is_cache).collect();
        let is_on_cache = |disk: DiskIndex| caches.get(usize::from(disk.0)).copied().unwrap_or(false);
        // What waits on average stands for what waits now.
        let averages = subject.habit.waiting.is_some();
        let names = |position: usize| match model.objects[position].disk {
            disk if averages && is_on_cache(disk) => 0,
            _ => subject.names.get(position).copied().unwrap_or(0),
        };
        let stakes = Exposures::new(model, subject.missing, MOST_DISKS).stakes(model, names);
        let copies = model.composites.iter().map(|composite| composite.copies.len()).max().unwrap_or(1);
        let mut habit = subject.habit.clone();
        if model.parities.is_empty() && copies < 2 {
            // Nothing is guarded by a sync: what comes is as unguarded as what is there.
            habit.arrivals.iter_mut().for_each(|one| *one = super::habit::Arrivals::default());
        }
        for (disk, cache) in caches.iter().enumerate() {
            // What waits there is counted as such.
            if let (true, Some(one)) = (*cache, habit.arrivals.get_mut(disk)) {
                *one = super::habit::Arrivals::default();
            }
        }
        Self {
            stakes,
            rows: UnreadableRows::new(model, &conditions.per_bit),
            habit,
            caches,
            missing: subject.missing.iter().copied().collect(),
            depth: (model.parities.len() + 1).max(copies),
        }
    }

    /// The share of what waits on caches that is lost with these disks: each file lies on so many of them, by chance.
    fn share_of_waiting(&self, lost: &DiskSet, copies: u32) -> f64 {
        let is_lost = |disk: &usize| lost.contains(index(*disk));
        let caches: Vec<usize> = (0..self.caches.len()).filter(|disk| self.caches[*disk]).collect();
        if caches.is_empty() {
            return 0.0;
        }
        let (all, gone) = (caches.len(), caches.iter().filter(|disk| is_lost(disk)).count());
        let copies = (copies.max(1) as usize).min(all);
        (0..copies).map(|n| gone.saturating_sub(n) as f64 / all.saturating_sub(n).max(1) as f64).product()
    }
}

impl Losses for ModelLosses {
    fn loss(&self, lost: &DiskSet) -> Loss {
        let none = self.stakes.cost(&DiskSet::default());
        let cost = self.stakes.cost(lost);
        let mut loss = Loss {
            // What is lost with the disks that are missing already is not the doing of another.
            bytes: cost.bytes.minus(none.bytes).exact() as f64,
            files: cost.files.saturating_sub(none.files) as f64,
            ..Loss::default()
        };
        for disk in lost.iter() {
            let Some(arrivals) = self.habit.arrivals.get(usize::from(disk.0)) else { continue };
            loss.fresh_files += arrivals.files;
            loss.fresh_bytes += arrivals.bytes;
        }
        if let Some(waiting) = self.habit.waiting {
            let share = self.share_of_waiting(lost, waiting.copies);
            loss.waiting_files = waiting.files * share;
            loss.waiting_bytes = waiting.bytes * share;
        }
        loss
    }

    fn hazard(&self, before: &DiskSet, lost: &DiskSet) -> Hazard {
        // Nothing is read from those that are missing, while others are rebuilt.
        let with_missing = |set: &DiskSet| self.missing.iter().chain(set.iter()).collect::<DiskSet>();
        self.rows.hazard(&with_missing(before), &with_missing(lost))
    }

    fn depth(&self) -> usize {
        self.depth
    }
}

impl Assessment {
    /// How often each object is to be expected to be lost in a year by the failure of disks, in the model's order: as
    /// right after a sync, and with what is lost because it came since.
    pub fn yearly_losses(&self, subject: &Subject<'_>) -> Vec<(f64, f64)> {
        let news = News::of(subject);
        let fresh = self.fresh_rates(subject, &news);
        let stakes = &self.losses.stakes;
        let mut known: HashMap<(DiskIndex, ExposureId), f64> = HashMap::new();
        let objects = subject.now.objects.iter().zip(&subject.synced.objects);
        objects
            .map(|(now, synced)| {
                let exposure = stakes.exposures.of(subject.synced, synced);
                let least =
                    *known.entry((now.disk, exposure)).or_insert_with(|| self.yearly(exposure, now.disk));
                let more = if news.contains(now) { fresh[usize::from(now.disk.0)] } else { 0.0 };
                (least, least + more)
            })
            .collect()
    }

    /// For each disk, how often a year each of the files that came since the first sync has to be counted as lost, so
    /// that together they are the files that are lost because they came since the last.
    fn fresh_rates(&self, subject: &Subject<'_>, news: &News<'_>) -> Vec<f64> {
        let mut count = vec![0.0; self.process.disks.len()];
        for (object, names) in subject.now.objects.iter().zip(subject.names).filter(|(o, _)| news.contains(o))
        {
            if let Some(sum) = count.get_mut(usize::from(object.disk.0)) {
                *sum += f64::from(*names);
            }
        }
        let since = self.process.sync_interval / 2.0;
        let fails = |disk: usize| -> f64 {
            let hits = self
                .steps
                .iter()
                .filter(|step| step.then.contains(index(disk)) && !step.before.contains(index(disk)));
            hits.map(|step| step.yearly).sum()
        };
        let rate = |(disk, count): (usize, &f64)| {
            let arrivals = self.losses.habit.arrivals.get(disk).map_or(0.0, |one| one.files);
            if *count > 0.0 && arrivals > 0.0 { fails(disk) * arrivals * since / count } else { 0.0 }
        };
        count.iter().enumerate().map(rate).collect()
    }

    /// How often a year something on a disk with these limits is lost.
    fn yearly(&self, exposure: ExposureId, disk: DiskIndex) -> f64 {
        let exposures = &self.losses.stakes.exposures;
        let is_lost = |set: &DiskSet| set.contains(disk) && exposures.is_lost(exposure, set);
        let steps = self.steps.iter().filter(|step| step.then.contains(disk));
        steps.filter(|step| is_lost(&step.then) && !is_lost(&step.before)).map(|step| step.yearly).sum()
    }
}

/// Which objects stand for what comes between syncs.
struct News<'a> {
    model: &'a Model,
    /// The first checkpoint that anything is of; none where all stand for it alike.
    first: Option<u32>,
}

impl<'a> News<'a> {
    fn of(subject: &Subject<'a>) -> Self {
        let first = match subject.habit.source {
            HabitSource::Given => None,
            _ => super::habit::first_recorded(subject.now).or(Some(0)),
        };
        Self { model: subject.now, first }
    }

    fn contains(&self, object: &ObjectState) -> bool {
        self.first.is_none_or(|first| super::habit::came_after(self.model, object, first))
    }
}

#[cfg(test)]
mod tests {
    use super::super::habit::Arrivals;
    use super::super::process::Cause;
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

    fn conditions(disks: usize) -> Conditions {
        let disk = |n: usize| RiskDisk {
            name: format!("d{n}"),
            rate: 0.03 + 0.02 * n as f64,
            batch: n.is_multiple_of(2).then(|| "march".to_string()),
            window: 0.02,
            is_cache: false,
        };
        Conditions {
            disks: (0..disks).map(disk).collect(),
            per_bit: vec![1e-13; disks],
            batch_factor: 4.0,
            sync_interval: 7.0,
        }
    }

    fn habit(disks: usize, files: f64) -> Habit {
        let one = Arrivals { files, bytes: files * 2e6 };
        Habit { arrivals: vec![one; disks], waiting: None, source: HabitSource::Given }
    }

    #[rstest]
    fn what_each_file_may_lose_adds_up_to_what_the_volume_may(#[values(0, 1, 2)] parities: usize) {
        let volume = volume(parities);
        let (model, names) = (volume.model(), vec![1; 300]);
        let (missing, habit) = (LostSet::new(), habit(5, 0.0));
        let subject = Subject { now: model, synced: model, missing: &missing, names: &names, habit: &habit };
        let assessment = assess(&subject, &conditions(5 + parities));
        let yearly = assessment.yearly_losses(&subject);
        let files: f64 = yearly.iter().map(|(_, all)| all).sum();
        let bytes: f64 =
            model.objects.iter().zip(&yearly).map(|(o, (_, all))| o.size.exact() as f64 * all).sum();
        let of = |cause| assessment.odds.causes[&cause];
        let (single, second, further) = (of(Cause::Single), of(Cause::Second), of(Cause::Further));
        let near = |a: f64, b: f64| (a - b).abs() <= b.abs() * 1e-9 + 1e-12;
        assert!(near(files, single.files + second.files + further.files), "{files} {single:?} {second:?}");
        assert!(near(bytes, single.bytes + second.bytes + further.bytes), "{bytes} {single:?} {second:?}");
        assert_eq!(single.files > 0.0, parities == 0);
        assert_eq!(second.files > 0.0, parities < 2);
        assert!(further.files > 0.0, "three take more than two");
    }

    #[test]
    fn what_comes_between_syncs_costs_in_proportion_to_the_interval() {
        let volume = volume(1);
        let model = volume.model();
        let (names, missing) = (vec![1; 300], LostSet::new());
        let cost = |interval: f64, files: f64| {
            let habit = habit(6, files);
            let subject =
                Subject { now: model, synced: model, missing: &missing, names: &names, habit: &habit };
            let conditions = Conditions { sync_interval: interval, ..conditions(6) };
            assess(&subject, &conditions).odds.causes[&Cause::Single].bytes
        };
        assert!(cost(1.0, 3.0) > 0.0 && cost(7.0, 0.0) == 0.0);
        assert!((cost(2.0, 3.0) / cost(1.0, 3.0) - 2.0).abs() < 1e-9);
        assert!((cost(2.0, 6.0) / cost(2.0, 3.0) - 2.0).abs() < 1e-9);
        // Each disk fails at its rate; half an interval's files are on it. Cycles are a little apart.
        let rates: f64 = conditions(6).disks.iter().map(|d| d.rate).sum();
        let by_hand = rates * 3.0 * 2e6;
        assert!((cost(2.0, 3.0) / by_hand - 1.0).abs() < 0.05, "{} {by_hand}", cost(2.0, 3.0));
    }

    #[test]
    fn a_dead_disk_leaves_less_to_guard_with() {
        let volume = volume(1);
        let model = volume.model();
        let (names, habit) = (vec![1; 300], habit(6, 0.0));
        let total = |missing: &LostSet| {
            let subject = Subject { now: model, synced: model, missing, names: &names, habit: &habit };
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
        let (names, missing, habit) = (vec![1; 300], LostSet::new(), habit(6, 0.0));
        let subject = Subject { now: model, synced: model, missing: &missing, names: &names, habit: &habit };
        let assessment = assess(&subject, &conditions(6));
        // Losing the parity drive, every granule of every file is one that must be read.
        let granules: u64 = model.objects.iter().map(|o| o.size.granules()).sum();
        let expected = granules as f64 * (GRANULE * 8) as f64 * 1e-13;
        let parity: DiskSet = [index(5)].into_iter().collect();
        let found = assessment.process.losses.hazard(&DiskSet::default(), &parity).events;
        assert!((found - expected).abs() < expected * 1e-9, "{found} {expected}");
    }

    #[test]
    fn what_waits_on_caches_is_lost_when_all_its_copies_are() {
        let volume = volume(1);
        let model = volume.model();
        let (names, missing) = (vec![1; 300], LostSet::new());
        let mut conditions = conditions(8);
        conditions.disks[6].is_cache = true;
        conditions.disks[7].is_cache = true;
        let lost = |disks: &[usize], copies: u32| {
            let habit = habit(6, 3.0).waiting_for(2.0, copies);
            let subject =
                Subject { now: model, synced: model, missing: &missing, names: &names, habit: &habit };
            let set: DiskSet = disks.iter().map(|disk| index(*disk)).collect();
            ModelLosses::new(&subject, &conditions).loss(&set).waiting_files
        };
        // 18 files a day wait two days each.
        assert!((lost(&[6], 1) - 18.0).abs() < 1e-9 && (lost(&[6, 7], 1) - 36.0).abs() < 1e-9);
        assert!(lost(&[6], 2) == 0.0 && (lost(&[6, 7], 2) - 36.0).abs() < 1e-9);
        assert!(lost(&[0], 1) == 0.0);
    }
}
