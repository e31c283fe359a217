//! Times as people read them.

use sieve_disk::{Error, Kind, Result};

/// How long ago, "12 days ago".
pub(crate) fn ago(at: i64, now: i64) -> String {
    let seconds = now.saturating_sub(at) / 1_000_000_000;
    let (number, unit) = match seconds {
        ..=59 => return "just now".into(),
        60..=3_599 => (seconds / 60, "minute"),
        3_600..=86_399 => (seconds / 3_600, "hour"),
        _ => (seconds / 86_400, "day"),
    };
    format!("{number} {unit}{} ago", if number == 1 { "" } else { "s" })
}

fn local(at: i64) -> jiff::Zoned {
    let stamp = jiff::Timestamp::from_nanosecond(i128::from(at)).unwrap_or_default();
    stamp.to_zoned(jiff::tz::TimeZone::system())
}

/// The date and time of day, with the local time zone that they are of.
pub(crate) fn moment(at: i64) -> String {
    local(at).strftime("%Y-%m-%d %H:%M %Z").to_string()
}

/// The same in a row of many, where the zone would be told again and again.
pub(crate) fn moment_in_a_row(at: i64) -> String {
    local(at).strftime("%Y-%m-%d %H:%M").to_string()
}

/// The local time zone at a moment, "CET".
pub(crate) fn zone(at: i64) -> String {
    local(at).strftime("%Z").to_string()
}

/// A past moment as it is typed: how long ago ("1 day"), a day, or a day with the time, in the local time zone.
///
/// # Errors
/// When it is none of them.
pub(crate) fn parse_past(text: &str, now: i64) -> Result<i64> {
    if let Ok(days) = sieve_core::pool::parse_days(text) {
        return Ok(now.saturating_sub((days * 86_400e9) as i64));
    }
    let stamp = text.parse::<jiff::Timestamp>().ok();
    let local = || {
        let civil: jiff::civil::DateTime = text.parse().ok()?;
        Some(civil.to_zoned(jiff::tz::TimeZone::system()).ok()?.timestamp())
    };
    let stamp = stamp.or_else(local).ok_or_else(|| {
        Error::new(Kind::Usage, "argument.time", format!("`{text}` is no time"))
            .remedy("write how long ago (\"1 day\"), a day (\"2031-05-02\"), or a day and the time (\"2031-05-02 03:00\")")
    })?;
    Ok(i64::try_from(stamp.as_nanosecond()).unwrap_or(i64::MAX))
}

/// The time of day in the local time zone.
pub(crate) fn clock(at: i64) -> String {
    local(at).strftime("%H:%M").to_string()
}

/// A day of the week and a time of day, "Sun 4 May 02:00 CEST".
pub(crate) fn weekday_and_clock(at: i64) -> String {
    local(at).strftime("%a %-d %b %H:%M %Z").to_string()
}

/// The same in a row of many.
pub(crate) fn weekday_in_a_row(at: i64) -> String {
    local(at).strftime("%a %-d %b %H:%M").to_string()
}

/// A day, "Fri 2 May 2031".
pub(crate) fn day(date: jiff::civil::Date) -> String {
    date.strftime("%a %-d %b %Y").to_string()
}

/// The date in the local time zone.
pub(crate) fn date(at: i64) -> jiff::civil::Date {
    local(at).date()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(30, "just now")]
    #[case(60, "1 minute ago")]
    #[case(7200, "2 hours ago")]
    #[case(86_400 * 12, "12 days ago")]
    fn ages_are_told_in_the_largest_unit(#[case] seconds: i64, #[case] text: &str) {
        assert_eq!(ago(0, seconds * 1_000_000_000), text);
    }
}
