//! The process played by chance, to check the closed form against.
//!
//! What is rare is played more often than it happens, and weighed accordingly (importance sampling): a third failure
//! that comes once in a million years is met thousands of times, each with the weight that it has.
//!
//! # Source
//! P. Heidelberger, "Fast Simulation of Rare Events in Queueing and Reliability Models": failure biasing.

use std::collections::HashMap;

use rand::{RngExt as _, SeedableRng};
use rand_chacha::ChaCha12Rng;
use rand_distr::{Distribution, Poisson};
use schemars::JsonSchema;
use serde::Serialize;

use super::process::{Cause, Figure, Hazard, Loss, Odds, Process, index};
use crate::fate::DiskSet;

/// What came of playing the process.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Simulated {
    /// Years that so many first failures take.
    pub years: f64,
    /// First failures that were played.
    pub failures: u64,
    /// What was lost in a year on average.
    pub odds: Odds,
    /// One standard error of each figure.
    pub errors: Odds,
    /// How often each cause was met, before it was weighed.
    #[serde(skip)]
    met: [u64; Cause::ALL.len()],
    /// How often anything was lost.
    #[serde(skip)]
    met_any: u64,
}

/// One figure by both ways.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Comparison {
    /// The cause; none for losing anything at all.
    pub cause: Option<Cause>,
    /// What is compared, per year.
    pub what: &'static str,
    /// By the closed form.
    pub closed: f64,
    /// By the simulation.
    pub simulated: f64,
    /// The error bar: four standard errors.
    pub error: f64,
    /// Whether they are within the error bar.
    pub agrees: bool,
}

/// Sum, and sum of squares, over cycles.
#[derive(Clone, Copy, Default)]
struct Tally {
    sum: f64,
    squares: f64,
    met: u64,
}

impl Tally {
    fn add(&mut self, value: f64) {
        self.sum += value;
        self.squares += value * value;
        self.met += u64::from(value > 0.0);
    }

    /// The standard error of the sum.
    fn error(self, cycles: f64) -> f64 {
        (self.squares - self.sum * self.sum / cycles).max(0.0).sqrt()
    }
}

/// Events, bytes and files of one cause.
#[derive(Clone, Copy, Default)]
struct CauseTally([Tally; 3]);

/// What one cycle cost, by cause: weighed events, bytes and files.
type Costs = [[f64; 3]; Cause::ALL.len()];

/// The least chance with which another disk is let fail within a window.
const OFTEN_ENOUGH: f64 = 0.4;
/// The least mean of what comes by chance.
const LEAST_MEAN: f64 = 0.2;
/// First failures that are played at most, and at least.
const CYCLES: std::ops::RangeInclusive<f64> = 1_000.0..=4e6;

/// Plays as many first failures as so many years have, always the same for the same seed.
pub fn simulate(process: &Process, years: f64, seed: u64) -> Simulated {
    let all: f64 = process.disks.iter().map(|d| d.rate).sum();
    let mut player = Player {
        process,
        chance: ChaCha12Rng::seed_from_u64(seed),
        known: HashMap::new(),
        tallies: Default::default(),
        any: Tally::default(),
        years: 0.0,
    };
    let cycles = if all > 0.0 { (years * all).round().clamp(*CYCLES.start(), *CYCLES.end()) } else { 0.0 };
    for _ in 0..cycles as u64 {
        player.years += 1.0 / all;
        player.cycle();
    }
    let per_year = |value: f64| if player.years > 0.0 { value / player.years } else { 0.0 };
    let figures = |of: &dyn Fn(Tally) -> f64| {
        let figure = |t: &CauseTally| Figure {
            events: per_year(of(t.0[0])),
            bytes: per_year(of(t.0[1])),
            files: per_year(of(t.0[2])),
        };
        Cause::ALL.into_iter().zip(player.tallies.iter().map(figure)).collect()
    };
    let error = |tally: Tally| tally.error(cycles.max(1.0));
    Simulated {
        years: player.years,
        failures: cycles as u64,
        odds: Odds { causes: figures(&|t| t.sum), any: per_year(player.any.sum) },
        errors: Odds { causes: figures(&error), any: per_year(error(player.any)) },
        met: player.tallies.map(|tally| tally.0[0].met),
        met_any: player.any.met,
    }
}

