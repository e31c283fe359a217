//! Times as people read them.

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

/// The date and time of day in the local time zone.
pub(crate) fn moment(at: i64) -> String {
    let stamp = jiff::Timestamp::from_nanosecond(i128::from(at)).unwrap_or_default();
    stamp.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// The date in the local time zone.
pub(crate) fn date(at: i64) -> jiff::civil::Date {
    let stamp = jiff::Timestamp::from_nanosecond(i128::from(at)).unwrap_or_default();
    stamp.to_zoned(jiff::tz::TimeZone::system()).date()
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
