//! When a job is to be done: plain words, or a recurrence rule of RFC 5545 (Internet Calendaring, section 3.3.10).
//!
//! Words become rules, so that one expansion serves both. Rules are expanded in civil time, and civil times become moments
//! after that: a time that a change of the clock leaves out is an hour later, one that comes twice counts the first time.

use std::fmt;

use jiff::civil::{Date, DateTime, Weekday};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, ToSpan};
use rrule::{RRule, RRuleSet, Unvalidated};
use serde::{Serialize, Serializer};

use super::days::{Clock, DaySet, day_of, name};
use crate::stretch::parse_stretch;

/// More runs of one job than anybody could mean, over all that is looked at.
const MOST_RUNS: u16 = 50_000;

/// When a job is to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum When {
    /// Every so many minutes, counted from midnight or the beginning of 1970.
    Minutes(u32),
    /// At a time of day, every so many days.
    Days {
        /// From one to the next.
        every: u32,
        /// At what time.
        at: Clock,
    },
    /// At a time of day, on some days of the week.
    Week {
        /// Which days.
        days: DaySet,
        /// At what time.
        at: Clock,
    },
    /// On a day of the month; negative ones count from its end.
    MonthDay {
        /// Which day.
        day: i8,
        /// At what time.
        at: Clock,
    },
    /// On the first, second … or last such day of the month.
    MonthWeekday {
        /// Which one; -1 is the last.
        nth: i8,
        /// Of which days.
        day: Weekday,
        /// At what time.
        at: Clock,
    },
    /// By a rule of RFC 5545, as it was written.
    Rule(String),
    /// So many seconds after the last file arrived.
    AfterArrival(u32),
}

const ORDINALS: [(&str, i8); 6] =
    [("first", 1), ("second", 2), ("third", 3), ("fourth", 4), ("fifth", 5), ("last", -1)];

const HELP: &str = "write `hourly`, `every 6 hours`, `daily 03:00`, `Sun 02:00`, `Mon-Fri 02:00`, `first Sun of the month 04:00`, `15th of the month 04:00`, `20 minutes after the last arrival`, or a recurrence rule of RFC 5545 (`FREQ=WEEKLY;BYDAY=SU;BYHOUR=2`)";

impl When {
    /// Reads plain words or a rule.
    ///
    /// # Errors
    /// What could be written instead.
    pub fn parse(text: &str) -> Result<Self, String> {
        let text = text.trim();
        if text.len() > 500 {
            return Err("this is too long for a time".into());
        }
        let rule = text.strip_prefix("RRULE:").unwrap_or(text);
        if rule.to_ascii_uppercase().starts_with("FREQ=") {
            return Self::of_rule(rule);
        }
        let words =
            Self::of_words(text).ok_or_else(|| format!("`{text}` is no time that is understood: {HELP}"))?;
        Ok(words)
    }

    /// Every so many minutes; whole days at midnight.
    pub const fn every_minutes(minutes: u32) -> Self {
        if minutes.is_multiple_of(1440) {
            Self::Days { every: minutes / 1440, at: Clock::MIDNIGHT }
        } else {
            Self::Minutes(minutes)
        }
    }

    fn of_rule(rule: &str) -> Result<Self, String> {
        let rule = rule.to_ascii_uppercase();
        let wrong = |why: String| format!("this is no recurrence rule that can be followed: {why}");
        let parsed: RRule<Unvalidated> = rule.parse().map_err(|e: rrule::RRuleError| wrong(e.to_string()))?;
        if parsed.get_count().is_some() || parsed.get_until().is_some() {
            return Err(wrong("a job has no end (leave COUNT and UNTIL out)".into()));
        }
        if parsed.get_freq() == rrule::Frequency::Secondly {
            return Err(wrong("nothing here is done every second".into()));
        }
        let when = Self::Rule(rule);
        when.set(DateTime::constant(2000, 1, 1, 0, 0, 0, 0)).map_err(wrong)?;
        Ok(when)
    }

