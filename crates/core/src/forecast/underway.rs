//! A pass that is under way: how long the rest takes, from the forecast's curves and what was measured so far.

use super::pass::{Participant, Pass, stretches};
use super::{Duration, time_over};
use crate::units::{ByteLength, Rate};

/// What was measured of one disk since the pass began.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Measured {
    /// Bytes that it moved.
    pub bytes: ByteLength,
    /// How long it was busy with them, in seconds: time that it waited for others is not counted.
    pub busy: f64,
}

/// Below this a measurement says more about caches than about disks, in seconds.
const SHORTEST: f64 = 0.25;
/// Seconds after which what was measured counts as much as what was thought; and that as a share of the time so far.
const HALF_WEIGHT: f64 = 2.0;
const HALF_WEIGHT_SHARE: f64 = 0.01;
/// A disk that was busy for nearly as large a share of the time as the busiest held the pass up like that one.
const AS_BUSY: f64 = 0.9;
/// Where no disk was busy for so large a share, something else held the pass up: the processor, or many small files.
const IDLE: f64 = 0.4;
/// What counts is what happened lately: it fades over this share of the time so far, and over at least so many seconds.
const LATELY: f64 = 0.15;
const LEAST_LATELY: f64 = 3.0;

/// A pass that is under way.
///
/// The average so far is no guide to what remains: disks become slower towards their ends, and others fall out of the
/// pass. So each disk keeps the shape of its curve, and only its height is corrected; then the rest is forecast.
///
/// Of the disk that holds the pass up it is known how fast it is: it moved its bytes in the time that passed. Of the
/// others it is known only that they are as fast as that at least; the time that they were busy says little, since the
/// system reads ahead and writes later. They are believed to be as their curves say, corrected by what was seen of them
/// when they held the pass up.
#[derive(Clone, Debug)]
pub struct Underway {
    pass: Pass,
    limit: Option<Rate>,
    /// What was measured last, and after how many seconds.
    last: (f64, Vec<Measured>),
    /// What was seen of each disk.
    seen: Vec<Seen>,
}

/// What was seen of a disk lately: how long it should have taken by its curve for what it moved, and how long that took.
#[derive(Clone, Copy, Debug, Default)]
struct Seen {
    /// At all times.
    all: Ratio,
    /// While it held the pass up.
    held_up: Ratio,
    /// While it was the busiest, and busy indeed; of the whole pass, and what it moved then.
    taught: (Ratio, ByteLength),
}

#[derive(Clone, Copy, Debug, Default)]
struct Ratio {
    expected: f64,
    taken: f64,
}

impl Ratio {
    fn add(&mut self, expected: f64, taken: f64, keep: f64) {
        self.expected = self.expected * keep + expected;
        self.taken = self.taken * keep + taken;
    }

    /// How fast it was against its curve; the less was seen, the nearer to what was thought.
    fn factor(self, elapsed: f64) -> f64 {
        if self.expected <= 0.0 || self.taken <= 0.0 {
            return 1.0;
        }
        let half = HALF_WEIGHT.max(HALF_WEIGHT_SHARE * elapsed);
        (self.expected / self.taken).powf(self.taken / (self.taken + half))
    }
}

impl Seen {
    fn factor(self, elapsed: f64) -> f64 {
        // It is as fast at least as it was while it waited for others.
        self.held_up.factor(elapsed).max(self.all.factor(elapsed))
    }
}

impl Underway {
    /// A pass begins, at no more than `limit` for each disk.
    pub fn begin(pass: Pass, limit: Option<Rate>) -> Self {
        let count = pass.disks.len();
        let last = (0.0, vec![Measured::default(); count]);
        Self { seen: vec![Seen::default(); count], last, pass, limit }
    }

    /// The pass as it was thought to be.
    pub const fn pass(&self) -> &Pass {
        &self.pass
    }

    /// This was measured of each disk after `elapsed` seconds.
    pub fn note(&mut self, elapsed: f64, measured: Vec<Measured>) {
        let (from, before) = &self.last;
        let stretch = elapsed - from;
        if stretch < SHORTEST {
            return;
        }
        let busy = |place: usize| measured[place].busy - before[place].busy;
        let busiest = (0..measured.len()).map(busy).fold(0.0, f64::max);
        let keep = (-stretch / (LATELY * elapsed).max(LEAST_LATELY)).exp();
        for (place, (disk, seen)) in self.pass.disks.iter().zip(&mut self.seen).enumerate() {
            let (then, now) = (before[place].bytes, measured[place].bytes);
            if now >= disk.end {
                continue;
            }
            let expected = expected_alone(disk, now) - expected_alone(disk, then);
            seen.all.add(expected, stretch, keep);
            if busy(place) >= AS_BUSY * busiest || busiest < IDLE * stretch {
                seen.held_up.add(expected, stretch, keep);
            }
            if busy(place) >= (AS_BUSY * busiest).max(SLOWEST * stretch) {
                seen.taught.0.add(expected, stretch, 1.0);
                seen.taught.1 = seen.taught.1.plus(now.minus(then));
            }
        }
        self.last = (elapsed, measured);
    }

