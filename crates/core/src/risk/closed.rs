//! The expected values of the process, in closed form: over all sets of disks that can be down together.

use std::collections::HashMap;

use super::process::{Cause, Figure, Hazard, Loss, Odds, Process, index};
use crate::fate::DiskSet;

/// The most sets of disks of one size that are reckoned with.
const MOST_SETS: usize = 400_000;
/// What further failures may cost at most, against everything found so far, for them to be left out.
const NEGLIGIBLE: f64 = 1e-7;
/// The same for the cycles in which anything is lost at all: a figure of two digits is made of them.
const NEGLIGIBLE_CYCLES: f64 = 1e-5;

/// What is to be expected, and how it comes about.
pub struct Expected {
    /// The figures of a year.
    pub odds: Odds,
    /// How often per year a set of disks comes to be down by the failure of one more: the set before, the set then.
    pub steps: Vec<Step>,
    /// How often per year more disks fail than were reckoned with.
    pub beyond: f64,
    /// Failures while all are there, per year.
    pub cycles: f64,
}

/// A failure on top of others.
#[derive(Clone, Copy, Debug)]
pub struct Step {
    /// What was down.
    pub before: DiskSet,
    /// What is down then.
    pub then: DiskSet,
    /// How often per year.
    pub yearly: f64,
}

/// Computes what is to be expected in a year.
///
/// A *cycle* runs from the moment that all disks are there until all are there again after a failure. By the
/// renewal-reward theorem what is expected per year is what is expected per cycle, over the expected length of one.
/// Within a cycle the disks that are down, and the window that runs, are all that matters for what comes: so paths to the
/// same are added up, level by level, until what is left can change nothing.
///
/// # Source
/// S. M. Ross, "Introduction to Probability Models": competing exponentials, renewal reward processes.
pub fn closed_form(process: &Process) -> Odds {
    expected(process).odds
}

/// As [`closed_form`], with the steps that it consists of.
pub fn expected(process: &Process) -> Expected {
    let all: f64 = process.disks.iter().map(|d| d.rate).sum();
    let mut sums = Sums { years: 1.0 / all, ..Sums::default() };
    let mut level = vec![State::start()];
    let mut failed = 0;
    while all > 0.0 && !level.is_empty() {
        let next = sums.fail_one_more(process, &level, failed);
        failed += 1;
        let tail: f64 = next.iter().map(|state| state.weight * state.goes_on(process)).sum();
        let is_known = failed >= process.losses.depth().max(3)
            && sums.is_negligible(process, tail)
            && sums.changes_no_cycle(process, &next);
        let is_last = is_known || failed >= process.disks.len() || too_many(process, next.len());
        for state in &next {
            sums.end(process, state, is_last);
        }
        if is_last {
            sums.beyond = if is_known || failed >= process.disks.len() { 0.0 } else { tail };
            break;
        }
        level = next;
    }
    sums.per_year()
}

/// Whether the sets of one disk more would be too many to go through.
fn too_many(process: &Process, sets: usize) -> bool {
    sets.saturating_mul(process.disks.len()) > MOST_SETS * 16 || sets > MOST_SETS
}

/// Disks that are down, with the window of the last of them running.
#[derive(Clone)]
struct State {
    down: DiskSet,
    window: f64,
    loss: Loss,
    /// The chance that a cycle comes here without an unreadable sector that costs anything, and with one.
    quiet: f64,
    loud: f64,
    /// Their sum.
    weight: f64,
}

impl State {
    /// All are there; the first failure comes for sure.
    fn start() -> Self {
        Self {
            down: DiskSet::default(),
            window: f64::INFINITY,
            loss: Loss::default(),
            quiet: 1.0,
            loud: 0.0,
            weight: 1.0,
        }
    }

    fn rate_of_others(&self, process: &Process) -> f64 {
        (0..process.disks.len()).map(|disk| process.rate_beside(&self.down, disk)).sum()
    }

    /// The chance that another disk fails within the window.
    fn goes_on(&self, process: &Process) -> f64 {
        -(-self.rate_of_others(process) * self.window).exp_m1()
    }
}

/// What is expected per cycle.
#[derive(Default)]
struct Sums {
    causes: [Figure; Cause::ALL.len()],
    /// Cycles in which anything is lost.
    any: f64,
    /// Its length.
    years: f64,
    steps: Vec<(DiskSet, DiskSet, f64)>,
    beyond: f64,
}

