//! The expected values of the process, in closed form.

use super::process::{Cause, Figure, Loss, Odds, Process};

/// Computes what is to be expected in a year.
///
/// A *cycle* runs from the moment that all disks are there until all are there again after a failure. By the
/// renewal-reward theorem what is expected per year is what is expected per cycle, over the expected length of one.
///
/// # Source
/// S. M. Ross, "Introduction to Probability Models": competing exponentials, renewal reward processes.
pub fn closed_form(process: &Process) -> Odds {
    let all: f64 = process.disks.iter().map(|d| d.rate).sum();
    if all <= 0.0 {
        return Odds { causes: Cause::ALL.map(|cause| (cause, Figure::default())).into(), any: 0.0 };
    }
    let mut sums = Sums::default();
    let mut years = 1.0 / all;
    for first in 0..process.disks.len() {
        let weight = process.disks[first].rate / all;
        if weight > 0.0 {
            years += weight * add_first(process, first, weight, &mut sums);
        }
    }
    let per_year =
        |f: Figure| Figure { events: f.events / years, bytes: f.bytes / years, files: f.files / years };
    let causes = [
        (Cause::Single, per_year(sums.single)),
        (Cause::Second, per_year(sums.second)),
        (Cause::Unreadable, per_year(sums.unreadable)),
        (Cause::Cache, per_year(sums.cache)),
    ];
    Odds { causes: causes.into(), any: sums.any / years }
}

/// How often disks fail first, and second, per year.
#[derive(Clone, Debug, Default)]
pub struct EventRates {
    /// By the disk.
    pub first: Vec<f64>,
    /// By the first to fail, then by the second.
    pub second: Vec<Vec<f64>>,
}

/// Computes how often each disk fails while all are there, and each pair after one another.
pub fn event_rates(process: &Process) -> EventRates {
    let count = process.disks.len();
    let all: f64 = process.disks.iter().map(|d| d.rate).sum();
    let mut rates = EventRates { first: vec![0.0; count], second: vec![vec![0.0; count]; count] };
    if all <= 0.0 {
        return rates;
    }
    let mut years = 1.0 / all;
    let mut ignored = Sums::default();
    for first in (0..count).filter(|disk| process.disks[*disk].rate > 0.0) {
        let weight = process.disks[first].rate / all;
        years += weight * add_first(process, first, weight, &mut ignored);
        let others = process.rate_of_others(first);
        let comes_second = -(-others * process.disks[first].window).exp_m1();
        rates.first[first] = weight;
        for second in (0..count).filter(|second| *second != first && others > 0.0) {
            rates.second[first][second] = weight * comes_second * process.rate_beside(first, second) / others;
        }
    }
    let per_year = |rate: &mut f64| *rate /= years;
    rates.first.iter_mut().for_each(per_year);
    rates.second.iter_mut().flatten().for_each(per_year);
    rates
}

/// What is expected per cycle.
#[derive(Default)]
struct Sums {
    single: Figure,
    second: Figure,
    unreadable: Figure,
    cache: Figure,
    /// Cycles in which anything is lost.
    any: f64,
}

/// Adds the cycles that begin with the failure of one disk; gives the expected years until all are there again.
fn add_first(process: &Process, first: usize, weight: f64, sums: &mut Sums) -> f64 {
    let interval = process.sync_interval;
    let single = &process.single[first];
    let figure = if process.cause_of(first) == Cause::Cache { &mut sums.cache } else { &mut sums.single };
    add(figure, weight, single, interval);
    let met = process.unreadable[first];
    sums.unreadable.events += weight * -(-met.events).exp_m1();
    sums.unreadable.bytes += weight * met.events * met.bytes_each;
    sums.unreadable.files += weight * met.events * met.files_each;

    let window = process.disks[first].window;
    let others = process.rate_of_others(first);
    let comes_second = -(-others * window).exp_m1();
    let mut years = if others > 0.0 { comes_second / others } else { window };
    // The chance that nothing is lost, by what happens in the window.
    let mut nothing = (1.0 - comes_second) * none_fresh(single.files_per_day, interval);
    for second in (0..process.disks.len()).filter(|second| *second != first) {
        let rate = process.rate_beside(first, second);
        if rate <= 0.0 {
            continue;
        }
        let chance = comes_second * rate / others;
        let cost = &process.second[first][second];
        add(&mut sums.second, weight * chance, cost, interval);
        let met = process.unreadable_pair[first][second];
        sums.unreadable.events += weight * chance * -(-met.events).exp_m1();
        sums.unreadable.bytes += weight * chance * met.events * met.bytes_each;
        sums.unreadable.files += weight * chance * met.events * met.files_each;
        years += chance * process.disks[second].window;
        if cost.files <= 0.0 {
            let fresh = single.files_per_day + cost.files_per_day;
            nothing += chance * (-met.events).exp() * none_fresh(fresh, interval);
        }
    }
    let is_sure = single.files > 0.0;
    sums.any += weight * if is_sure { 1.0 } else { 1.0 - (-met.events).exp() * nothing };
    years
}

fn add(figure: &mut Figure, weight: f64, loss: &Loss, interval: f64) {
    let fresh = loss.files_per_day * interval / 2.0;
    let nothing = if loss.files > 0.0 { 0.0 } else { none_fresh(loss.files_per_day, interval) };
    figure.events += weight * (1.0 - nothing);
    figure.bytes += weight * (loss.bytes + fresh * loss.bytes_each);
    figure.files += weight * (loss.files + fresh);
}

/// The chance that nothing came since the last sync, at a moment anywhere in the interval: the mean of exp(−rate·t).
fn none_fresh(rate: f64, interval: f64) -> f64 {
    let expected = rate * interval;
    if expected < 1e-9 { 1.0 } else { -(-expected).exp_m1() / expected }
}
