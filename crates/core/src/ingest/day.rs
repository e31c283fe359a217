//! The cache through a day: what arrives, what is settled, when it overflows.

use serde::Serialize;

use crate::forecast::Duration;
use crate::units::{ByteLength, Rate, SizeError};

/// Minutes of a day.
const DAY: f64 = 1440.0;
/// Days that are worked through; the last one is what is told.
const DAYS: u32 = 3;

/// Something that arrives every day.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
pub struct Arrival {
    /// When it begins, in minutes of the day.
    pub start: f64,
    /// How long it takes, in minutes.
    pub minutes: f64,
    /// How much.
    pub bytes: ByteLength,
}

/// When the cache is settled, in minutes of the day.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(transparent)]
pub struct SettleTimes(pub Vec<f64>);

/// What cannot be read of a day.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum DayError {
    /// It is no arrival.
    #[error("`{0}` is no arrival: write \"22:00-02:00 200GB\"")]
    Arrival(String),
    /// It is no time to settle.
    #[error("`{0}` is no time to settle: write \"every 2h\" or \"03:00, 15:00\"")]
    Settle(String),
    /// A size in it is none.
    #[error("{0}")]
    Size(#[from] SizeError),
}

/// How full the cache is through a day.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Day {
    /// Minutes of the day, and what waits on the cache then; straight lines in between.
    pub level: Vec<(f64, ByteLength)>,
    /// The most that ever waits: the smallest cache that does not overflow.
    pub most: ByteLength,
    /// When a cache of the given size first overflows, in minutes of the day.
    pub overflows_at: Option<f64>,
    /// How long it has no room.
    pub overflowing: Duration,
    /// More arrives in a day than is settled in one: no cache is large enough.
    pub grows_without_end: bool,
}

fn minute(text: &str) -> Option<f64> {
    let (hours, minutes) = text.trim().split_once(':')?;
    let (hours, minutes): (u32, u32) = (hours.parse().ok()?, minutes.parse().ok()?);
    (hours < 24 && minutes < 60).then(|| f64::from(hours * 60 + minutes))
}

/// Reads "22:00-02:00 200GB, 07:00-07:30 20GB".
///
/// # Errors
/// When a part of it is no arrival.
pub fn parse_arrivals(text: &str) -> Result<Vec<Arrival>, DayError> {
    let parts = text.split(',').map(str::trim).filter(|p| !p.is_empty());
    parts
        .map(|part| {
            let wrong = || DayError::Arrival(part.into());
            let (times, size) = part.split_once(char::is_whitespace).ok_or_else(wrong)?;
            let (start, end) = times.split_once('-').ok_or_else(wrong)?;
            let (start, end) = (minute(start).ok_or_else(wrong)?, minute(end).ok_or_else(wrong)?);
            let minutes = if end > start { end - start } else { end + DAY - start };
            Ok(Arrival { start, minutes, bytes: ByteLength::parse(size)? })
        })
        .collect()
}

/// Reads "every 2h", "every 30min" or "03:00, 15:00".
///
/// # Errors
/// When it is neither.
pub fn parse_settles(text: &str) -> Result<SettleTimes, DayError> {
    let wrong = || DayError::Settle(text.into());
    if let Some(every) = text.trim().strip_prefix("every ") {
        let (number, unit) =
            every.trim().split_at(every.trim().find(|c: char| !c.is_ascii_digit()).ok_or_else(wrong)?);
        let number: f64 = number.parse().map_err(|_| wrong())?;
        let minutes = match unit.trim() {
            "h" => number * 60.0,
            "min" => number,
            _ => return Err(wrong()),
        };
        if !(1.0..=DAY).contains(&minutes) {
            return Err(wrong());
        }
        return Ok(SettleTimes((0..(DAY / minutes) as u32).map(|n| f64::from(n) * minutes).collect()));
    }
    let times: Option<Vec<f64>> = text.split(',').map(minute).collect();
    times.filter(|t| !t.is_empty()).map(SettleTimes).ok_or_else(wrong)
}