    fn of_words(text: &str) -> Option<Self> {
        let lower = text.to_lowercase();
        if let Some(stretch) = lower.strip_suffix("after the last arrival") {
            let seconds = parse_stretch(stretch).ok().filter(|s| (1.0..=86_400.0).contains(s))?;
            return Some(Self::AfterArrival(seconds as u32));
        }
        let (words, at) = match lower.rsplit_once(' ') {
            Some((words, last)) if last.contains(':') => (words.trim(), Some(Clock::parse(last)?)),
            _ => (lower.as_str(), None),
        };
        let at = at.filter(|at| *at < Clock::END).or(at.map(|_| Clock::MIDNIGHT));
        let clock = at.unwrap_or(Clock::MIDNIGHT);
        Some(match words {
            "hourly" | "every hour" if at.is_none() => Self::Minutes(60),
            "daily" | "every day" => Self::Days { every: 1, at: clock },
            "weekly" | "every week" => Self::Week { days: DaySet::one(Weekday::Sunday), at: clock },
            "monthly" | "every month" => Self::MonthDay { day: 1, at: clock },
            _ if words.starts_with("every ") => Self::every(&words[6..], at)?,
            _ => match words.strip_suffix(" of the month") {
                Some(which) => Self::of_the_month(which, clock)?,
                None => Self::Week { days: DaySet::parse(words)?, at: clock },
            },
        })
    }

    fn every(stretch: &str, at: Option<Clock>) -> Option<Self> {
        if let Some(days) = DaySet::parse(stretch) {
            return Some(Self::Week { days, at: at.unwrap_or(Clock::MIDNIGHT) });
        }
        let minutes = parse_stretch(stretch).ok()? / 60.0;
        let whole = |unit: f64| (minutes % unit == 0.0).then_some((minutes / unit) as u32);
        if let Some(days) = whole(1440.0) {
            return Some(Self::Days { every: days, at: at.unwrap_or(Clock::MIDNIGHT) });
        }
        whole(1.0).filter(|minutes| *minutes >= 1 && at.is_none()).map(Self::Minutes)
    }

    fn of_the_month(which: &str, at: Clock) -> Option<Self> {
        if let Some((nth, day)) = which.split_once(' ') {
            let (_, nth) = ORDINALS.iter().find(|(word, _)| *word == nth)?;
            return Some(match day {
                "day" => Self::MonthDay { day: *nth, at },
                day => Self::MonthWeekday { nth: *nth, day: day_of(day)?, at },
            });
        }
        let number = ["st", "nd", "rd", "th"].iter().find_map(|end| which.strip_suffix(end))?;
        let day: i8 = number.parse().ok().filter(|day| (1..=31).contains(day))?;
        Some(Self::MonthDay { day, at })
    }

    /// The rule of RFC 5545, without `RRULE:`; nothing where no calendar can tell.
    pub fn rule(&self) -> Option<String> {
        let at =
            |at: &Clock| format!("BYHOUR={};BYMINUTE={};BYSECOND=0", at.minutes() / 60, at.minutes() % 60);
        let day = |day: &Weekday| DaySet::one(*day).ical();
        Some(match self {
            Self::Minutes(minutes) if minutes % 60 == 0 => {
                format!("FREQ=HOURLY;INTERVAL={};BYMINUTE=0;BYSECOND=0", minutes / 60)
            }
            Self::Minutes(minutes) => format!("FREQ=MINUTELY;INTERVAL={minutes};BYSECOND=0"),
            Self::Days { every, at: clock } => format!("FREQ=DAILY;INTERVAL={every};{}", at(clock)),
            Self::Week { days, at: clock } => format!("FREQ=WEEKLY;BYDAY={};{}", days.ical(), at(clock)),
            Self::MonthDay { day, at: clock } => format!("FREQ=MONTHLY;BYMONTHDAY={day};{}", at(clock)),
            Self::MonthWeekday { nth, day: weekday, at: clock } => {
                format!("FREQ=MONTHLY;BYDAY={nth}{};{}", day(weekday), at(clock))
            }
            Self::Rule(rule) => rule.clone(),
            Self::AfterArrival(_) => return None,
        })
    }

