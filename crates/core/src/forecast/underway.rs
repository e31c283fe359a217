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

/// Below this a measurement says more about caches than about disks.
const SHORTEST: f64 = 0.25;

/// The time that is left of a pass that has come to `position` (in bytes of its longest disk).
///
/// The average so far is no guide: disks become slower towards their ends, and others fall out of the pass. So each disk
/// keeps the shape of its curve, and only its height is corrected, by what it took for the bytes that it has moved;
/// then the rest is forecast, at no more than `limit` for each disk.
pub fn remaining(pass: &Pass, position: ByteLength, measured: &[Measured], limit: Option<Rate>) -> Duration {
    let mut corrected = pass.clone();
    for (disk, measured) in corrected.disks.iter_mut().zip(measured) {
        if measured.busy < SHORTEST || measured.bytes == ByteLength::ZERO {
            continue;
        }
        disk.curve = disk.curve.scaled(expected_alone(disk, measured.bytes) / measured.busy);
    }
    for disk in &mut corrected.disks {
        disk.curve = limit.map_or_else(|| disk.curve.clone(), |limit| disk.curve.capped(limit));
    }
    let from = position.exact() as f64;
    let mut at = 0.0;
    let mut left = 0.0;
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

/// How long a disk would take for its first bytes if nothing else held it up, in seconds.
fn expected_alone(disk: &Participant, bytes: ByteLength) -> f64 {
    let alone = Participant { end: bytes, link: None, ..disk.clone() };
    let pass = Pass { disks: vec![alone], ..Pass::default() };
    stretches(&pass).iter().map(|s| time_over(s.length, s.start, s.end)).sum()
}

/// What is learned of a disk from a pass that is over: so many times as fast as its curve says it is, after `former` had
/// been thought before. The more of its space was passed over, the more it counts: a few files may have come from a cache.
/// Nothing, when too little was measured.
pub fn learned(disk: &Participant, measured: &Measured, former: f64) -> Option<f64> {
    const FULL_WEIGHT: f64 = 0.05;
    if measured.busy < 4.0 * SHORTEST || measured.bytes == ByteLength::ZERO {
        return None;
    }
    let now = expected_alone(disk, measured.bytes) / measured.busy;
    let share = measured.bytes.exact() as f64 / (disk.capacity.exact() as f64).max(1.0);
    let weight = share / (share + FULL_WEIGHT);
    Some(former.powf(1.0 - weight) * now.powf(weight)).filter(|factor| factor.is_finite() && *factor > 0.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::forecast::{CurveSource, SpeedCurve};
    use proptest::prelude::*;

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

    /// Runs a pass in small steps on disks that are as `truth` says, some better and some worse than `pass` has it, and
    /// compares what is said to remain with what does. Gives the worst error, and that of the plain average.
    fn worst_errors(pass: &Pass, truth: &[f64]) -> (f64, f64) {
        const STEPS: usize = 2000;
        let longest = pass.disks.iter().map(|disk| disk.end.exact()).max().unwrap() as f64;
        let step = longest / STEPS as f64;
        let mut measured = vec![Measured::default(); pass.disks.len()];
        let (mut times, mut said) = (vec![0.0], Vec::new());
        for number in 0..STEPS {
            let middle = (number as f64 + 0.5) * step;
            let mut slowest = 0.0_f64;
            for ((disk, factor), measured) in pass.disks.iter().zip(truth).zip(&mut measured) {
                if middle < disk.end.exact() as f64 {
                    // What a disk does is never quite the same.
                    let jitter = 1.0 + 0.2 * ((number * 7919) as f64).sin();
                    let rate = disk.curve.at(middle / disk.capacity.exact() as f64).per_second();
                    let seconds = step / (rate * factor * jitter);
                    measured.busy += seconds;
                    measured.bytes = ByteLength::new((middle + step / 2.0) as u64);
                    slowest = slowest.max(seconds);
                }
            }
            times.push(times[number] + slowest);
            let position = ByteLength::new(((number + 1) as f64 * step) as u64);
            said.push(remaining(pass, position, &measured, None).seconds());
        }
        let total = times[STEPS];
        let (mut worst, mut plain) = (0.0_f64, 0.0_f64);
        // The last moments are seconds: 10 % of nothing is nothing.
        for number in STEPS / 20..STEPS * 99 / 100 {
            let (elapsed, left) = (times[number + 1], total - times[number + 1]);
            worst = worst.max((said[number] - left).abs() / left);
            let share = (number + 1) as f64 / STEPS as f64;
            plain = plain.max((elapsed / share * (1.0 - share) - left).abs() / left);
        }
        (worst, plain)
    }

    #[test]
    fn a_whole_pass_teaches_much_and_a_few_files_little() {
        let disk = disk(4 * TB, 200e6, 0.5);
        let expected = |bytes: u64| expected_alone(&disk, ByteLength::new(bytes));
        let half_as_fast =
            |bytes: u64| Measured { bytes: ByteLength::new(bytes), busy: 2.0 * expected(bytes) };
        let whole = learned(&disk, &half_as_fast(4 * TB), 1.0).unwrap();
        assert!((whole - 0.5).abs() < 0.03, "{whole}");
        let little = learned(&disk, &half_as_fast(TB / 1000), 1.0).unwrap();
        assert!((0.98..1.0).contains(&little), "{little}");
        // What is known already stays known.
        assert!((learned(&disk, &half_as_fast(4 * TB), 0.5).unwrap() - 0.5).abs() < 1e-9);
        assert_eq!(learned(&disk, &Measured { bytes: ByteLength::new(TB), busy: 0.5 }, 1.0), None);
    }

    #[test]
    fn the_rest_of_a_pass_over_mixed_disks_is_told_within_a_tenth_at_every_moment() {
        let disks = vec![
            disk(12 * TB, 250e6, 0.45),
            disk(8 * TB, 180e6, 0.5),
            disk(4 * TB, 110e6, 0.55),
            disk(16 * TB, 270e6, 0.4),
        ];
        let pass = Pass { disks, ..Pass::default() };
        let (worst, plain) = worst_errors(&pass, &[0.7, 1.2, 0.9, 0.6]);
        assert!(worst < 0.1, "{worst}");
        assert!(plain > 2.0 * worst, "a plain average is off by {plain}");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn whatever_the_disks(
            shapes in prop::collection::vec((1..20u64, 60e6..300e6_f64, 0.3..0.9_f64, 0.5..1.5_f64), 1..6),
        ) {
            let disks = shapes.iter().map(|(size, outer, inner, _)| disk(size * TB, *outer, *inner)).collect();
            let truth: Vec<f64> = shapes.iter().map(|shape| shape.3).collect();
            let (worst, _) = worst_errors(&Pass { disks, ..Pass::default() }, &truth);
            prop_assert!(worst < 0.1, "{}", worst);
        }
    }

    #[test]
    fn nothing_measured_yet_is_the_forecast_and_the_end_is_nothing() {
        let pass = Pass { disks: vec![disk(TB, 200e6, 0.5)], ..Pass::default() };
        let all = super::super::forecast(&pass).likely.seconds();
        let none = [Measured::default()];
        assert!((remaining(&pass, ByteLength::ZERO, &none, None).seconds() - all).abs() < 1.0);
        assert!(remaining(&pass, ByteLength::new(TB), &none, None).seconds() < 1.0);
    }

    #[test]
    fn a_limit_decides_where_it_is_lower_than_the_disk() {
        let pass = Pass { disks: vec![disk(TB, 200e6, 0.5)], ..Pass::default() };
        let limited = |limit: f64| {
            let limit = Some(Rate::from_per_second(limit));
            remaining(&pass, ByteLength::new(TB / 2), &[Measured::default()], limit).seconds()
        };
        assert!((limited(50e6) - 1e4).abs() < 1.0, "{}", limited(50e6));
        assert!(limited(1e9) < 5e3);
    }
}