    /// What is learned of a disk of the pass: so many times as fast as it is thought to be before anything was learned, after
    /// `former` times, of which the curve of the pass knows already. Only while it held the pass up did it teach anything;
    /// the more of its space was passed over then, the more it counts, and never more than a quarter at once: a few files may
    /// have come from a cache.
    pub fn learned(&self, place: usize, former: f64) -> Option<f64> {
        const FULL_WEIGHT: f64 = 0.05;
        let (disk, (Ratio { expected, taken }, bytes)) = (&self.pass.disks[place], self.seen[place].taught);
        if taken < 8.0 * SHORTEST || bytes == ByteLength::ZERO {
            return None;
        }
        let share = bytes.exact() as f64 / (disk.capacity.exact() as f64).max(1.0);
        let weight = share / (share + FULL_WEIGHT);
        let factor = former * (expected / taken).powf(weight).clamp(1.0 / LEAP, LEAP);
        Some(factor).filter(|factor| factor.is_finite() && *factor > 0.0)
    }

    /// The time that is left when the pass has come to `position`, in bytes of its longest disk.
    pub fn remaining(&self, position: ByteLength) -> Duration {
        let mut corrected = self.pass.clone();
        for (disk, seen) in corrected.disks.iter_mut().zip(&self.seen) {
            let curve = disk.curve.scaled(seen.factor(self.last.0));
            disk.curve = self.limit.map_or_else(|| curve.clone(), |limit| curve.capped(limit));
        }
        let from = position.exact() as f64;
        let (mut at, mut left) = (0.0, 0.0);
        for stretch in stretches(&corrected) {
            let (start, end) = (at, at + stretch.length);
            at = end;
            if end <= from {
                continue;
            }
            // A stretch that is half over is cut where the pass is.
            let done = ((from - start) / stretch.length).clamp(0.0, 1.0);
            let pace = stretch.start + (stretch.end - stretch.start) * done;
            left += time_over(stretch.length * (1.0 - done), pace, stretch.end);
        }
        Duration::from_seconds(left)
    }
}

/// How long a disk would take for its first bytes if nothing else held it up, in seconds.
fn expected_alone(disk: &Participant, bytes: ByteLength) -> f64 {
    let alone = Participant { end: bytes, link: None, ..disk.clone() };
    let pass = Pass { disks: vec![alone], ..Pass::default() };
    stretches(&pass).iter().map(|s| time_over(s.length, s.start, s.end)).sum()
}