    /// The rule, counted from a moment that is well before `around` and the same for every such moment.
    fn set(&self, around: DateTime) -> Result<RRuleSet, String> {
        let text = self.rule().ok_or("no calendar tells it")?;
        let rule: RRule<Unvalidated> = text.parse().map_err(|e: rrule::RRuleError| e.to_string())?;
        let start = anchor(rule.get_freq(), i64::from(rule.get_interval().max(1)), around);
        let begin = start.strftime("%Y%m%dT%H%M%S");
        format!("DTSTART:{begin}Z\nRRULE:{text}").parse().map_err(|e: rrule::RRuleError| e.to_string())
    }

    /// The moments from `from` on, up to but without `until`, in order.
    pub fn starts(&self, from: Timestamp, until: Timestamp, zone: &TimeZone) -> Vec<Timestamp> {
        // A change of the clock moves a civil time by hours, never by a day.
        let civil =
            |at: Timestamp, by: i64| zone.to_datetime(at).checked_add(by.days()).unwrap_or(DateTime::MAX);
        let (first, last) = (civil(from, -1), civil(until, 1));
        let Ok(set) = self.set(first) else { return Vec::new() };
        let utc = |at: DateTime| {
            let seconds = at.to_zoned(TimeZone::UTC).map_or(0, |z| z.timestamp().as_second());
            chrono::DateTime::from_timestamp(seconds, 0).unwrap_or_default().with_timezone(&rrule::Tz::UTC)
        };
        let found = set.after(utc(first)).before(utc(last)).all(MOST_RUNS).dates;
        let moment = |at: &chrono::DateTime<rrule::Tz>| {
            let civil = Timestamp::from_second(at.timestamp()).ok()?.to_zoned(TimeZone::UTC).datetime();
            Some(zone.to_ambiguous_zoned(civil).compatible().ok()?.timestamp())
        };
        let mut starts: Vec<Timestamp> = found.iter().filter_map(moment).collect();
        starts.sort_unstable();
        // What the clock leaves out may fall together with what comes then.
        starts.dedup();
        starts.retain(|at| (from..until).contains(at));
        starts
    }

    /// The last moment at or before `now`, at most `back` before it.
    pub fn last(&self, now: Timestamp, back: SignedDuration, zone: &TimeZone) -> Option<Timestamp> {
        let until = now.checked_add(SignedDuration::from_secs(1)).ok()?;
        self.starts(now.checked_sub(back).ok()?, until, zone).pop()
    }

    /// Its time of day, where it has one that can be moved.
    pub const fn clock(&self) -> Option<Clock> {
        match self {
            Self::Days { at, .. }
            | Self::Week { at, .. }
            | Self::MonthDay { at, .. }
            | Self::MonthWeekday { at, .. } => Some(*at),
            Self::Minutes(_) | Self::Rule(_) | Self::AfterArrival(_) => None,
        }
    }

    /// The same at another time of day.
    #[must_use]
    pub fn at(&self, clock: Clock) -> Self {
        let mut moved = self.clone();
        if let Self::Days { at, .. }
        | Self::Week { at, .. }
        | Self::MonthDay { at, .. }
        | Self::MonthWeekday { at, .. } = &mut moved
        {
            *at = clock;
        }
        moved
    }

    /// Days from one to the next, on average.
    pub fn period(&self) -> f64 {
        match self {
            Self::Minutes(minutes) => f64::from(*minutes) / 1440.0,
            Self::Days { every, .. } => f64::from(*every),
            Self::Week { days, .. } => 7.0 / days.days().count() as f64,
            Self::MonthDay { .. } | Self::MonthWeekday { .. } => 365.25 / 12.0,
            Self::AfterArrival(_) => 1.0,
            Self::Rule(_) => {
                let from = Timestamp::UNIX_EPOCH;
                let year = SignedDuration::from_hours(24 * 365);
                let number = self.starts(from, from.checked_add(year).unwrap_or(from), &TimeZone::UTC).len();
                365.0 / number.max(1) as f64
            }
        }
    }
}

