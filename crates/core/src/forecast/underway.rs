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
/// Seconds after which what was measured counts as much as what was thought.
const HALF_WEIGHT: f64 = 1.0;
/// A disk that was busy for nearly as large a share of the time as the busiest held the pass up like that one.
const AS_BUSY: f64 = 0.9;
/// Where no disk was busy for so large a share, something else held the pass up: the processor, or many small files.
const IDLE: f64 = 0.4;

/// The time that is left of a pass that has come to `position` (in bytes of its longest disk) after `elapsed` seconds.
///
/// The average so far is no guide: disks become slower towards their ends, and others fall out of the pass. So each disk
/// keeps the shape of its curve, and only its height is corrected; then the rest is forecast, at no more than `limit`
/// for each disk.
///
/// Of the disk that held the pass up it is known how fast it is: it moved its bytes in the time that passed. Of the others
/// it is known only that they are as fast as that at least; the time that they were busy says little, since the system
/// reads ahead and writes later. They are believed to be as their curves say.
pub fn remaining(
    pass: &Pass,
    position: ByteLength,
    measured: &[Measured],
    elapsed: f64,
    limit: Option<Rate>,
) -> Duration {
    let mut corrected = pass.clone();
    let busiest = measured.iter().map(|disk| disk.busy).fold(0.0, f64::max);
    if elapsed >= SHORTEST {
        let weight = elapsed / (elapsed + HALF_WEIGHT);
        for (disk, measured) in corrected.disks.iter_mut().zip(measured) {
            if measured.bytes > ByteLength::ZERO {
                let factor = as_seen(disk, measured, busiest, elapsed);
                disk.curve = disk.curve.scaled(factor.powf(weight));
            }
        }
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

/// How fast a disk was seen to be, against its curve.
fn as_seen(disk: &Participant, measured: &Measured, busiest: f64, elapsed: f64) -> f64 {
    let least = expected_alone(disk, measured.bytes) / elapsed;
    let held_up = measured.busy >= AS_BUSY * busiest || busiest < IDLE * elapsed;
    if held_up { least } else { least.max(1.0) }
}

/// How long a disk would take for its first bytes if nothing else held it up, in seconds.
fn expected_alone(disk: &Participant, bytes: ByteLength) -> f64 {
    let alone = Participant { end: bytes, link: None, ..disk.clone() };
    let pass = Pass { disks: vec![alone], ..Pass::default() };
    stretches(&pass).iter().map(|s| time_over(s.length, s.start, s.end)).sum()
}

/// How far one pass can change what is thought of a disk, at most.
const LEAP: f64 = 1.25;
/// The share of the time that a disk has to have been busy for the pass to tell how fast it is.
const SLOWEST: f64 = 0.6;

/// What is learned of a disk from a pass that is over, and took `elapsed` seconds: so many times as fast as its curve says
/// it is, after `former` had been thought before. Only the disk that held the pass up teaches anything; the more of its
/// space was passed over, the more it counts, and never more than a quarter at once: a few files may have come from a
/// cache.
pub fn learned(
    disk: &Participant,
    measured: &Measured,
    busiest: f64,
    elapsed: f64,
    former: f64,
) -> Option<f64> {
    const FULL_WEIGHT: f64 = 0.05;
    let was_slowest = measured.busy >= AS_BUSY * busiest && measured.busy >= SLOWEST * elapsed;
    if elapsed < 8.0 * SHORTEST || measured.bytes == ByteLength::ZERO || !was_slowest {
        return None;
    }
    let now = expected_alone(disk, measured.bytes) / elapsed;
    let share = measured.bytes.exact() as f64 / (disk.capacity.exact() as f64).max(1.0);
    let weight = share / (share + FULL_WEIGHT);
    let factor = former.powf(1.0 - weight) * now.powf(weight);
    Some(factor.clamp(former / LEAP, former * LEAP)).filter(|factor| factor.is_finite() && *factor > 0.0)
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
    fn a_whole_pass_teaches_more_than_a_few_files_and_none_makes_a_leap() {
        let disk = disk(4 * TB, 200e6, 0.5);
        let passed = |bytes: u64, factor: f64, busy: f64, former: f64| {
            let seconds = expected_alone(&disk, ByteLength::new(bytes)) / factor;
            let measured = Measured { bytes: ByteLength::new(bytes), busy: busy * seconds };
            learned(&disk, &measured, busy.max(0.9) * seconds, seconds, former)
        };
        let whole = passed(4 * TB, 0.9, 0.95, 1.0).unwrap();
        assert!((whole - 0.905).abs() < 0.01, "{whole}");
        let little = passed(TB / 1000, 0.9, 0.95, 1.0).unwrap();
        assert!((0.99..1.0).contains(&little), "{little}");
        assert!((passed(4 * TB, 0.2, 0.95, 1.0).unwrap() - 0.8).abs() < 1e-9, "no leap");
        // What is known already stays known.
        assert!((passed(4 * TB, 0.5, 0.95, 0.5).unwrap() - 0.5).abs() < 1e-9);
        assert_eq!(passed(4 * TB, 0.5, 0.3, 1.0), None, "it waited for another");
        let short = Measured { bytes: ByteLength::new(TB), busy: 1.5 };
        assert_eq!(learned(&disk, &short, 1.5, 1.5, 1.0), None);
    }

    #[test]
    fn only_the_disk_that_holds_the_pass_up_is_corrected() {
        let pass = Pass { disks: vec![disk(TB, 100e6, 1.0), disk(2 * TB, 200e6, 1.0)], ..Pass::default() };
        let half = ByteLength::new(TB / 2);
        // The first is half as fast as was thought; the second waits for it.
        let seen = |first: f64, second: f64| {
            let of = |busy: f64| Measured { bytes: half, busy };
            remaining(&pass, half, &[of(first), of(second)], 1e4, None).seconds()
        };
        let expected = 1e4 + TB as f64 / 200e6;
        assert!((seen(9.9e3, 2e3) / expected - 1.0).abs() < 0.01, "{} {expected}", seen(9.9e3, 2e3));
        // Where none was busy the processor was: all go on at that pace.
        let all_slow = 1e4 + 2e4;
        assert!((seen(2e3, 2e3) / all_slow - 1.0).abs() < 0.01, "{}", seen(2e3, 2e3));
    }

    #[test]
    fn nothing_measured_yet_is_the_forecast_and_the_end_is_nothing() {
        let pass = Pass { disks: vec![disk(TB, 200e6, 0.5)], ..Pass::default() };
        let all = super::super::forecast(&pass).likely.seconds();
        let none = [Measured::default()];
        assert!((remaining(&pass, ByteLength::ZERO, &none, 0.0, None).seconds() - all).abs() < 1.0);
        assert!(remaining(&pass, ByteLength::new(TB), &none, 0.0, None).seconds() < 1.0);
    }

    #[test]
    fn a_limit_decides_where_it_is_lower_than_the_disk() {
        let pass = Pass { disks: vec![disk(TB, 200e6, 0.5)], ..Pass::default() };
        let limited = |limit: f64| {
            let limit = Some(Rate::from_per_second(limit));
            remaining(&pass, ByteLength::new(TB / 2), &[Measured::default()], 0.0, limit).seconds()
        };
        assert!((limited(50e6) - 1e4).abs() < 1.0, "{}", limited(50e6));
        assert!(limited(1e9) < 5e3);
    }
}
