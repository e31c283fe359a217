//! The cache through a day: what arrives, what is settled, when it overflows.

use schemars::JsonSchema;
use serde::Serialize;

use crate::forecast::Duration;
use crate::pool::parse_stretch;
use crate::units::{ByteLength, Rate, SizeError};

/// Minutes of a day.
const DAY: f64 = 1440.0;

/// Something that arrives every day.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Arrival {
    /// When it begins, in minutes of the day.
    pub start: f64,
    /// How long it takes, in minutes.
    pub minutes: f64,
    /// How much.
    pub bytes: ByteLength,
}

/// When the cache is settled, in minutes of the day.
#[derive(Clone, Debug, PartialEq)]
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
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct Day {
    /// Minutes of the day, and what waits on the cache then; straight lines in between.
    #[serde(serialize_with = "crate::pairs::levels")]
    #[schemars(with = "Vec<crate::pairs::LevelPoint>")]
    pub level: Vec<(f64, ByteLength)>,
    /// The most that ever waits: the smallest cache that does not overflow.
    #[serde(rename = "most_bytes")]
    pub most: ByteLength,
    /// When a cache of the given size first overflows, in minutes of the day.
    #[serde(rename = "overflows_at_minute")]
    pub overflows_at: Option<f64>,
    /// How long more comes than it has room for.
    #[serde(rename = "overflowing_seconds")]
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
        let minutes = parse_stretch(every).map_err(|_| wrong())? / 60.0;
        if !(1.0..=DAY).contains(&minutes) {
            return Err(wrong());
        }
        let times = (0u32..).map(|n| f64::from(n) * minutes).take_while(|at| *at < DAY);
        return Ok(SettleTimes(times.collect()));
    }
    let times: Option<Vec<f64>> = text.split(',').map(minute).collect();
    times.filter(|t| !t.is_empty()).map(SettleTimes).ok_or_else(wrong)
}

/// Works a day out: every arrival comes in evenly, a settle begins at its times and goes on at `rate` until nothing
/// waits. The same day is repeated until the days repeat themselves, one by one or in a longer cycle, and the worst of that
/// cycle is told: what one day leaves is there the next morning.
///
/// With the `size` of a cache its level goes no higher: what has no room goes past it. Exact: the level goes in straight
/// lines between the moments at which something begins or ends.
pub fn fill_through_a_day(
    arrivals: &[Arrival],
    settles: &SettleTimes,
    rate: Rate,
    size: Option<ByteLength>,
) -> Day {
    let plan = Plan { arrivals, settles, out: rate.per_second() * 60.0 };
    let (unlimited, grows_without_end) = plan.worst_day(f64::INFINITY);
    let limited = size.map(|size| plan.worst_day(size.exact() as f64).0);
    let shown = limited.as_ref().unwrap_or(&unlimited);
    Day {
        level: shown.told.iter().map(|(at, bytes)| (*at, ByteLength::new(bytes.round() as u64))).collect(),
        most: ByteLength::new(unlimited.peak.ceil() as u64),
        overflows_at: shown.full_at,
        overflowing: Duration::from_seconds(shown.full * 60.0),
        grows_without_end,
    }
}

/// So many days are tried until they repeat themselves.
const MOST_DAYS: usize = 1000;

struct Plan<'a> {
    arrivals: &'a [Arrival],
    settles: &'a SettleTimes,
    /// Bytes a minute that leave while it settles.
    out: f64,
}

/// How one day went.
#[derive(Clone, Default)]
struct OneDay {
    told: Vec<(f64, f64)>,
    peak: f64,
    /// The minute from which on something came and had no room, and how many minutes it did.
    full_at: Option<f64>,
    full: f64,
}

/// What one day leaves to the next.
#[derive(Clone, Copy, PartialEq)]
struct Midnight {
    level: f64,
    is_settling: bool,
}

impl Plan<'_> {
    /// The worst day of the cycle that the days come to, and whether they come to none because more arrives than leaves.
    fn worst_day(&self, cap: f64) -> (OneDay, bool) {
        let mut midnights = vec![Midnight { level: 0.0, is_settling: false }];
        let mut days: Vec<OneDay> = Vec::new();
        let is_again =
            |a: &Midnight, b: &Midnight| a.is_settling == b.is_settling && (a.level - b.level).abs() < 1.0;
        while days.len() < MOST_DAYS {
            let (day, midnight) = self.day(midnights[days.len()], cap);
            days.push(day);
            if let Some(before) = midnights.iter().rposition(|one| is_again(one, &midnight)) {
                return (worst(&days[before..]), false);
            }
            midnights.push(midnight);
        }
        let (half, end) = (midnights[MOST_DAYS / 2].level, midnights[MOST_DAYS].level);
        (worst(&days[MOST_DAYS / 2..]), end > half + 1.0)
    }

    fn day(&self, Midnight { mut level, mut is_settling }: Midnight, cap: f64) -> (OneDay, Midnight) {
        let mut day = OneDay { told: vec![(0.0, level)], peak: level, ..OneDay::default() };
        let mut now = 0.0;
        while now < DAY {
            is_settling |= self.settles.0.contains(&now) && level > 0.0;
            let net = inflow_at(self.arrivals, now) - if is_settling { self.out } else { 0.0 };
            let mut next = next_border(self.arrivals, self.settles, now);
            if is_settling && net < 0.0 {
                next = next.min(now + level / -net);
            }
            if level >= cap && net > 0.0 {
                // A byte that is there by rounding does not overflow.
                if net * (next - now) >= 1.0 {
                    day.full_at = day.full_at.or(Some(now));
                    day.full += next - now;
                }
            } else if net > 0.0 {
                next = next.min(now + (cap - level) / net);
            }
            level = (level + net * (next - now)).max(0.0);
            // What is missing by rounding is not missing, and what is left by it is nothing.
            if cap - level < 1.0 {
                level = cap;
            }
            if is_settling && level < 1.0 {
                (level, is_settling) = (0.0, false);
            }
            now = next;
            day.peak = day.peak.max(level);
            day.told.push((now, level));
        }
        (day, Midnight { level, is_settling })
    }
}

