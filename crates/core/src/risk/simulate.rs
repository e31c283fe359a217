//! The process played by chance, to check the closed form against.

use rand::{RngExt as _, SeedableRng};
use rand_chacha::ChaCha12Rng;
use rand_distr::{Distribution, Exp, Poisson};
use serde::Serialize;

use super::process::{Cause, Figure, Hazard, Loss, Odds, Process};

/// What came of playing the process.
#[derive(Clone, Debug, Serialize)]
pub struct Simulated {
    /// Years that were played.
    pub years: f64,
    /// First failures in them.
    pub failures: u64,
    /// What was lost in a year on average.
    pub odds: Odds,
    /// One standard error of each figure.
    pub errors: Odds,
    /// Third failures while two disks were being rebuilt: the closed form ends at two, and so their cost is not in it.
    pub thirds: u64,
}

/// One figure by both ways.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Comparison {
    /// The cause; none for losing anything at all.
    pub cause: Option<Cause>,
    /// What is compared, per year.
    pub what: &'static str,
    /// By the closed form.
    pub closed: f64,
    /// By the simulation.
    pub simulated: f64,
    /// The error bar: three standard errors.
    pub error: f64,
    /// Whether they are within the error bar.
    pub agrees: bool,
}

/// Sum, and sum of squares, over cycles.
#[derive(Clone, Copy, Default)]
struct Tally {
    sum: f64,
    squares: f64,
}

impl Tally {
    fn add(&mut self, value: f64) {
        self.sum += value;
        self.squares += value * value;
    }

    /// The standard error of the sum.
    fn error(self, cycles: f64) -> f64 {
        (self.squares - self.sum * self.sum / cycles).max(0.0).sqrt()
    }
}

/// Events, bytes and files of one cause.
#[derive(Clone, Copy, Default)]
struct CauseTally([Tally; 3]);

/// Plays so many years, always the same for the same seed.
pub fn simulate(process: &Process, years: f64, seed: u64) -> Simulated {
    let mut player =
        Player { process, chance: ChaCha12Rng::seed_from_u64(seed), tallies: Default::default(), any: 0 };
    let all: f64 = process.disks.iter().map(|d| d.rate).sum();
    let (mut now, mut failures, mut thirds) = (0.0, 0, 0);
    loop {
        now += player.exponential(all);
        if now >= years {
            break;
        }
        failures += 1;
        let (down, third) = player.cycle();
        now += down;
        thirds += u64::from(third);
    }
    let cycles = (failures as f64).max(1.0);
    let figures = |of: &dyn Fn(Tally) -> f64| -> Vec<(Cause, Figure)> {
        let figure = |t: &CauseTally| Figure {
            events: of(t.0[0]) / years,
            bytes: of(t.0[1]) / years,
            files: of(t.0[2]) / years,
        };
        Cause::ALL.into_iter().zip(player.tallies.iter().map(figure)).collect()
    };
    let any = player.any as f64;
    let odds = Odds { causes: figures(&|t| t.sum).into_iter().collect(), any: any / years };
    let errors =
        Odds { causes: figures(&|t| t.error(cycles)).into_iter().collect(), any: any.sqrt() / years };
    Simulated { years, failures, odds, errors, thirds }
}

struct Player<'a> {
    process: &'a Process,
    chance: ChaCha12Rng,
    tallies: [CauseTally; Cause::ALL.len()],
    any: u64,
}

impl Player<'_> {
    /// Years until something of that rate happens; never, where the rate is nothing.
    fn exponential(&mut self, rate: f64) -> f64 {
        if rate <= 0.0 {
            return f64::INFINITY;
        }
        Exp::new(rate).map_or(f64::INFINITY, |distribution| distribution.sample(&mut self.chance))
    }

    fn poisson(&mut self, mean: f64) -> f64 {
        Poisson::new(mean).map_or(0.0, |distribution| distribution.sample(&mut self.chance))
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

    /// From a first failure until all disks are there again: the years it took, and whether a third failed.
    fn cycle(&mut self) -> (f64, bool) {
        let process = self.process;
        let rates: Vec<f64> = process.disks.iter().map(|d| d.rate).collect();
        let first = self.choose(&rates);
        let since_sync = self.chance.random::<f64>() * process.sync_interval;
        // By cause, in the order of `Cause::ALL`: events, bytes and files.
        let mut lost = [[0.0; 3]; Cause::ALL.len()];
        let place = |cause| Cause::ALL.iter().position(|known| *known == cause).unwrap_or(0);
        let (second_failure, unreadable) = (place(Cause::Second), place(Cause::Unreadable));
        lost[place(process.cause_of(first))] = self.play_loss(&process.single[first], since_sync);
        add(&mut lost[unreadable], self.play_hazard(process.unreadable[first]));
        let window = process.disks[first].window;
        let others = process.rate_of_others(first);
        let until_second = self.exponential(others);
        let (down, third) = if until_second < window {
            let rates: Vec<f64> = (0..process.disks.len())
                .map(|other| if other == first { 0.0 } else { process.rate_beside(first, other) })
                .collect();
            let second = self.choose(&rates);
            lost[second_failure] = self.play_loss(&process.second[first][second], since_sync);
            add(&mut lost[unreadable], self.play_hazard(process.unreadable_pair[first][second]));
            let window = process.disks[second].window;
            let remaining = (others - rates[second]).max(0.0);
            (until_second + window, self.exponential(remaining) < window)
        } else {
            (window, false)
        };
        self.any += u64::from(lost.iter().any(|cause| cause[0] > 0.0));
        for (tally, cause) in self.tallies.iter_mut().zip(lost) {
            tally.0.iter_mut().zip(cause).for_each(|(tally, value)| tally.add(value));
        }
        (down, third)
    }

    /// Events, bytes and files.
    fn play_loss(&mut self, loss: &Loss, since_sync: f64) -> [f64; 3] {
        let fresh = self.poisson(loss.files_per_day * since_sync);
        let files = loss.files + fresh;
        [f64::from(files > 0.0), loss.bytes + fresh * loss.bytes_each, files]
    }

    fn play_hazard(&mut self, hazard: Hazard) -> [f64; 3] {
        let times = self.poisson(hazard.events);
        [f64::from(times > 0.0), times * hazard.bytes_each, times * hazard.files_each]
    }
}

