//! Days of the week and times of day, as they are written.

use std::fmt;

use jiff::civil::{Time, Weekday};
use serde::{Serialize, Serializer};

/// Some days of the week.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DaySet(u8);

const DAYS: [(&str, &str, Weekday); 7] = [
    ("Mon", "monday", Weekday::Monday),
    ("Tue", "tuesday", Weekday::Tuesday),
    ("Wed", "wednesday", Weekday::Wednesday),
    ("Thu", "thursday", Weekday::Thursday),
    ("Fri", "friday", Weekday::Friday),
    ("Sat", "saturday", Weekday::Saturday),
    ("Sun", "sunday", Weekday::Sunday),
];

impl DaySet {
    /// Every day.
    pub const ALL: Self = Self(0x7f);

    /// One day.
    pub fn one(day: Weekday) -> Self {
        Self(1 << day.to_monday_zero_offset())
    }

    /// Whether a day is one of them.
    pub fn has(self, day: Weekday) -> bool {
        self.0 >> day.to_monday_zero_offset() & 1 == 1
    }

    /// Its days, from Monday on.
    pub fn days(self) -> impl Iterator<Item = Weekday> {
        DAYS.into_iter().map(|(.., day)| day).filter(move |day| self.has(*day))
    }

    /// Reads "Sun", "Mon, Thu", "Mon-Fri", "weekdays", "weekends".
    pub fn parse(text: &str) -> Option<Self> {
        let mut set = 0;
        for part in text.split([',', ' ']).filter(|part| !part.is_empty() && *part != "and") {
            set |= match (part, part.split_once(['-', '–'])) {
                ("weekdays", _) => 0x1f,
                ("weekends", _) => 0x60,
                (_, Some((first, last))) => between(day_of(first)?, day_of(last)?),
                (one, None) => 1 << day_of(one)?.to_monday_zero_offset(),
            };
        }
        (set != 0).then_some(Self(set))
    }

    /// As RFC 5545 writes them, "MO,TH".
    pub fn ical(self) -> String {
        let short = |day: Weekday| name(day)[..2].to_uppercase();
        self.days().map(short).collect::<Vec<_>>().join(",")
    }
}

fn between(first: Weekday, last: Weekday) -> u8 {
    let mut day = first;
    let mut set = DaySet::one(day).0;
    while day != last {
        day = day.next();
        set |= DaySet::one(day).0;
    }
    set
}

/// Reads the name of a day, in full or short.
pub(super) fn day_of(text: &str) -> Option<Weekday> {
    let text = text.to_lowercase();
    let found = DAYS.iter().find(|(short, long, _)| text == *long || text == short.to_lowercase());
    found.map(|(.., day)| *day)
}

/// The short name of a day.
pub fn name(day: Weekday) -> &'static str {
    DAYS[usize::from(day.to_monday_zero_offset().unsigned_abs())].0
}

impl fmt::Display for DaySet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let days: Vec<Weekday> = self.days().collect();
        let joined = |days: &[Weekday]| days.iter().map(|day| name(*day)).collect::<Vec<_>>().join(", ");
        match &days[..] {
            [first, .., last]
                if days.len() > 2 && between(*first, *last).count_ones() as usize == days.len() =>
            {
                f.pad(&format!("{}-{}", name(*first), name(*last)))
            }
            days => f.pad(&joined(days)),
        }
    }
}

/// A time of day, in minutes since midnight; the end of a stretch may be 24:00.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Clock(u16);

impl Clock {
    /// Midnight, at which a day begins.
    pub const MIDNIGHT: Self = Self(0);
    /// Midnight, at which it ends.
    pub const END: Self = Self(1440);

    /// So many minutes after midnight; the day before or after counts as the same time of day.
    pub const fn of_minutes(minutes: i32) -> Self {
        Self(minutes.rem_euclid(1440) as u16)
    }

    /// Minutes since midnight.
    pub const fn minutes(self) -> i32 {
        self.0 as i32
    }

    /// Reads "03:00", "3:00", "24:00".
    pub fn parse(text: &str) -> Option<Self> {
        let (hour, minute) = text.split_once(':')?;
        let digits = |text: &str, most: usize| {
            (1..=most).contains(&text.len()) && text.bytes().all(|byte| byte.is_ascii_digit())
        };
        if !digits(hour, 2) || !digits(minute, 2) || minute.len() != 2 {
            return None;
        }
        let (hour, minute): (u16, u16) = (hour.parse().ok()?, minute.parse().ok()?);
        (hour < 24 && minute < 60 || (hour, minute) == (24, 0)).then_some(Self(hour * 60 + minute))
    }

    /// As a time of a day; the end of a day is no such time.
    pub fn time(self) -> Time {
        let minutes = i8::try_from(self.0 % 60).unwrap_or(0);
        Time::new(i8::try_from(self.0 / 60 % 24).unwrap_or(0), minutes, 0, 0).unwrap_or(Time::midnight())
    }
}

impl fmt::Display for Clock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{:02}:{:02}", self.0 / 60, self.0 % 60))
    }
}

impl Serialize for Clock {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl Serialize for DaySet {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Sun", "Sun")]
    #[case("mon, Thursday", "Mon, Thu")]
    #[case("Mon-Fri", "Mon-Fri")]
    #[case("Fri-Mon", "Mon, Fri, Sat, Sun")]
    #[case("weekends", "Sat, Sun")]
    fn days_are_read_and_said(#[case] text: &str, #[case] said: &str) {
        assert_eq!(DaySet::parse(text).map(|days| days.to_string()), Some(said.to_string()));
    }

    #[rstest]
    #[case("3:00", Some("03:00"))]
    #[case("23:59", Some("23:59"))]
    #[case("24:00", Some("24:00"))]
    #[case("24:01", None)]
    #[case("3:0", None)]
    #[case("+3:00", None)]
    #[case("3", None)]
    fn times_of_day(#[case] text: &str, #[case] said: Option<&str>) {
        assert_eq!(Clock::parse(text).map(|clock| clock.to_string()).as_deref(), said);
    }
}