/// How far one pass can change what is thought of a disk, at most.
const LEAP: f64 = 1.25;
/// The share of a time that a disk has to have been busy for it to tell how fast the disk is.
const SLOWEST: f64 = 0.6;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::forecast::{CurveSource, SpeedCurve};

    const TB: u64 = 1_000_000_000_000;

    /// A disk that falls from its first rate to a share of it, in bytes per second.
    fn disk(size: u64, outer: f64, inner: f64) -> Participant {
        let rate = Rate::from_per_second;
        let points =
            [(0.0, rate(outer)), (0.5, rate(outer * (0.6 + 0.4 * inner))), (1.0, rate(outer * inner))];
        let curve = SpeedCurve::new(points, CurveSource::Measured { at: 0 }).unwrap();
        let (end, capacity) = (ByteLength::new(size), ByteLength::new(size));
        Participant { name: "disk".into(), end, capacity, curve, link: None }
    }

    #[test]
    fn a_whole_pass_teaches_more_than_a_few_files_and_none_makes_a_leap() {
        let passed = |bytes: u64, factor: f64, busy: f64, former: f64| {
            let disk = disk(4 * TB, 200e6, 0.5);
            let seconds = expected_alone(&disk, ByteLength::new(bytes)) / factor;
            let mut underway = Underway::begin(Pass { disks: vec![disk], ..Pass::default() }, None);
            let moved = ByteLength::new(bytes.min(4 * TB - 1));
            underway.note(seconds, vec![Measured { bytes: moved, busy: busy * seconds }]);
            underway.learned(0, former)
        };
        let whole = passed(4 * TB, 0.9, 0.95, 1.0).unwrap();
        assert!((whole - 0.905).abs() < 0.01, "{whole}");
        let little = passed(TB / 1000, 0.9, 0.95, 1.0).unwrap();
        assert!((0.99..1.0).contains(&little), "{little}");
        assert!((passed(4 * TB, 0.2, 0.95, 1.0).unwrap() - 0.8).abs() < 1e-9, "no leap");
        assert!(
            (passed(4 * TB, 1.0, 0.95, 0.5).unwrap() - 0.5).abs() < 1e-9,
            "what is known already stays known"
        );
        assert_eq!(passed(4 * TB, 0.5, 0.3, 1.0), None, "it waited for another");
        assert_eq!(passed(TB / 10_000, 1.0, 1.0, 1.0), None, "over in a moment");
    }

    /// Each disk teaches of the time in which it held the others up alone: it is no slower for going on without one.
    #[test]
    fn a_disk_that_is_through_before_the_others_is_not_slow() {
        let pass = Pass { disks: vec![disk(TB, 50e6, 1.0), disk(2 * TB, 100e6, 1.0)], ..Pass::default() };
        let of = |bytes: u64, busy: f64| Measured { bytes: ByteLength::new(bytes), busy };
        let mut underway = Underway::begin(pass, None);
        underway.note(1e4, vec![of(TB / 2, 1e4), of(TB / 2, 4e3)]);
        underway.note(1.99e4, vec![of(TB - TB / 200, 1.99e4), of(TB - TB / 200, 8e3)]);
        underway.note(2.01e4, vec![of(TB, 2e4), of(TB, 8e3)]);
        underway.note(2.9e4, vec![of(TB, 2e4), of(2 * TB - TB / 10, 1.6e4)]);
        for place in 0..2 {
            let learned = underway.learned(place, 1.0).unwrap();
            assert!((learned - 1.0).abs() < 0.02, "disk {place}: {learned}");
        }
    }

    /// What is told to remain, in seconds, after `elapsed` seconds in which this was measured.
    fn left(pass: &Pass, position: u64, measured: Vec<Measured>, elapsed: f64, limit: Option<Rate>) -> f64 {
        let mut underway = Underway::begin(pass.clone(), limit);
        underway.note(elapsed, measured);
        underway.remaining(ByteLength::new(position)).seconds()
    }

    #[test]
    fn only_the_disk_that_holds_the_pass_up_is_corrected() {
        let pass = Pass { disks: vec![disk(TB, 100e6, 1.0), disk(2 * TB, 200e6, 1.0)], ..Pass::default() };
        // The first is half as fast as was thought; the second waits for it.
        let seen = |first: f64, second: f64| {
            let of = |busy: f64| Measured { bytes: ByteLength::new(TB / 2), busy };
            left(&pass, TB / 2, vec![of(first), of(second)], 1e4, None)
        };
        let expected = 1e4 + TB as f64 / 200e6;
        assert!((seen(9.9e3, 2e3) / expected - 1.0).abs() < 0.02, "{} {expected}", seen(9.9e3, 2e3));
        // Where none was busy the processor was: all go on at that pace.
        let all_slow = 1e4 + 2e4;
        assert!((seen(2e3, 2e3) / all_slow - 1.0).abs() < 0.02, "{}", seen(2e3, 2e3));
    }

    #[test]
    fn a_disk_that_waited_is_not_slow_when_its_turn_comes() {
        let pass = Pass { disks: vec![disk(TB, 50e6, 1.0), disk(3 * TB, 200e6, 1.0)], ..Pass::default() };
        let of = |bytes: u64, busy: f64| Measured { bytes: ByteLength::new(bytes), busy };
        let mut underway = Underway::begin(pass, None);
        // The first, slower one is through after 20,000 s; then the second goes on at its own pace.
        underway.note(1e4, vec![of(TB / 2, 1e4), of(TB / 2, 2.5e3)]);
        underway.note(2e4, vec![of(TB, 2e4), of(TB, 5e3)]);
        underway.note(2.5e4, vec![of(TB, 2e4), of(2 * TB, 1e4)]);
        let told = underway.remaining(ByteLength::new(2 * TB)).seconds();
        assert!((told / 5e3 - 1.0).abs() < 0.05, "{told}");
    }

    #[test]
    fn nothing_measured_yet_is_the_forecast_and_the_end_is_nothing() {
        let pass = Pass { disks: vec![disk(TB, 200e6, 0.5)], ..Pass::default() };
        let all = super::super::forecast(&pass).likely.seconds();
        let none = || vec![Measured::default()];
        assert!((left(&pass, 0, none(), 0.0, None) - all).abs() < 1.0);
        assert!(left(&pass, TB, none(), 0.0, None) < 1.0);
    }

    #[test]
    fn a_limit_decides_where_it_is_lower_than_the_disk() {
        let pass = Pass { disks: vec![disk(TB, 200e6, 0.5)], ..Pass::default() };
        let limited = |limit: f64| {
            let limit = Some(Rate::from_per_second(limit));
            left(&pass, TB / 2, vec![Measured::default()], 0.0, limit)
        };
        assert!((limited(50e6) - 1e4).abs() < 1.0, "{}", limited(50e6));
        assert!(limited(1e9) < 5e3);
    }
}