/// The day with the most on the cache; of several the one that is longest without room.
fn worst(days: &[OneDay]) -> OneDay {
    let worse = |a: &&OneDay, b: &&OneDay| a.peak.total_cmp(&b.peak).then(a.full.total_cmp(&b.full));
    days.iter().max_by(worse).cloned().unwrap_or_default()
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
        // What comes between 11:30 and 12:00 goes past it.
        assert!((day.overflowing.hours() - 0.5).abs() < 1e-9);
        assert!(!day.grows_without_end);
        assert_eq!(day.level.last().unwrap().1, ByteLength::ZERO);
        assert!(day.level.contains(&(1290.0, ByteLength::ZERO)), "{:?}", day.level);
        assert!(day.level.iter().all(|(_, level)| *level <= gb(75)), "no cache holds more than it has");
    }

    #[rstest]
    #[case("04:00-05:00 700GB", "20:00", 31.3)] // still on its way at 20:00 of every second day
    #[case("04:00-05:00 700GB", "20:00, 02:00", 33.7)]
    #[case("08:00-20:00 900GB", "every 5h", 41.0)]
    #[case("22:00-02:00 300GB, 12:00-12:30 80GB", "03:00", 17.1)]
    #[case("10:00-11:00 50GB", "09:00", 400.0)]
    fn the_smallest_cache_is_that_of_the_worst_day_of_the_cycle(
        #[case] arrivals: &str,
        #[case] settles: &str,
        #[case] gigabytes_an_hour: f64,
    ) {
        let (arrivals, settles) = (parse_arrivals(arrivals).unwrap(), parse_settles(settles).unwrap());
        let day = fill_through_a_day(&arrivals, &settles, per_hour(gigabytes_an_hour), None);
        let plainly = by_the_minute(&arrivals, &settles, gigabytes_an_hour / 60.0, 600);
        assert!(!day.grows_without_end);
        let told = day.most.exact() as f64 / 1e9;
        assert!((told - plainly).abs() < plainly * 0.02, "{told} and, by small steps, {plainly}");
    }

    /// The same by small steps: the most gigabytes in the second half of so many days.
    fn by_the_minute(arrivals: &[Arrival], settles: &SettleTimes, out: f64, days: usize) -> f64 {
        let (mut level, mut is_settling, mut most) = (0.0f64, false, 0.0f64);
        for minute in 0..days * 1440 {
            let now = (minute % 1440) as f64;
            is_settling |= settles.0.contains(&now) && level > 0.0;
            level += inflow_at(arrivals, now) / 1e9;
            if is_settling {
                level -= out;
            }
            if is_settling && level <= 0.0 {
                (level, is_settling) = (0.0, false);
            }
            if minute > days * 720 {
                most = most.max(level);
            }
        }
        most
    }

    #[test]
    fn any_number_of_hours_fills_the_day() {
        let times = |text: &str| parse_settles(text).unwrap().0;
        assert_eq!(times("every 5h"), [0.0, 300.0, 600.0, 900.0, 1200.0]);
        assert_eq!(times("every 90 minutes").len(), 16);
        assert_eq!(times("every 12 hours"), [0.0, 720.0]);
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
            // Where a settle ends within a breath of the next one, small steps go another way: those are passed over.
            let near = [0.99, 0.998, 1.002, 1.01].map(|by| fill_through_a_day(&arrivals, &settles, per_hour(out * by), None));
            let is_near = |other: &Day| (other.most.exact() as f64 / day.most.exact() as f64 - 1.0).abs() < 0.02;
            prop_assume!(near.iter().all(is_near));
            // Steps of a tenth of a minute, until whatever cycle there is has been reached and has come round.
            let (mut level, mut settling, mut most) = (0.0f64, false, 0.0f64);
            let step = 0.1;
            for number in 0..240 {
                for tick in 0..14_400u32 {
                    let now = f64::from(tick) * step;
                    settling |= level > 0.0 && tick % 10 == 0 && settles.0.contains(&f64::from(tick / 10));
                    level += inflow_at(&arrivals, now) * step;
                    if settling {
                        level -= out * 1e9 / 60.0 * step;
                        if level <= 0.0 { (level, settling) = (0.0, false); }
                    }
                    if number >= 180 { most = most.max(level); }
                }
            }
            let exact = day.most.exact() as f64;
            prop_assert!((exact - most).abs() < 0.02 * most.max(1e9), "{exact} against {most}");
        }
    }
}
