//! What a year may cost, against every order in which disks can fail, gone through one by one: what each order costs is
//! counted row by row and file by file.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use sieve_core::fate::{
    DiskIndex, LaneState, LostSet, Model, ObjectState, ParityState, Standing, StatedPiece, VersionState,
};
use sieve_core::lane::Rows;
use sieve_core::risk::*;
use sieve_core::units::{ByteLength, GRANULE, ParityIndex, Slot};

/// A file of a lane: the rows before it that are free, its rows.
type Drawn = Vec<(u64, u64)>;

/// A volume as it is drawn, and what is assumed about its disks: data disks first, then parity, then caches.
#[derive(Clone, Debug)]
struct Volume {
    lanes: Vec<Drawn>,
    parities: usize,
    caches: usize,
    disks: Vec<RiskDisk>,
    per_bit: Vec<f64>,
    /// Which disk is missing from the start.
    missing: Option<usize>,
    batch_factor: f64,
    sync_interval: f64,
    /// Files a day that come to each disk.
    arrivals: Vec<f64>,
    /// Files that wait on caches, and on how many each of them lies.
    waiting: (f64, u32),
}

const BYTES_A_FILE: f64 = 2e6;
const BITS_A_ROW: f64 = (GRANULE * 8) as f64;

fn volume() -> impl Strategy<Value = Volume> {
    let lane = prop::collection::vec((0..6u64, 1..9u64), 0..4);
    let shape = (prop::collection::vec(lane, 1..4), 0..3usize, 0..3usize);
    let disk = (0.005..0.8f64, 0.001..0.15f64, 0..4u8, 1e-9..1e-6f64, prop_oneof![Just(0.0), 0.0..0.3f64]);
    let disks = prop::collection::vec(disk, 8);
    let rest = (prop::option::weighted(0.25, 0..8usize), 1.0..6.0f64, 0.5..30.0f64, 0.0..4.0f64, 1..3u32);
    (shape, disks, rest).prop_map(|((lanes, parities, caches), drawn, rest)| {
        let count = lanes.len() + parities + caches;
        let first_cache = lanes.len() + parities;
        let missing = rest.0.filter(|disk| *disk < first_cache);
        let disk = |(number, drawn): (usize, &(f64, f64, u8, f64, f64))| RiskDisk {
            name: format!("d{number}"),
            rate: if missing == Some(number) { 0.0 } else { drawn.0 },
            batch: (drawn.2 < 2).then(|| format!("batch {}", drawn.2)),
            window: drawn.1,
            is_cache: number >= first_cache,
        };
        Volume {
            disks: drawn.iter().take(count).enumerate().map(disk).collect(),
            per_bit: drawn.iter().take(count).map(|one| one.3).collect(),
            arrivals: drawn.iter().take(count).map(|one| one.4).collect(),
            lanes,
            parities,
            caches,
            missing,
            batch_factor: rest.1,
            sync_interval: rest.2,
            waiting: (rest.3, rest.4),
        }
    })
}

/// A file: its disk and its rows.
struct File {
    disk: usize,
    rows: std::ops::Range<u64>,
}

impl File {
    fn bytes(&self) -> f64 {
        ((self.rows.end - self.rows.start) * GRANULE) as f64
    }
}

type Set = BTreeSet<usize>;

#[derive(Clone, Copy, Default)]
struct Cost {
    bytes: f64,
    files: f64,
}

impl Volume {
    fn files(&self) -> Vec<File> {
        let mut files = Vec::new();
        for (disk, lane) in self.lanes.iter().enumerate() {
            let mut row = 0;
            for (gap, length) in lane {
                files.push(File { disk, rows: row + gap..row + gap + length });
                row += gap + length;
            }
        }
        files
    }

    fn model(&self) -> Model {
        let mut model = Model::default();
        for disk in 0..self.lanes.len() {
            let (disk, slot) = (DiskIndex(disk as u16), Slot::new(disk as u8));
            model.lanes.push(LaneState { disk, slot, pieces: Vec::new() });
        }
        for File { disk, rows } in self.files() {
            let (version, length) = (model.versions.len() as u32, rows.end - rows.start);
            let size = ByteLength::new(length * GRANULE);
            let piece =
                StatedPiece { rows: Rows::new(rows.start, rows.end), version, offset: 0, stale: false };
            model.lanes[disk].pieces.push(piece);
            model.versions.push(VersionState { size, cell: 4, data: length, mapped: length, recorded: 1 });
            let disk = DiskIndex(disk as u16);
            let standing = Standing::Same;
            let version = Some(version);
            model.objects.push(ObjectState { disk, size, version, standing, older: None, catalogued: None });
        }
        for parity in 0..self.parities {
            let disk = DiskIndex((self.lanes.len() + parity) as u16);
            let index = ParityIndex::new(parity as u8);
            model.parities.push(ParityState::new(disk, index, ParityState::ALL, Vec::new()));
        }
        model
    }

