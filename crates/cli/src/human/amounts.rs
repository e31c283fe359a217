//! Amounts that are likely, and not counted: two digits tell as much as is known.

use crate::human::{odds, rounded, size, two_digits};
use sieve_core::units::ByteLength;

pub(crate) fn bytes(bytes: f64) -> String {
    if bytes > 0.0 && bytes < 1.0 {
        return "less than 1 B".into();
    }
    size(ByteLength::new(rounded(bytes.max(0.0)) as u64))
}

pub(crate) fn files(number: f64) -> String {
    if number > 0.0 && number < 0.01 {
        return "less than 0.01 files".into();
    }
    let told = two_digits(number);
    let plural = if told == "1" { "" } else { "s" };
    format!("{told} file{plural}")
}

/// "3.2 times", "about 1 in 40", "never".
pub(crate) fn often(events: f64) -> String {
    match events {
        ..=0.0 => "never".into(),
        1.0.. => format!("{} times", two_digits(events)),
        _ => odds(events),
    }
}

/// "12 days", "3 hours".
pub(crate) fn stretch(days: f64) -> String {
    match two_digits(days).as_str() {
        _ if days < 1.0 => hours(days * 24.0),
        "1" => "day".into(),
        number => format!("{number} days"),
    }
}

pub(crate) fn days(days: f64) -> String {
    if days < 1.0 {
        hours(days * 24.0)
    } else if (days - 1.0).abs() < 0.05 {
        "day".into()
    } else {
        format!("{days:.1} days").replace(".0 days", " days")
    }
}

pub(crate) fn hours(hours: f64) -> String {
    if hours < 1.0 { format!("{:.0} min", (hours * 60.0).max(1.0)) } else { format!("{hours:.1} h") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1.0, "1 file")]
    #[case(1.02, "1 file")]
    #[case(1.3, "1.3 files")]
    #[case(0.0, "0 files")]
    #[case(0.004, "less than 0.01 files")]
    fn what_is_told_as_one_is_one(#[case] number: f64, #[case] words: &str) {
        assert_eq!(files(number), words);
    }
}