struct Player<'a> {
    process: &'a Process,
    chance: ChaCha12Rng,
    known: HashMap<DiskSet, Loss>,
    tallies: [CauseTally; Cause::ALL.len()],
    any: Tally,
    years: f64,
}

impl Player<'_> {
    /// So many times by chance, and how much likelier than it is that was.
    fn poisson(&mut self, mean: f64) -> (f64, f64) {
        if mean <= 0.0 {
            return (0.0, 1.0);
        }
        let played = mean.max(LEAST_MEAN);
        let times = Poisson::new(played).map_or(0.0, |distribution| distribution.sample(&mut self.chance));
        (times, (mean / played).powf(times) * (played - mean).exp())
    }

    /// Which of them, in proportion to their weights.
    fn choose(&mut self, weights: &[f64]) -> usize {
        let mut left = self.chance.random::<f64>() * weights.iter().sum::<f64>();
        let last = weights.iter().rposition(|w| *w > 0.0).unwrap_or(0);
        for (position, weight) in weights.iter().enumerate() {
            left -= weight;
            if left < 0.0 {
                return position;
            }
        }
        last
    }

    /// From a first failure until all disks are there again.
    fn cycle(&mut self) {
        let process = self.process;
        let since_sync = self.chance.random::<f64>() * process.sync_interval;
        let mut costs: Costs = Default::default();
        let (mut down, mut loss) = (DiskSet::default(), Loss::default());
        // How likely it is to come here, against how likely it was made; and with all that was drawn on the way.
        let (mut path, mut drawn, mut is_lossy) = (1.0, 1.0, false);
        let mut failed = 0;
        loop {
            let rates: Vec<f64> =
                (0..process.disks.len()).map(|disk| process.rate_beside(&down, disk)).collect();
            let disk = self.choose(&rates);
            let before = down;
            down.insert(index(disk));
            let then = *self.known.entry(down).or_insert_with(|| process.losses.loss(&down));
            let (cost, weight) = self.play_loss(&then.beyond(&loss), since_sync);
            add(&mut costs[process.cause_of(disk, failed).position()], cost, path * weight);
            let hazard = process.losses.hazard(&before, &down);
            let (met, unlikely) = self.play_hazard(hazard);
            add(&mut costs[Cause::Unreadable.position()], met, path * unlikely);
            drawn *= weight * unlikely;
            is_lossy |= cost[0] + met[0] > 0.0;
            loss = then;
            failed += 1;
            let others: f64 = (0..process.disks.len()).map(|other| process.rate_beside(&down, other)).sum();
            let goes_on = -(-others * process.disks[disk].window).exp_m1();
            self.years += path * if others > 0.0 { goes_on / others } else { process.disks[disk].window };
            let played = if others > 0.0 { goes_on.max(OFTEN_ENOUGH) } else { 0.0 };
            if self.chance.random::<f64>() >= played {
                path *= (1.0 - goes_on) / (1.0 - played);
                break;
            }
            path *= goes_on / played;
        }
        self.any.add(if is_lossy { path * drawn } else { 0.0 });
        for (tally, cost) in self.tallies.iter_mut().zip(costs) {
            tally.0.iter_mut().zip(cost).for_each(|(tally, value)| tally.add(value));
        }
    }

    /// Events, bytes and files; and the weight of what was drawn for them.
    fn play_loss(&mut self, loss: &Loss, since_sync: f64) -> ([f64; 3], f64) {
        let (fresh, likely) = self.poisson(loss.fresh_files * since_sync);
        let (waiting, as_likely) = self.poisson(loss.waiting_files);
        let each = |bytes: f64, files: f64| if files > 0.0 { bytes / files } else { 0.0 };
        let files = loss.files + fresh + waiting;
        let bytes = loss.bytes
            + fresh * each(loss.fresh_bytes, loss.fresh_files)
            + waiting * each(loss.waiting_bytes, loss.waiting_files);
        ([f64::from(files > 0.0), bytes, files], likely * as_likely)
    }

    fn play_hazard(&mut self, hazard: Hazard) -> ([f64; 3], f64) {
        let (times, weight) = self.poisson(hazard.events);
        ([f64::from(times > 0.0), times * hazard.bytes_each, times * hazard.files_each], weight)
    }
}