    /// Of a row the data disks that have something in it, and all parity drives: any as many of them as there are
    /// parity drives may be lost.
    fn takes_part(&self, row: u64) -> (Vec<(usize, f64)>, Vec<usize>) {
        let files = self.files();
        let data = files.iter().filter(|file| file.rows.contains(&row)).map(|file| (file.disk, file.bytes()));
        (data.collect(), (self.lanes.len()..self.lanes.len() + self.parities).collect())
    }

    fn lost_in(&self, row: u64, lost: &Set) -> usize {
        let (data, parities) = self.takes_part(row);
        data.iter().map(|(disk, _)| *disk).chain(parities).filter(|disk| lost.contains(disk)).count()
    }

    fn with_missing(&self, lost: &Set) -> Set {
        lost.iter().copied().chain(self.missing).collect()
    }

    /// What is lost with these disks right after a sync, and was not with the missing one alone.
    fn cost(&self, lost: &Set) -> Cost {
        let is_lost = |file: &File, lost: &Set| {
            lost.contains(&file.disk) && file.rows.clone().any(|row| self.lost_in(row, lost) > self.parities)
        };
        let mut cost = Cost::default();
        for file in self.files() {
            if is_lost(&file, &self.with_missing(lost)) && !is_lost(&file, &self.with_missing(&Set::new())) {
                cost.bytes += file.bytes();
                cost.files += 1.0;
            }
        }
        cost
    }

    /// Files a day that come to these disks.
    fn fresh(&self, lost: &Set) -> f64 {
        let is_guarded = self.parities > 0;
        let data = lost.iter().filter(|disk| **disk < self.lanes.len() + self.parities && is_guarded);
        data.map(|disk| self.arrivals[*disk]).sum()
    }

    /// What waits on caches and has all its copies on these.
    fn waiting(&self, lost: &Set) -> f64 {
        let caches: Vec<usize> = (0..self.disks.len()).filter(|disk| self.disks[*disk].is_cache).collect();
        if caches.is_empty() {
            return 0.0;
        }
        let copies = (self.waiting.1 as usize).min(caches.len());
        let choices: Vec<Set> = (0..1u32 << caches.len())
            .map(|bits| (0..caches.len()).filter(|n| bits >> n & 1 == 1).map(|n| caches[n]).collect::<Set>())
            .filter(|choice| choice.len() == copies)
            .collect();
        let gone = choices.iter().filter(|choice| choice.is_subset(lost)).count();
        self.waiting.0 * gone as f64 / choices.len() as f64
    }

    /// Unreadable sectors, and what they cost together, while these are rebuilt: in the rows where nothing is to spare,
    /// and something was while `before` were.
    fn sectors(&self, before: &Set, lost: &Set) -> (f64, Cost) {
        let (before, lost) = (self.with_missing(before), self.with_missing(lost));
        let (mut events, mut cost) = (0.0, Cost::default());
        if self.parities == 0 {
            return (events, cost);
        }
        let end = self.files().iter().map(|file| file.rows.end).max().unwrap_or(0);
        for row in 0..end {
            if self.lost_in(row, &lost) != self.parities || self.lost_in(row, &before) >= self.parities {
                continue;
            }
            let (data, parities) = self.takes_part(row);
            let taken: Vec<f64> =
                data.iter().filter(|(disk, _)| lost.contains(disk)).map(|(_, size)| *size).collect();
            let own = data.iter().map(|(disk, size)| (*disk, Some(*size)));
            let all = own.chain(parities.into_iter().map(|disk| (disk, None)));
            for (disk, own) in all.filter(|(disk, _)| !lost.contains(disk)) {
                let often = BITS_A_ROW * self.per_bit[disk];
                events += often;
                cost.bytes += often * (taken.iter().sum::<f64>() + own.unwrap_or(0.0));
                cost.files += often * (taken.len() as f64 + f64::from(u8::from(own.is_some())));
            }
        }
        (events, cost)
    }

    /// The chance that anything of a loss is met, at a moment anywhere between two syncs: by Simpson's rule.
    fn any_of(&self, files: f64, fresh: f64, waiting: f64) -> f64 {
        const STEPS: u32 = 400;
        let met = |days: f64| if files > 0.0 { 1.0 } else { -(-(fresh * days + waiting)).exp_m1() };
        let step = self.sync_interval / f64::from(STEPS);
        let weight = |n| {
            if n == 0 || n == STEPS {
                1.0
            } else if n % 2 == 1 {
                4.0
            } else {
                2.0
            }
        };
        let sum: f64 = (0..=STEPS).map(|n| weight(n) * met(f64::from(n) * step)).sum();
        sum * step / 3.0 / self.sync_interval
    }

    fn rate(&self, disk: usize, down: &Set) -> f64 {
        let one = &self.disks[disk];
        let of_batch = one.batch.is_some() && down.iter().any(|other| self.disks[*other].batch == one.batch);
        match (down.contains(&disk), of_batch) {
            (true, _) => 0.0,
            (false, true) => one.rate * self.batch_factor,
            (false, false) => one.rate,
        }
    }
}