/// Works a day out: every arrival comes in evenly, a settle begins at its times and goes on at `rate` until nothing
/// waits. The same day is repeated until it is settled whether the level comes down again.
///
/// Exact: the level goes in straight lines between the moments at which something begins or ends.
pub fn fill_through_a_day(
    arrivals: &[Arrival],
    settles: &SettleTimes,
    rate: Rate,
    size: Option<ByteLength>,
) -> Day {
    let out = rate.per_second() * 60.0;
    let (mut level, mut settling) = (0.0f64, false);
    let mut peaks = Vec::new();
    let mut told = Vec::new();
    for _ in 0..DAYS {
        let (mut now, mut peak) = (0.0, level);
        told = vec![(0.0, level)];
        while now < DAY {
            settling |= settles.0.contains(&now) && level > 0.0;
            let inflow = inflow_at(arrivals, now);
            let net = inflow - if settling { out } else { 0.0 };
            let mut next = next_border(arrivals, settles, now);
            if settling && net < 0.0 {
                next = next.min(now + level / -net);
            }
            level = (level + net * (next - now)).max(0.0);
            // What is left by rounding is nothing.
            if settling && level < 1.0 {
                (level, settling) = (0.0, false);
            }
            now = next;
            peak = peak.max(level);
            told.push((now, level));
        }
        peaks.push(peak);
    }
    let last = peaks[peaks.len() - 1];
    let grows_without_end = last > peaks[peaks.len() - 2] * (1.0 + 1e-9) + 1.0;
    let (overflows_at, overflowing) = size.map_or((None, 0.0), |size| above(&told, size.exact() as f64));
    Day {
        level: told.iter().map(|(at, bytes)| (*at, ByteLength::new(bytes.round() as u64))).collect(),
        most: ByteLength::new(last.ceil() as u64),
        overflows_at,
        overflowing: Duration::from_seconds(overflowing * 60.0),
        grows_without_end,
    }
}

/// Bytes a minute that come in at a minute of the day.
fn inflow_at(arrivals: &[Arrival], now: f64) -> f64 {
    let comes =
        |a: &&Arrival| (now >= a.start && now < a.start + a.minutes) || now + DAY < a.start + a.minutes;
    arrivals.iter().filter(comes).map(|a| a.bytes.exact() as f64 / a.minutes).sum()
}

/// The next moment at which something begins or ends.
fn next_border(arrivals: &[Arrival], settles: &SettleTimes, now: f64) -> f64 {
    let ends = arrivals.iter().flat_map(|a| [a.start, (a.start + a.minutes) % DAY]);
    ends.chain(settles.0.iter().copied()).filter(|at| *at > now + 1e-9).fold(DAY, f64::min)
}

