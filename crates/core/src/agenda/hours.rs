//! Hours of the week: when the machine is on, when disks are not to be heard.

use std::fmt;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use serde::{Serialize, Serializer};

use super::days::{Clock, DaySet};

/// A stretch of hours on some days; one that ends at or before its beginning ends on the next day.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Stretch {
    days: DaySet,
    from: Clock,
    to: Clock,
    said: String,
}

/// Hours of the week.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Hours(Vec<Stretch>);

/// Moments from one to another, without the last: seconds since 1970.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span {
    /// The first.
    pub from: i64,
    /// The one after the last.
    pub until: i64,
}

impl Span {
    /// Seconds in it.
    pub const fn seconds(self) -> i64 {
        self.until - self.from
    }

    /// What both have in common.
    pub fn common(self, other: Self) -> Option<Self> {
        let both = Self { from: self.from.max(other.from), until: self.until.min(other.until) };
        (both.from < both.until).then_some(both)
    }
}

impl Hours {
    /// Adds "Mon-Fri 17:00-23:00", or "22:00-07:00" for every day.
    ///
    /// # Errors
    /// What could be written instead.
    pub fn add(&mut self, text: &str) -> Result<(), String> {
        let wrong = || format!("`{text}` are no hours: write \"22:00-07:00\" or \"Mon-Fri 17:00-23:00\"");
        let text_trimmed = text.trim();
        let (days, hours) = text_trimmed.rsplit_once(' ').map_or((None, text_trimmed), |(d, h)| (Some(d), h));
        let (from, to) = hours.split_once(['-', '–']).ok_or_else(wrong)?;
        let days = days.map_or(Some(DaySet::ALL), DaySet::parse).ok_or_else(wrong)?;
        let (from, to) = (Clock::parse(from).ok_or_else(wrong)?, Clock::parse(to).ok_or_else(wrong)?);
        if from == Clock::END {
            return Err(wrong());
        }
        self.0.push(Stretch { days, from, to, said: text_trimmed.into() });
        Ok(())
    }

    /// Whether nothing was said.
    pub const fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// All stretches between two moments, in order, joined where they touch.
    pub fn spans(&self, within: Span, zone: &TimeZone) -> Vec<Span> {
        let day = |at: i64| zone.to_datetime(Timestamp::from_second(at).unwrap_or_default()).date();
        let (first, last) = (day(within.from), day(within.until));
        let mut date = first.checked_add((-1).days()).unwrap_or(first);
        let mut found = Vec::new();
        while date <= last {
            for stretch in self.0.iter().filter(|stretch| stretch.days.has(date.weekday())) {
                let next = || date.checked_add(1.days()).unwrap_or(date);
                let end = if stretch.to <= stretch.from || stretch.to == Clock::END { next() } else { date };
                let span =
                    Span { from: moment(date, stretch.from, zone), until: moment(end, stretch.to, zone) };
                found.extend(span.common(within));
            }
            let Ok(next) = date.checked_add(1.days()) else { break };
            date = next;
        }
        joined(found)
    }
}

fn moment(date: Date, clock: Clock, zone: &TimeZone) -> i64 {
    let civil = date.to_datetime(clock.time());
    zone.to_ambiguous_zoned(civil).compatible().map_or(0, |zoned| zoned.timestamp().as_second())
}

/// The first of several in order that ends after a moment.
pub(super) fn ending_after(spans: &[Span], at: i64) -> Option<Span> {
    spans.get(spans.partition_point(|span| span.until <= at)).copied()
}

/// The one of several in order that a moment lies in.
pub(super) fn around(spans: &[Span], at: i64) -> Option<Span> {
    ending_after(spans, at).filter(|span| span.from <= at)
}

/// Spans in order, those that touch or overlap joined.
pub(super) fn joined(mut spans: Vec<Span>) -> Vec<Span> {
    spans.sort_unstable();
    let mut joined: Vec<Span> = Vec::new();
    for span in spans {
        match joined.last_mut() {
            Some(last) if last.until >= span.from => last.until = last.until.max(span.until),
            _ => joined.push(span),
        }
    }
    joined
}

/// What is in `all` and not in `without`; both in order, neither overlapping itself.
pub(super) fn less(all: &[Span], without: &[Span]) -> Vec<Span> {
    let mut left = Vec::new();
    for span in all {
        let mut from = span.from;
        for gap in without.iter().filter_map(|gap| gap.common(*span)) {
            if from < gap.from {
                left.push(Span { from, until: gap.from });
            }
            from = gap.until;
        }
        if from < span.until {
            left.push(Span { from, until: span.until });
        }
    }
    left
}

impl fmt::Display for Hours {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0.iter().map(|stretch| stretch.said.as_str()).collect::<Vec<_>>().join(", "))
    }
}

impl Serialize for Hours {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(self.0.iter().map(|stretch| &stretch.said))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn zone() -> TimeZone {
        TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap()
    }

    fn spans(hours: &[&str], from: &str, until: &str) -> Vec<String> {
        let mut read = Hours::default();
        hours.iter().for_each(|text| read.add(text).unwrap());
        let at = |text: &str| {
            let civil: jiff::civil::DateTime = text.parse().unwrap();
            zone().to_zoned(civil).unwrap().timestamp().as_second()
        };
        let said = |at: i64| {
            zone().to_datetime(Timestamp::from_second(at).unwrap()).strftime("%d %H:%M").to_string()
        };
        let within = Span { from: at(from), until: at(until) };
        read.spans(within, &zone()).iter().map(|s| format!("{}-{}", said(s.from), said(s.until))).collect()
    }

    #[rstest]
    #[case(&["22:00-07:00"], "2031-05-01", "2031-05-02", &["01 00:00-01 07:00", "01 22:00-02 00:00"])]
    #[case(&["Sat-Sun 08:00-24:00"], "2031-05-01", "2031-05-06", &["03 08:00-04 00:00", "04 08:00-05 00:00"])]
    #[case(&["Fri 20:00-02:00", "Sat 01:00-03:00"], "2031-05-01", "2031-05-06", &["02 20:00-03 03:00"])]
    #[case(&["00:00-24:00"], "2031-05-01", "2031-05-03", &["01 00:00-03 00:00"])]
    fn hours_become_spans(
        #[case] hours: &[&str],
        #[case] from: &str,
        #[case] until: &str,
        #[case] said: &[&str],
    ) {
        assert_eq!(spans(hours, from, until), said);
    }

    #[test]
    fn the_night_on_which_the_clock_jumps_is_shorter() {
        let mut hours = Hours::default();
        hours.add("00:00-06:00").unwrap();
        let day = |date: Date| moment(date, Clock::MIDNIGHT, &zone());
        let [usual, jump] = [Date::constant(2031, 3, 29), Date::constant(2031, 3, 30)].map(|date| {
            hours.spans(Span { from: day(date), until: day(date) + 43_200 }, &zone())[0].seconds()
        });
        assert_eq!((usual, jump), (6 * 3600, 5 * 3600));
    }

    #[rstest]
    #[case("22-7")]
    #[case("24:00-06:00")]
    #[case("never 10:00-12:00")]
    fn what_are_no_hours_is_refused(#[case] text: &str) {
        assert!(Hours::default().add(text).is_err());
    }

    #[test]
    fn one_less_the_other() {
        let span = |from, until| Span { from, until };
        let left = less(&[span(0, 10), span(20, 30)], &[span(2, 4), span(8, 22), span(29, 40)]);
        assert_eq!(left, [span(0, 2), span(4, 8), span(22, 29)]);
    }
}