/// Sums over every order of failures.
#[derive(Default)]
struct Sums {
    years: f64,
    any: f64,
    causes: BTreeMap<Cause, Figure>,
}

impl Volume {
    /// Goes on from an order of failures that has this chance, and met no unreadable sector that cost anything with that one.
    fn go(&self, order: &mut Vec<usize>, chance: f64, quiet: f64, sums: &mut Sums) {
        let down: Set = order.iter().copied().collect();
        let window = order.last().map_or(f64::INFINITY, |last| self.disks[*last].window);
        let others: f64 = (0..self.disks.len()).map(|disk| self.rate(disk, &down)).sum();
        let goes_on = if others > 0.0 { 1.0 - (-others * window).exp() } else { 0.0 };
        sums.years += chance * if others > 0.0 { goes_on / others } else { window };
        let cost = self.cost(&down);
        let spared = 1.0 - self.any_of(cost.files, self.fresh(&down), self.waiting(&down));
        sums.any += chance * (1.0 - goes_on) * (1.0 - quiet * spared);
        for disk in 0..self.disks.len() {
            let rate = self.rate(disk, &down);
            if rate <= 0.0 {
                continue;
            }
            let chance = chance * goes_on * rate / others;
            let mut then = down.clone();
            then.insert(disk);
            let met = self.meet(&down, &then, disk, chance, sums);
            order.push(disk);
            self.go(order, chance, quiet * (1.0 - met), sums);
            order.pop();
        }
    }

    /// Counts what one more failure costs; the chance of an unreadable sector that costs something.
    fn meet(&self, down: &Set, then: &Set, disk: usize, chance: f64, sums: &mut Sums) -> f64 {
        let cause = match down.len() {
            _ if self.disks[disk].is_cache => Cause::Cache,
            0 => Cause::Single,
            1 => Cause::Second,
            _ => Cause::Further,
        };
        let (before, after) = (self.cost(down), self.cost(then));
        let fresh = self.fresh(then) - self.fresh(down);
        let waiting = self.waiting(then) - self.waiting(down);
        let files = after.files - before.files;
        let since = self.sync_interval / 2.0;
        let figure = sums.causes.entry(cause).or_default();
        figure.events += chance * self.any_of(files, fresh, waiting);
        figure.files += chance * (files + fresh * since + waiting);
        figure.bytes += chance * (after.bytes - before.bytes + (fresh * since + waiting) * BYTES_A_FILE);
        let (events, cost) = self.sectors(down, then);
        let met = 1.0 - (-events).exp();
        let figure = sums.causes.entry(Cause::Unreadable).or_default();
        figure.events += chance * met;
        figure.bytes += chance * cost.bytes;
        figure.files += chance * cost.files;
        met
    }
}

fn assessed(volume: &Volume) -> Odds {
    let (model, names) = (volume.model(), vec![1; volume.files().len()]);
    let missing: LostSet = volume.missing.map(|disk| DiskIndex(disk as u16)).into_iter().collect();
    let arrivals =
        volume.arrivals.iter().map(|files| Arrivals { files: *files, bytes: files * BYTES_A_FILE });
    let (files, copies) = volume.waiting;
    let waiting = (volume.caches > 0).then_some(Waiting { files, bytes: files * BYTES_A_FILE, copies });
    let habit = Habit { arrivals: arrivals.collect(), waiting, source: HabitSource::Given };
    let subject = Subject { now: &model, synced: &model, missing: &missing, names: &names, habit: &habit };
    let conditions = Conditions {
        disks: volume.disks.clone(),
        per_bit: volume.per_bit.clone(),
        batch_factor: volume.batch_factor,
        sync_interval: volume.sync_interval,
    };
    assess(&subject, &conditions).odds
}

proptest! {
    #![proptest_config(ProptestConfig { cases: crate::cases(300), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_year_costs_what_all_orders_of_failures_cost_together(volume in volume()) {
        prop_assume!(volume.disks.iter().any(|disk| disk.rate > 0.0));
        let mut plain = Sums::default();
        volume.go(&mut Vec::new(), 1.0, 1.0, &mut plain);
        let odds = assessed(&volume);
        let total = odds.total();
        // What so rarely happens that it changes nothing is left out.
        let near = |a: f64, b: f64, all: f64| (a - b).abs() <= 1e-6 * all + 1e-4 * a.abs().max(b.abs());
        prop_assert!(near(odds.any, plain.any / plain.years, odds.any), "any: {} {}", odds.any, plain.any / plain.years);
        for (cause, found) in &odds.causes {
            let by_orders = plain.causes.get(cause).copied().unwrap_or_default();
            let pairs = [
                (found.events, by_orders.events, total.events),
                (found.files, by_orders.files, total.files),
                (found.bytes, by_orders.bytes, total.bytes),
            ];
            for (found, plainly, all) in pairs {
                let plainly = plainly / plain.years;
                prop_assert!(near(found, plainly, all), "{cause:?}: {found} against {plainly}");
            }
        }
    }
}