fn add(sum: &mut [f64; 3], more: [f64; 3]) {
    sum.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
}

/// Events from which on their average size is trusted to be near a normal distribution.
const MANY: f64 = 30.0;

/// Compares the closed form with the simulation, figure by figure.
///
/// Counts are held against the square root of what is expected; bytes against what varied in the simulation, from 30
/// events on.
pub fn compare(closed: &Odds, simulated: &Simulated) -> Vec<Comparison> {
    let mut all = Vec::new();
    let years = simulated.years;
    let mut count = |cause, closed: f64, played: f64| {
        let error = 3.0 * (closed * years).max(1.0).sqrt() / years;
        all.push(Comparison {
            cause,
            what: "events",
            closed,
            simulated: played,
            error,
            agrees: (closed - played).abs() <= error,
        });
    };
    count(None, closed.any, simulated.odds.any);
    // What cannot happen is not worth a line.
    let can_happen =
        |cause: Cause, figure: &Figure| figure.events + simulated.odds.causes[&cause].events > 0.0;
    for (cause, figure) in closed.causes.iter().filter(|(cause, figure)| can_happen(**cause, figure)) {
        count(Some(*cause), figure.events, simulated.odds.causes[cause].events);
    }
    for (cause, figure) in &closed.causes {
        let (played, error) = (simulated.odds.causes[cause], 3.0 * simulated.errors.causes[cause].bytes);
        if played.events * years >= MANY {
            let agrees = (figure.bytes - played.bytes).abs() <= error;
            let (closed, simulated) = (figure.bytes, played.bytes);
            all.push(Comparison { cause: Some(*cause), what: "bytes", closed, simulated, error, agrees });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::super::closed::closed_form;
    use super::super::process::RiskDisk;
    use super::*;
    use rstest::rstest;

    /// A process with every cause in it, and disks that fail often, so that few years show much.
    fn process(disks: usize, rate: f64, window: f64) -> Process {
        let disk = |n: usize| RiskDisk {
            name: format!("d{n}"),
            rate: rate * (1.0 + n as f64 / 3.0),
            batch: (n < 2).then(|| "march".to_string()),
            window,
        };
        let loss = |n: usize, scale: f64| Loss {
            bytes: scale * if n == 1 { 5e9 } else { 0.0 },
            files: if n == 1 { 7.0 } else { 0.0 },
            files_per_day: 0.01 + 0.02 * n as f64,
            bytes_each: 3e6,
        };
        let hazard =
            |n: usize, m: usize| Hazard { events: 0.05 * (n + m) as f64, bytes_each: 1e8, files_each: 2.0 };
        Process {
            disks: (0..disks).map(disk).collect(),
            batch_factor: 3.0,
            sync_interval: 7.0,
            caches: (0..disks).map(|n| n == 3).collect(),
            single: (0..disks).map(|n| loss(n, 1.0)).collect(),
            second: (0..disks).map(|n| (0..disks).map(|m| loss(n + m, 10.0)).collect()).collect(),
            unreadable: (0..disks).map(|n| hazard(n, 0)).collect(),
            unreadable_pair: (0..disks).map(|n| (0..disks).map(|m| hazard(n, m)).collect()).collect(),
        }
    }

    #[rstest]
    #[case(4, 0.08, 0.01, 60_000.0)]
    #[case(8, 0.3, 0.05, 20_000.0)]
    #[case(2, 2.0, 0.4, 5_000.0)]
    #[case(1, 0.5, 0.1, 20_000.0)]
    fn the_closed_form_and_the_simulation_agree(
        #[case] disks: usize,
        #[case] rate: f64,
        #[case] window: f64,
        #[case] years: f64,
    ) {
        let process = process(disks, rate, window);
        let closed = closed_form(&process);
        let simulated = simulate(&process, years, 11);
        let compared = compare(&closed, &simulated);
        assert!(compared.len() >= if disks > 1 { 6 } else { 3 }, "bytes are compared too: {compared:?}");
        for line in compared {
            assert!(line.agrees, "{line:?}");
        }
    }

    #[test]
    fn a_wrong_closed_form_is_noticed() {
        let process = process(6, 0.2, 0.02);
        let simulated = simulate(&process, 50_000.0, 5);
        let mut wrong = process.clone();
        wrong.batch_factor = 1.0;
        assert!(compare(&closed_form(&wrong), &simulated).iter().any(|line| !line.agrees));
        wrong = process.clone();
        wrong.sync_interval = 8.0;
        assert!(compare(&closed_form(&wrong), &simulated).iter().any(|line| !line.agrees));
    }

    #[test]
    fn the_same_seed_plays_the_same_years() {
        let process = process(4, 0.1, 0.02);
        let play = |seed| simulate(&process, 3_000.0, seed).odds;
        assert_eq!(play(3), play(3));
        assert_ne!(play(3), play(4));
    }

    #[test]
    fn where_nothing_fails_nothing_is_lost() {
        let mut process = process(3, 0.0, 0.1);
        assert_eq!(closed_form(&process).any_in_a_year().to_bits(), 0.0f64.to_bits());
        process.disks.clear();
        assert_eq!(simulate(&process, 100.0, 1).failures, 0);
    }
}
