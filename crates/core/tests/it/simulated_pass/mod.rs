//! A pass over disks that are not as they were thought to be, in small steps.

use sieve_core::forecast::{CurveSource, Measured, Participant, Pass, SpeedCurve, Underway};
use sieve_core::units::{ByteLength, Rate};

pub(crate) const TB: u64 = 1_000_000_000_000;

/// A disk that falls from its first rate to a share of it, in bytes per second.
pub(crate) fn disk(size: u64, outer: f64, inner: f64) -> Participant {
    let rate = Rate::from_per_second;
    let points = [(0.0, rate(outer)), (0.5, rate(outer * (0.6 + 0.4 * inner))), (1.0, rate(outer * inner))];
    let curve = SpeedCurve::new(points, CurveSource::Measured { at: 0 }).expect("three good points");
    let (end, capacity) = (ByteLength::new(size), ByteLength::new(size));
    Participant { name: "disk".into(), end, capacity, curve, link: None }
}

/// Runs a pass in small steps on disks that are as `truth` says, some better and some worse than `pass` has it, and
/// compares what is said to remain with what does. Gives the worst error, and that of the plain average.
///
/// Only the disk that holds the others up is seen busy all the time; the system reads and writes ahead for the others.
pub(crate) fn worst_errors(pass: &Pass, truth: &[f64]) -> (f64, f64) {
    const STEPS: usize = 2000;
    let longest = pass.disks.iter().map(|disk| disk.end.exact()).max().expect("there are disks") as f64;
    let step = longest / STEPS as f64;
    let mut underway = Underway::begin(pass.clone(), None);
    let mut measured = vec![Measured::default(); pass.disks.len()];
    let (mut times, mut said) = (vec![0.0], Vec::new());
    for number in 0..STEPS {
        let middle = (number as f64 + 0.5) * step;
        let mut seconds_of = vec![0.0; pass.disks.len()];
        for (place, ((disk, factor), measured)) in pass.disks.iter().zip(truth).zip(&mut measured).enumerate()
        {
            if middle < disk.end.exact() as f64 {
                // What a disk does is never quite the same.
                let jitter = 1.0 + 0.2 * ((number * 7919) as f64).sin();
                let rate = disk.curve.at(middle / disk.capacity.exact() as f64).per_second();
                let seconds = step / (rate * factor * jitter);
                measured.bytes = ByteLength::new((middle + step / 2.0) as u64);
                seconds_of[place] = seconds;
            }
        }
        let slowest = seconds_of.iter().copied().fold(0.0, f64::max);
        for (seconds, measured) in seconds_of.iter().zip(&mut measured) {
            measured.busy += if *seconds >= slowest { *seconds } else { 0.5 * seconds };
        }
        times.push(times[number] + slowest);
        let position = ByteLength::new(((number + 1) as f64 * step) as u64);
        underway.note(times[number + 1], measured.clone());
        said.push(underway.remaining(position).seconds());
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

/// Four disks of a home, and how they really are.
pub(crate) fn mixed() -> (Pass, [f64; 4]) {
    let disks = vec![
        disk(12 * TB, 250e6, 0.45),
        disk(8 * TB, 180e6, 0.5),
        disk(4 * TB, 110e6, 0.55),
        disk(16 * TB, 270e6, 0.4),
    ];
    (Pass { disks, ..Pass::default() }, [0.95, 1.05, 0.6, 0.97])
}
