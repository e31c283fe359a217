//! When a disk will be full: a straight line through what was seen, with its uncertainty.

use schemars::JsonSchema;
use serde::Serialize;

/// Less than so many days tell nothing about a habit.
const LEAST_DAYS: f64 = 3.0;
/// From so many points on a line means something.
const LEAST_POINTS: usize = 4;
/// Further ahead nobody can see.
const MOST_DAYS: f64 = 3650.0;
/// So many standard errors to either side: about nineteen of twenty outcomes, where the points scatter by chance.
const WIDTH: f64 = 2.0;

/// In how many days something is full.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Filling {
    /// Bytes that come in a day.
    pub bytes_a_day: f64,
    /// Most likely, in days from the last point.
    pub likely: f64,
    /// At the earliest.
    pub earliest: f64,
    /// At the latest; none where it may never be.
    pub latest: Option<f64>,
}

/// From points of (days, bytes), in order, when a line through them reaches `full`.
///
/// Ordinary least squares; the slope is uncertain by its standard error (Draper and Smith, *Applied Regression Analysis*).
/// Nothing where it does not grow, or too little is known.
pub fn filling(points: &[(f64, f64)], full: f64) -> Option<Filling> {
    let (first, last) = (points.first()?, points.last()?);
    if points.len() < LEAST_POINTS || last.0 - first.0 < LEAST_DAYS || last.1 >= full {
        return None;
    }
    let n = points.len() as f64;
    let mean = |of: fn(&(f64, f64)) -> f64| points.iter().map(of).sum::<f64>() / n;
    let (x, y) = (mean(|p| p.0), mean(|p| p.1));
    let spread: f64 = points.iter().map(|p| (p.0 - x).powi(2)).sum();
    let slope = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>() / spread;
    let squares: f64 = points.iter().map(|p| (p.1 - y - slope * (p.0 - x)).powi(2)).sum();
    let error = (squares / (n - 2.0) / spread).sqrt();
    // From what there is now, not from the line: a large copy yesterday is there.
    let days = |slope: f64| (full - last.1) / slope;
    if slope <= 0.0 || days(slope) > MOST_DAYS {
        return None;
    }
    let slowest = slope - WIDTH * error;
    Some(Filling {
        bytes_a_day: slope,
        likely: days(slope),
        earliest: days(slope + WIDTH * error),
        latest: (slowest > 0.0).then(|| days(slowest)).filter(|days| *days <= MOST_DAYS),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_that_is_straight_is_certain() {
        let points: Vec<(f64, f64)> =
            (0..10).map(|day| (f64::from(day), 100.0 + 10.0 * f64::from(day))).collect();
        let found = filling(&points, 290.0).unwrap();
        assert!((found.likely - 10.0).abs() < 1e-9);
        assert!((found.earliest - 10.0).abs() < 1e-6 && (found.latest.unwrap() - 10.0).abs() < 1e-6);
    }

    #[test]
    fn one_that_scatters_is_not() {
        let points: Vec<(f64, f64)> = (0..20)
            .map(|day| (f64::from(day), 10.0 * f64::from(day) + if day % 2 == 0 { 60.0 } else { 0.0 }))
            .collect();
        let found = filling(&points, 1000.0).unwrap();
        assert!(found.earliest < found.likely && found.latest.unwrap() > found.likely);
    }

    #[test]
    fn what_does_not_grow_or_is_too_little_tells_nothing() {
        let flat: Vec<(f64, f64)> = (0..10).map(|day| (f64::from(day), 100.0)).collect();
        assert_eq!(filling(&flat, 200.0), None);
        assert_eq!(filling(&[(0.0, 1.0), (1.0, 2.0), (1.5, 3.0), (2.0, 4.0)], 200.0), None);
        assert_eq!(filling(&[], 1.0), None);
    }
}