fn add(sum: &mut [f64; 3], more: [f64; 3], weight: f64) {
    sum.iter_mut().zip(more).for_each(|(sum, more)| *sum += weight * more);
}

/// Events from which on their average is trusted to be near a normal distribution.
const MANY: u64 = 100;
/// Standard errors that the two ways may lie apart: one line in 16,000 does so by chance.
const APART: f64 = 4.0;

/// Compares the closed form with the simulation, figure by figure, where enough was met.
pub fn compare(closed: &Odds, simulated: &Simulated) -> Vec<Comparison> {
    let mut all = Vec::new();
    let mut line = |cause, what, closed: f64, played: f64, error: f64, met: u64| {
        if met >= MANY {
            let error = APART * error + 1e-9 * closed;
            let agrees = (closed - played).abs() <= error;
            all.push(Comparison { cause, what, closed, simulated: played, error, agrees });
        }
    };
    let (odds, errors) = (&simulated.odds, &simulated.errors);
    line(None, "events", closed.any, odds.any, errors.any, simulated.met_any);
    for what in ["events", "bytes"] {
        for (cause, figure) in &closed.causes {
            let of = |figure: &Figure| if what == "events" { figure.events } else { figure.bytes };
            let (played, error) = (&odds.causes[cause], &errors.causes[cause]);
            let met = simulated.met[cause.position()];
            line(Some(*cause), what, of(figure), of(played), of(error), met);
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use std::rc::Rc;

    use super::super::closed::{closed_form, expected};
    use super::super::process::{Losses, RiskDisk};
    use super::*;
    use rstest::rstest;

    /// Losses with every cause in them.
    struct Made {
        scale: f64,
        depth: usize,
    }

    impl Losses for Made {
        fn loss(&self, lost: &DiskSet) -> Loss {
            let count = lost.count_in(lost) as usize;
            let sum: f64 = lost.iter().map(|disk| f64::from(disk.0) + 1.0).sum();
            let beyond = count.saturating_sub(self.depth - 1) as f64;
            Loss {
                bytes: beyond * sum * 5e9 * self.scale,
                files: beyond * 7.0,
                fresh_files: 0.01 * sum,
                fresh_bytes: 0.01 * sum * 3e6,
                waiting_files: if lost.contains(index(3)) { 0.5 } else { 0.0 },
                waiting_bytes: if lost.contains(index(3)) { 1e6 } else { 0.0 },
            }
        }

        fn hazard(&self, before: &DiskSet, lost: &DiskSet) -> Hazard {
            let sum: f64 = lost.iter().map(|disk| f64::from(disk.0) + 1.0).sum();
            let has = before.count_in(before) + 1;
            Hazard { events: 0.01 * sum * f64::from(has), bytes_each: 1e8, files_each: 2.0 }
        }

        fn depth(&self) -> usize {
            self.depth
        }
    }

    fn process(disks: usize, rate: f64, window: f64, depth: usize) -> Process {
        let disk = |n: usize| RiskDisk {
            name: format!("d{n}"),
            rate: rate * (1.0 + n as f64 / 3.0),
            batch: (n < 2).then(|| "march".to_string()),
            window: window * (1.0 + (n % 3) as f64),
            is_cache: n == 3,
        };
        Process {
            disks: (0..disks).map(disk).collect(),
            batch_factor: 3.0,
            sync_interval: 7.0,
            losses: Rc::new(Made { scale: 1.0, depth }),
        }
    }

    #[rstest]
    #[case(4, 0.08, 0.01, 2)]
    #[case(8, 0.3, 0.05, 3)]
    #[case(8, 0.03, 0.01, 4)]
    #[case(26, 0.015, 0.01, 3)]
    #[case(2, 2.0, 0.4, 1)]
    #[case(1, 0.5, 0.1, 1)]
    fn the_closed_form_and_the_simulation_agree(
        #[case] disks: usize,
        #[case] rate: f64,
        #[case] window: f64,
        #[case] depth: usize,
    ) {
        let process = process(disks, rate, window, depth);
        let closed = closed_form(&process);
        let all: f64 = process.disks.iter().map(|d| d.rate).sum();
        let simulated = simulate(&process, 20_000.0 / all, 11);
        let compared = compare(&closed, &simulated);
        assert!(compared.len() >= if disks > 2 { 9 } else { 4 }, "{compared:?}");
        for line in compared {
            assert!(line.agrees, "{line:?}");
        }
    }

    #[test]
    fn what_comes_once_in_a_thousand_million_years_is_measured() {
        // Three failures on top of each other, each within a week.
        let mut process = process(6, 0.002, 0.01, 4);
        process.batch_factor = 1.0;
        let closed = closed_form(&process);
        let further = closed.causes[&Cause::Further];
        let sure = simulate(&process, 40_000.0 / 0.02, 7);
        let compared = compare(&closed, &sure);
        let bytes = compared.iter().find(|l| l.cause == Some(Cause::Further) && l.what == "bytes").unwrap();
        assert!(bytes.agrees && bytes.error < 0.2 * further.bytes, "{bytes:?}");
        // By hand: four of six, one after another, each within the window of the one before.
        let rates: Vec<f64> = process.disks.iter().map(|d| d.rate).collect();
        let mut by_hand = 0.0;
        for a in 0..6 {
            for b in (0..6).filter(|b| *b != a) {
                for c in (0..6).filter(|c| ![a, b].contains(c)) {
                    for d in (0..6).filter(|d| ![a, b, c].contains(d)) {
                        let windows: f64 = [a, b, c].iter().map(|x| process.disks[*x].window).product();
                        let sum: f64 = [a, b, c, d].iter().map(|x| *x as f64 + 1.0).sum();
                        let cache = if d == 3 { 0.0 } else { 1.0 };
                        by_hand += cache * rates[a] * rates[b] * rates[c] * rates[d] * windows * sum * 5e9;
                    }
                }
            }
        }
        let fresh_free = Process { sync_interval: 0.0, ..process.clone() };
        let found = closed_form(&fresh_free).causes[&Cause::Further].bytes;
        // A fifth adds a little, and a window in which others fail is no whole one.
        assert!((found / by_hand - 1.0).abs() < 0.01, "{found} {by_hand}");
        assert!(found > 0.0 && expected(&process).beyond < 1e-9);
    }

    #[test]
    fn a_wrong_closed_form_is_noticed() {
        let process = process(6, 0.2, 0.02, 2);
        let simulated = simulate(&process, 50_000.0, 5);
        let mut wrong = process.clone();
        wrong.batch_factor = 1.0;
        assert!(compare(&closed_form(&wrong), &simulated).iter().any(|line| !line.agrees));
        wrong = process.clone();
        wrong.sync_interval = 8.0;
        assert!(compare(&closed_form(&wrong), &simulated).iter().any(|line| !line.agrees));
        wrong = process.clone();
        wrong.losses = Rc::new(Made { scale: 1.1, depth: 2 });
        assert!(compare(&closed_form(&wrong), &simulated).iter().any(|line| !line.agrees));
    }

    #[test]
    fn the_same_seed_plays_the_same_years() {
        let process = process(4, 0.1, 0.02, 2);
        let play = |seed| simulate(&process, 3_000.0, seed).odds;
        assert_eq!(play(3), play(3));
        assert_ne!(play(3), play(4));
    }

    #[test]
    fn where_nothing_fails_nothing_is_lost() {
        let mut process = process(3, 0.0, 0.1, 2);
        assert_eq!(closed_form(&process).any_in_a_year().to_bits(), 0.0f64.to_bits());
        process.disks.clear();
        assert_eq!(simulate(&process, 100.0, 1).failures, 0);
    }
}