/// A beginning for a rule that is the same for all moments around it: rules with an interval count from the beginning of 1970,
/// and years are not gone through one by one.
fn anchor(frequency: rrule::Frequency, interval: i64, around: DateTime) -> DateTime {
    use rrule::Frequency;
    let midnight = |date: Date| date.to_datetime(jiff::civil::Time::midnight());
    let epoch = Date::constant(1970, 1, 1);
    let days = i64::from((around.date() - epoch).get_days());
    let back = |number: i64, step: i64| number.div_euclid(step) * step;
    let months = (i64::from(around.year()) - 1970) * 12 + i64::from(around.month()) - 1;
    let at_month = |months: i64| {
        let year = i16::try_from(1970 + months.div_euclid(12)).unwrap_or(1970);
        Date::new(year, i8::try_from(months.rem_euclid(12) + 1).unwrap_or(1), 1).unwrap_or(epoch)
    };
    let after = |days: i64| epoch.checked_add(days.days()).unwrap_or(epoch);
    match frequency {
        Frequency::Yearly => midnight(at_month(back(months / 12, interval) * 12)),
        Frequency::Monthly => midnight(at_month(back(months, interval))),
        // 1970-01-05 was a Monday.
        Frequency::Weekly => midnight(after(back((days - 4).div_euclid(7), interval) * 7 + 4)),
        Frequency::Daily => midnight(after(back(days, interval))),
        Frequency::Hourly => {
            let hours = back(days * 24, interval);
            midnight(after(hours.div_euclid(24))) + hours.rem_euclid(24).hours()
        }
        Frequency::Minutely | Frequency::Secondly => {
            let minutes = back(days * 1440, interval);
            midnight(after(minutes.div_euclid(1440))) + minutes.rem_euclid(1440).minutes()
        }
    }
}

impl fmt::Display for When {
    /// The words that are read again as the same.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let ordinal = |nth: i8| ORDINALS.iter().find(|(_, n)| *n == nth).map_or("last", |(word, _)| word);
        let text = match self {
            Self::Minutes(60) => "hourly".into(),
            Self::Minutes(minutes) if minutes % 60 == 0 => format!("every {} hours", minutes / 60),
            Self::Minutes(minutes) => format!("every {minutes} minutes"),
            Self::Days { every: 1, at } => format!("daily {at}"),
            Self::Days { every, at } => format!("every {every} days {at}"),
            Self::Week { days, at } => format!("{days} {at}"),
            Self::MonthDay { day, at } if *day < 0 => format!("{} day of the month {at}", ordinal(*day)),
            Self::MonthDay { day, at } => format!("{day}{} of the month {at}", suffix(*day)),
            Self::MonthWeekday { nth, day, at } => {
                format!("{} {} of the month {at}", ordinal(*nth), name(*day))
            }
            Self::Rule(rule) => rule.clone(),
            Self::AfterArrival(seconds) if seconds % 60 == 0 => {
                format!("{} minutes after the last arrival", seconds / 60)
            }
            Self::AfterArrival(seconds) => format!("{seconds} seconds after the last arrival"),
        };
        f.pad(&text)
    }
}

const fn suffix(day: i8) -> &'static str {
    match (day % 10, day / 10) {
        (_, 1) => "th",
        (1, _) => "st",
        (2, _) => "nd",
        (3, _) => "rd",
        _ => "th",
    }
}

impl Serialize for When {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn zone() -> TimeZone {
        // Europe's rule, as POSIX writes it: no file of time zones is needed.
        TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap()
    }

    fn moments(when: &str, from: &str, until: &str) -> Vec<String> {
        let at = |text: &str| {
            let civil: DateTime = text.parse().unwrap();
            zone().to_zoned(civil).unwrap().timestamp()
        };
        let starts = When::parse(when).unwrap().starts(at(from), at(until), &zone());
        starts.into_iter().map(|at| zone().to_datetime(at).strftime("%m-%d %H:%M").to_string()).collect()
    }