impl Sums {
    /// Goes from each state to those with one more disk down.
    fn fail_one_more(&mut self, process: &Process, level: &[State], failed: usize) -> Vec<State> {
        let mut next: HashMap<(DiskSet, u64), State> = HashMap::new();
        let mut known: HashMap<DiskSet, Loss> = HashMap::new();
        for state in level {
            let others = state.rate_of_others(process);
            let goes_on = -(-others * state.window).exp_m1();
            for disk in 0..process.disks.len() {
                let chance = goes_on * process.rate_beside(&state.down, disk) / others.max(f64::MIN_POSITIVE);
                if chance <= 0.0 {
                    continue;
                }
                let mut down = state.down;
                down.insert(index(disk));
                let loss = *known.entry(down).or_insert_with(|| process.losses.loss(&down));
                let hazard = process.losses.hazard(&state.down, &down);
                let weight = state.weight * chance;
                let cause = process.cause_of(disk, failed);
                self.lose(cause, weight, &loss.beyond(&state.loss), process.sync_interval);
                self.meet(weight, &hazard);
                self.steps.push((state.down, down, weight));
                let window = process.disks[disk].window;
                let entry = next.entry((down, window.to_bits())).or_insert_with(|| State {
                    down,
                    window,
                    loss,
                    quiet: 0.0,
                    loud: 0.0,
                    weight: 0.0,
                });
                let meets_one = -(-hazard.events).exp_m1();
                entry.quiet += state.quiet * chance * (1.0 - meets_one);
                entry.loud += chance * (state.loud + state.quiet * meets_one);
                entry.weight += weight;
            }
        }
        let mut next: Vec<State> = next.into_values().collect();
        // Always in the same order, so that sums are the same to the last digit.
        next.sort_unstable_by_key(|state| (state.down, state.window.to_bits()));
        next
    }

    fn lose(&mut self, cause: Cause, weight: f64, loss: &Loss, interval: f64) {
        let figure = &mut self.causes[cause.position()];
        let since = interval / 2.0;
        figure.events += weight * any_of(loss, interval);
        figure.bytes += weight * (loss.bytes + loss.fresh_bytes * since + loss.waiting_bytes);
        figure.files += weight * (loss.files + loss.fresh_files * since + loss.waiting_files);
    }

    fn meet(&mut self, weight: f64, hazard: &Hazard) {
        let figure = &mut self.causes[Cause::Unreadable.position()];
        figure.events += weight * -(-hazard.events).exp_m1();
        figure.bytes += weight * hazard.events * hazard.bytes_each;
        figure.files += weight * hazard.events * hazard.files_each;
    }

    /// What of a state ends with all disks there again; all of it, where nothing further is reckoned with.
    fn end(&mut self, process: &Process, state: &State, is_last: bool) {
        let others = state.rate_of_others(process);
        let goes_on = if is_last { 0.0 } else { -(-others * state.window).exp_m1() };
        // The mean of the time until another fails, or until the window ends.
        let stays = if others > 0.0 { -(-others * state.window).exp_m1() / others } else { state.window };
        self.years += state.weight * stays;
        let loses = any_of(&state.loss, process.sync_interval);
        self.any += (1.0 - goes_on) * (state.loud + state.quiet * loses);
    }

    /// Whether what so often fails on can cost nothing beside what was found, even if it takes everything.
    fn is_negligible(&self, process: &Process, tail: f64) -> bool {
        let everything: DiskSet = (0..process.disks.len()).map(index).collect();
        let most = process.losses.loss(&everything);
        let since = process.sync_interval / 2.0;
        let all_bytes = most.bytes + most.fresh_bytes * since + most.waiting_bytes;
        let all_files = most.files + most.fresh_files * since + most.waiting_files;
        let bytes: f64 = self.causes.iter().map(|figure| figure.bytes).sum();
        let files: f64 = self.causes.iter().map(|figure| figure.files).sum();
        tail * all_bytes <= NEGLIGIBLE * bytes && tail * all_files <= NEGLIGIBLE * files
    }

    /// Whether hardly a cycle of these that has lost nothing yet can go on to where it does.
    fn changes_no_cycle(&self, process: &Process, level: &[State]) -> bool {
        let interval = process.sync_interval;
        let (mut spared, mut lossy) = (0.0, self.any);
        for state in level {
            let loses = state.loud + state.quiet * any_of(&state.loss, interval);
            lossy += loses;
            spared += (state.weight - loses) * state.goes_on(process);
        }
        spared <= NEGLIGIBLE_CYCLES * lossy
    }

    fn per_year(self) -> Expected {
        if !self.years.is_finite() {
            let causes = Cause::ALL.map(|cause| (cause, Figure::default())).into();
            return Expected { odds: Odds { causes, any: 0.0 }, steps: Vec::new(), beyond: 0.0, cycles: 0.0 };
        }
        let years = self.years;
        let figures = self.causes.map(|f| Figure {
            events: f.events / years,
            bytes: f.bytes / years,
            files: f.files / years,
        });
        let step = |(before, then, weight)| Step { before, then, yearly: weight / years };
        Expected {
            odds: Odds { causes: Cause::ALL.into_iter().zip(figures).collect(), any: self.any / years },
            steps: self.steps.into_iter().map(step).collect(),
            beyond: self.beyond / years,
            cycles: 1.0 / years,
        }
    }
}

/// The chance that a loss costs anything, at a moment anywhere in the interval between two syncs.
pub(super) fn any_of(loss: &Loss, interval: f64) -> f64 {
    if loss.files > 0.0 {
        return 1.0;
    }
    let waiting = -(-loss.waiting_files).exp_m1();
    waiting + (1.0 - waiting) * some_fresh(loss.fresh_files, interval)
}

/// The chance that something came since the last sync: 1 less the mean of exp(−rate·t).
fn some_fresh(rate: f64, interval: f64) -> f64 {
    let expected = rate * interval;
    // The difference of two numbers that are nearly the same would lose its digits.
    if expected < 1e-4 {
        return expected / 2.0 - expected * expected / 6.0;
    }
    1.0 + (-expected).exp_m1() / expected
}
