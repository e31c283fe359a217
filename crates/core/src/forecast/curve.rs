//! How fast a disk is from the start to the end of its space.

use crate::pool::Media;
use crate::units::Rate;

/// Where a curve comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum CurveSource {
    /// The disk was measured at that time, nanoseconds since 1970.
    Measured {
        /// When.
        at: i64,
    },
    /// The user said so.
    Given,
    /// It is assumed for the media.
    Assumed {
        /// On what grounds.
        grounds: &'static str,
    },
}

/// The sequential speed of a disk over its space: straight lines between points.
///
/// # Invariant
/// There is at least one point; shares rise from 0 to 1 and rates are positive.
#[derive(Clone, Debug, PartialEq)]
pub struct SpeedCurve {
    points: Vec<(f64, f64)>,
    source: CurveSource,
}

impl SpeedCurve {
    /// A curve through points of (share of the space, rate); nothing without a usable point.
    ///
    /// Points out of order, outside of the space or without a positive rate are left out.
    pub fn new(points: impl IntoIterator<Item = (f64, Rate)>, source: CurveSource) -> Option<Self> {
        let mut kept: Vec<(f64, f64)> = Vec::new();
        for (share, rate) in points {
            let in_order = kept.last().is_none_or(|(last, _)| share > *last);
            if (0.0..=1.0).contains(&share) && rate.per_second() > 0.0 && in_order {
                kept.push((share, rate.per_second()));
            }
        }
        (!kept.is_empty()).then_some(Self { points: kept, source })
    }

    /// The same speed everywhere.
    pub fn flat(rate: Rate, source: CurveSource) -> Option<Self> {
        Self::new([(0.0, rate)], source)
    }

    /// Where it comes from.
    pub const fn source(&self) -> &CurveSource {
        &self.source
    }

    /// The rate at a share of the space from 0 to 1; before the first point and behind the last one it is theirs.
    pub fn at(&self, share: f64) -> Rate {
        let behind = self.points.partition_point(|(s, _)| *s <= share);
        let rate = match (behind.checked_sub(1).map(|i| self.points[i]), self.points.get(behind)) {
            (Some((_, rate)), None) | (None, Some(&(_, rate))) => rate,
            (Some((from, low)), Some(&(to, high))) => low + (high - low) * (share - from) / (to - from),
            (None, None) => 0.0,
        };
        Rate::from_per_second(rate)
    }

    /// The shares at which the curve bends.
    pub fn bends(&self) -> impl Iterator<Item = f64> {
        self.points.iter().map(|(share, _)| *share)
    }

    /// The curve of a disk of which no more than so much is asked.
    #[must_use]
    pub fn capped(&self, most: Rate) -> Self {
        let points = self
            .points
            .iter()
            .map(|(share, rate)| (*share, Rate::from_per_second(rate.min(most.per_second()))));
        Self::new(points, self.source.clone()).unwrap_or_else(|| self.clone())
    }

    /// The curve of a disk that is so many times as fast everywhere.
    #[must_use]
    pub fn scaled(&self, factor: f64) -> Self {
        let points = self.points.iter().map(|(share, rate)| (*share, Rate::from_per_second(rate * factor)));
        Self::new(points, self.source.clone()).unwrap_or_else(|| self.clone())
    }

    /// A curve of a part of the space, completed by the shape of another one before its first point and behind its last:
    /// how fast a disk is where it was not measured follows from its kind, not from where it was measured.
    #[must_use]
    pub fn completed(&self, shape: &Self) -> Self {
        let (Some(first), Some(last)) = (self.points.first().copied(), self.points.last().copied()) else {
            return self.clone();
        };
        let meets = |(share, rate): (f64, f64)| rate / shape.at(share).per_second().max(f64::MIN_POSITIVE);
        let scaled = |share: f64, factor: f64| (share, shape.at(share).per_second() * factor);
        let borders = || [0.0].into_iter().chain(shape.bends()).chain([1.0]);
        let mut points: Vec<(f64, f64)> =
            borders().filter(|s| *s < first.0 - EDGE).map(|s| scaled(s, meets(first))).collect();
        points.extend(&self.points);
        points.extend(borders().filter(|s| *s > last.0 + EDGE).map(|s| scaled(s, meets(last))));
        let points = points.into_iter().map(|(share, rate)| (share, Rate::from_per_second(rate)));
        Self::new(points, self.source.clone()).unwrap_or_else(|| self.clone())
    }

    /// The mean rate over the whole space: its length over the time that a pass takes.
    ///
    /// # Source
    /// The time over a stretch on which the speed goes in a straight line from u to v is
    /// length · ln(v/u) / (v − u), the integral of 1/speed.
    pub fn mean(&self) -> Rate {
        let mut borders: Vec<f64> = [0.0, 1.0].into_iter().chain(self.bends()).collect();
        borders.sort_by(f64::total_cmp);
        let time: f64 = borders
            .windows(2)
            .map(|b| time_over(b[1] - b[0], self.at(b[0]).per_second(), self.at(b[1]).per_second()))
            .sum();
        Rate::from_per_second(1.0 / time)
    }
}