    #[rstest]
    #[case("hourly", "2031-05-01 00:00", "2031-05-01 03:00", &["05-01 00:00", "05-01 01:00", "05-01 02:00"])]
    #[case("every 6 hours", "2031-05-01 01:00", "2031-05-02 00:00", &["05-01 06:00", "05-01 12:00", "05-01 18:00"])]
    #[case("every 20 minutes", "2031-05-01 00:10", "2031-05-01 01:00", &["05-01 00:20", "05-01 00:40"])]
    #[case("daily 03:00", "2031-05-01", "2031-05-03", &["05-01 03:00", "05-02 03:00"])]
    #[case("Sun 02:00", "2031-05-01", "2031-05-12", &["05-04 02:00", "05-11 02:00"])]
    #[case("Mon-Wed, Fri 02:00", "2031-05-01", "2031-05-08", &["05-02 02:00", "05-05 02:00", "05-06 02:00", "05-07 02:00"])]
    #[case("first Sun of the month 04:00", "2031-05-01", "2031-07-01", &["05-04 04:00", "06-01 04:00"])]
    #[case("last Fri of the month 04:00", "2031-05-01", "2031-06-01", &["05-30 04:00"])]
    #[case("31st of the month 01:00", "2031-01-01", "2031-04-01", &["01-31 01:00", "03-31 01:00"])]
    #[case("last day of the month 23:00", "2032-02-01", "2032-03-01", &["02-29 23:00"])]
    #[case("FREQ=WEEKLY;BYDAY=SU;BYHOUR=2;BYMINUTE=30", "2031-05-01", "2031-05-05", &["05-04 02:30"])]
    #[case("RRULE:FREQ=YEARLY;BYMONTH=12;BYMONTHDAY=31;BYHOUR=23", "2031-12-30", "2032-01-02", &["12-31 23:00"])]
    fn words_and_rules_are_expanded(
        #[case] when: &str,
        #[case] from: &str,
        #[case] until: &str,
        #[case] expected: &[&str],
    ) {
        assert_eq!(moments(when, from, until), expected);
    }

    #[test]
    fn a_time_that_the_clock_leaves_out_runs_once_and_one_that_comes_twice_too() {
        // 2031-03-30: 02:00 is 03:00. 2031-10-26: 03:00 is 02:00.
        assert_eq!(moments("daily 02:30", "2031-03-30", "2031-03-31"), ["03-30 03:30"]);
        assert_eq!(moments("daily 02:30", "2031-10-26", "2031-10-27"), ["10-26 02:30"]);
        assert_eq!(moments("hourly", "2031-03-30", "2031-03-31").len(), 23);
    }

    #[test]
    fn an_interval_is_counted_from_the_same_day_wherever_one_looks() {
        let whole = moments("every 3 days 05:00", "2031-01-01", "2032-01-01");
        let halves = [
            moments("every 3 days 05:00", "2031-01-01", "2031-06-15"),
            moments("every 3 days 05:00", "2031-06-15", "2032-01-01"),
        ];
        assert_eq!(whole, halves.concat());
        assert!(whole.len() >= 121);
    }

    #[rstest]
    #[case("hourly")]
    #[case("every 6 hours")]
    #[case("every 90 minutes")]
    #[case("daily 03:00")]
    #[case("every 3 days 05:30")]
    #[case("Mon, Thu 02:00")]
    #[case("first Sun of the month 04:00")]
    #[case("22nd of the month 00:00")]
    #[case("last day of the month 12:00")]
    #[case("20 minutes after the last arrival")]
    #[case("90 seconds after the last arrival")]
    #[case("FREQ=MONTHLY;BYDAY=SU;BYSETPOS=2")]
    fn what_is_said_is_read_again_as_the_same(#[case] text: &str) {
        let when = When::parse(text).unwrap();
        assert_eq!(When::parse(&when.to_string()).unwrap(), when);
        assert_eq!(when.to_string(), text);
    }

    #[rstest]
    #[case("")]
    #[case("sometimes")]
    #[case("daily 25:00")]
    #[case("hourly 03:00")]
    #[case("every 0 hours")]
    #[case("40th of the month")]
    #[case("sixth Sun of the month")]
    #[case("FREQ=NEVER")]
    #[case("FREQ=SECONDLY")]
    #[case("FREQ=DAILY;COUNT=3")]
    #[case("FREQ=DAILY;BYHOUR=99")]
    #[case("FREQ=DAILY\nDTSTART:20300101T000000Z")]
    fn what_cannot_be_meant_is_refused(#[case] text: &str) {
        assert!(When::parse(text).is_err(), "{text}");
    }
}