/// When the level first rises above a limit, and for how many minutes it is there.
fn above(level: &[(f64, f64)], limit: f64) -> (Option<f64>, f64) {
    let (mut first, mut minutes) = (None, 0.0);
    for pair in level.windows(2) {
        let ((from, low), (to, high)) = (pair[0], pair[1]);
        if low <= limit && high <= limit {
            continue;
        }
        let crossing = if (low > limit) == (high > limit) {
            None
        } else {
            Some(from + (to - from) * (limit - low) / (high - low))
        };
        let (start, end) = match crossing {
            None => (from, to),
            Some(at) if low > limit => (from, at),
            Some(at) => (at, to),
        };
        first = first.or(Some(start));
        minutes += end - start;
    }
    (first, minutes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn gb(n: u64) -> ByteLength {
        ByteLength::new(n * 1_000_000_000)
    }

    /// Gigabytes an hour.
    fn per_hour(gigabytes: f64) -> Rate {
        Rate::from_per_second(gigabytes * 1e9 / 3600.0)
    }

    #[test]
    fn a_day_by_hand() {
        // 100 GB from 10:00 to 12:00, settled at 20:00 with 50 GB an hour: full from 12 to 20, empty at 22.
        let arrivals = parse_arrivals("10:00-12:00 100GB").unwrap();
        let settles = parse_settles("20:00").unwrap();
        let day = fill_through_a_day(&arrivals, &settles, per_hour(50.0), Some(gb(75)));
        assert_eq!(day.most, gb(100));
        assert_eq!(day.overflows_at, Some(690.0), "75 GB are there at half past eleven");
        // Above 75 from 11:30 to 20:30.
        assert!((day.overflowing.hours() - 9.0).abs() < 1e-9);
        assert!(!day.grows_without_end);
        assert_eq!(day.level.last().unwrap().1, ByteLength::ZERO);
        assert!(day.level.contains(&(1320.0, ByteLength::ZERO)), "{:?}", day.level);
    }

    #[test]
    fn what_arrives_over_midnight_counts_in_both_days() {
        let arrivals = parse_arrivals("22:00-02:00 200GB").unwrap();
        let day = fill_through_a_day(&arrivals, &parse_settles("03:00").unwrap(), per_hour(1000.0), None);
        assert_eq!(day.most, gb(200));
        assert_eq!(day.level.last().unwrap(), &(1440.0, gb(100)), "half of it is there at midnight");
        let often =
            fill_through_a_day(&arrivals, &parse_settles("every 1h").unwrap(), per_hour(1000.0), None);
        assert!(often.most < gb(60), "{}", often.most);
    }

    #[test]
    fn more_than_is_settled_grows_without_end() {
        let arrivals = parse_arrivals("00:00-23:59 500GB").unwrap();
        let day = fill_through_a_day(&arrivals, &parse_settles("03:00").unwrap(), per_hour(10.0), None);
        assert!(day.grows_without_end);
    }

    #[rstest]
    #[case("22:00 200GB")]
    #[case("22:00-25:00 200GB")]
    #[case("22:00-23:00")]
    #[case("22:00-23:00 lots")]
    fn wrong_arrivals(#[case] text: &str) {
        assert!(parse_arrivals(text).is_err());
    }

    #[rstest]
    #[case("every 2h", Some(12))]
    #[case("every 30min", Some(48))]
    #[case("03:00, 15:00", Some(2))]
    #[case("every 0h", None)]
    #[case("every day", None)]
    #[case("now", None)]
    fn settle_times(#[case] text: &str, #[case] count: Option<usize>) {
        assert_eq!(parse_settles(text).ok().map(|s| s.0.len()), count);
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 100, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn it_agrees_with_small_steps(
            drawn in prop::collection::vec((0..1440u32, 1..600u32, 1..300u64), 1..4),
            times in prop::collection::btree_set(0..1440u32, 1..5),
            out in 20.0..900.0f64,
        ) {
            let arrivals: Vec<Arrival> = drawn.iter().map(|(start, minutes, size)| Arrival {
                start: f64::from(*start), minutes: f64::from(*minutes), bytes: gb(*size),
            }).collect();
            let settles = SettleTimes(times.iter().map(|t| f64::from(*t)).collect());
            let day = fill_through_a_day(&arrivals, &settles, per_hour(out), None);
            prop_assume!(!day.grows_without_end);
            // Steps of a hundredth of a minute, over as many days.
            let (mut level, mut settling, mut most) = (0.0f64, false, 0.0f64);
            let step = 0.01;
            for number in 0..3 {
                for tick in 0..144_000u32 {
                    let now = f64::from(tick) * step;
                    settling |= level > 0.0 && tick % 100 == 0 && settles.0.contains(&f64::from(tick / 100));
                    level += inflow_at(&arrivals, now) * step;
                    if settling {
                        level -= out * 1e9 / 60.0 * step;
                        if level <= 0.0 { (level, settling) = (0.0, false); }
                    }
                    if number == 2 { most = most.max(level); }
                }
            }
            let exact = day.most.exact() as f64;
            prop_assert!((exact - most).abs() < 0.01 * most.max(1e9), "{exact} against {most}");
        }
    }
}