/// A curve that reaches so near to an end reaches it: points are means of what lies around them.
const EDGE: f64 = 0.05;

/// The time for `length` while the speed goes in a straight line from `u` to `v`.
pub(super) fn time_over(length: f64, u: f64, v: f64) -> f64 {
    if length <= 0.0 {
        return 0.0;
    }
    if (v - u).abs() < 1e-9 * u.max(v) { length / u } else { length * (v / u).ln() / (v - u) }
}

/// The curve that is assumed for a disk that was never measured.
///
/// # Source
/// Hard disks write zones of constant density at constant speed of rotation, so a track's rate goes with its
/// radius; on a 3.5-inch disk the outermost track is about twice as long as the innermost (B. Jacob, S. Ng,
/// D. Wang, "Memory Systems: Cache, DRAM, Disk", on zoned recording). The rates themselves are cautious round
/// figures for disks of the last ten years; a measured curve takes their place.
pub fn default_curve(media: Option<Media>) -> SpeedCurve {
    let (start, end, grounds) = match media {
        Some(Media::Ssd) => (450.0, 450.0, "an SSD behind a 6 Gbit/s disk interface"),
        Some(Media::Nvme) => (1500.0, 1500.0, "an SSD on the peripheral bus, after its fast area is full"),
        Some(Media::Hdd) | None => {
            (180.0, 90.0, "a 3.5-inch hard disk: half as fast at the end as at the start")
        }
    };
    let megabytes = |m: f64| Rate::from_per_second(m * 1e6);
    SpeedCurve::new([(0.0, megabytes(start)), (1.0, megabytes(end))], CurveSource::Assumed { grounds })
        .expect("both points are usable")
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn curve(points: &[(f64, f64)]) -> SpeedCurve {
        let points = points.iter().map(|(s, r)| (*s, Rate::from_per_second(*r)));
        SpeedCurve::new(points, CurveSource::Given).unwrap()
    }

    #[test]
    fn rates_lie_on_straight_lines_between_the_points() {
        let curve = curve(&[(0.2, 100.0), (0.6, 60.0)]);
        for (share, rate) in [(0.0, 100.0), (0.2, 100.0), (0.4, 80.0), (0.6, 60.0), (1.0, 60.0)] {
            assert!((curve.at(share).per_second() - rate).abs() < 1e-9, "at {share}");
        }
    }

    #[test]
    fn the_mean_of_a_falling_disk_by_hand() {
        // From 200 to 100: the time for 1 is ln(1/2)/(-100) = 0.0069315, so the mean is 144.27.
        let mean = curve(&[(0.0, 200.0), (1.0, 100.0)]).mean().per_second();
        assert!((mean - 144.269).abs() < 0.001, "{mean}");
        assert!((curve(&[(0.0, 70.0)]).mean().per_second() - 70.0).abs() < 1e-9);
    }

    #[test]
    fn a_part_is_completed_by_the_shape_of_the_kind() {
        let shape = curve(&[(0.0, 180.0), (1.0, 90.0)]);
        // The first fifth was measured, at a speed a third higher than is assumed there.
        let part = curve(&[(0.02, 238.0), (0.2, 216.0)]).completed(&shape);
        assert!((part.at(0.2).per_second() - 216.0).abs() < 1e-9);
        assert!((part.at(1.0).per_second() - 90.0 * 216.0 / 162.0).abs() < 1e-9, "{part:?}");
        assert!((part.at(0.6).per_second() - 168.0).abs() < 1e-9, "{part:?}");
        let end = curve(&[(0.8, 54.0), (0.99, 45.0)]).completed(&shape);
        assert!((end.at(0.0).per_second() - 180.0 * 54.0 / 108.0).abs() < 1e-9, "{end:?}");
        let whole = curve(&[(0.02, 200.0), (0.98, 100.0)]);
        assert_eq!(whole.completed(&shape), whole);
    }

    #[test]
    fn unusable_points_are_left_out() {
        let point = |s, r| (s, Rate::from_per_second(r));
        let kept = SpeedCurve::new(
            [point(0.5, 10.0), point(0.4, 20.0), point(0.7, 0.0), point(1.5, 9.0), point(0.9, f64::NAN)],
            CurveSource::Given,
        );
        assert_eq!(kept.unwrap().bends().collect::<Vec<_>>(), [0.5]);
        assert_eq!(SpeedCurve::new([point(2.0, 1.0)], CurveSource::Given), None);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn the_mean_lies_between_the_slowest_and_the_fastest(rates in prop::collection::vec(1.0..1e9f64, 1..6)) {
            let last = (rates.len() - 1).max(1) as f64;
            let points: Vec<(f64, f64)> = rates.iter().enumerate().map(|(i, r)| (i as f64 / last, *r)).collect();
            let mean = curve(&points).mean().per_second();
            let (low, high) = rates.iter().fold((f64::MAX, 0f64), |(l, h), r| (l.min(*r), h.max(*r)));
            prop_assert!(low * 0.999_999 <= mean && mean <= high * 1.000_001);
        }
    }
}
