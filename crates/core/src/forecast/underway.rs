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
