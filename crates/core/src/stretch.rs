//! Stretches of time, as they are written.

/// The longest stretch of days that is taken for one.
const MOST_DAYS: f64 = 3650.0;

/// Reads "90 min", "2h", "12 hours", "3 days" or "2 weeks", as seconds; with or without a space, in full or short.
///
/// # Errors
/// What it could mean, where it is no stretch of time.
pub fn parse_stretch(text: &str) -> Result<f64, String> {
    let text = text.trim();
    let end = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
    let (number, unit) = (&text[..end], text[end..].trim());
    let wrong = || format!("`{text}` is no stretch of time: write \"12 hours\", \"3 days\" or \"2 weeks\"");
    let number: f64 = number.parse().map_err(|_| wrong())?;
    let each = match unit {
        "" => return Err(format!("`{text}` has no unit: write \"{text} hours\" or \"{text} days\"")),
        "s" | "sec" | "second" | "seconds" => 1.0,
        "min" | "minute" | "minutes" => 60.0,
        "h" | "hour" | "hours" => 3600.0,
        "d" | "day" | "days" => 86_400.0,
        "w" | "week" | "weeks" => 604_800.0,
        _ => return Err(wrong()),
    };
    let seconds = number * each;
    if seconds > 0.0 && seconds <= MOST_DAYS * 86_400.0 { Ok(seconds) } else { Err(wrong()) }
}

/// As [`parse_stretch`], in days.
///
/// # Errors
/// As [`parse_stretch`].
pub fn parse_days(text: &str) -> Result<f64, String> {
    parse_stretch(text).map(|seconds| seconds / 86_400.0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("12 hours", Some(0.5))]
    #[case("36 minutes", Some(0.025))]
    #[case("1 day", Some(1.0))]
    #[case(" 2 weeks ", Some(14.0))]
    #[case("1.5 days", Some(1.5))]
    #[case("0 days", None)]
    #[case("-1 days", None)]
    #[case("nan days", None)]
    #[case("9999 weeks", None)]
    #[case("7", None)]
    #[case("7 moons", None)]
    #[case("12h", Some(0.5))]
    #[case("12 h", Some(0.5))]
    #[case("90 min", Some(0.0625))]
    #[case("", None)]
    fn stretches_of_time_are_read(#[case] text: &str, #[case] expected: Option<f64>) {
        assert_eq!(parse_days(text).ok(), expected);
    }
}
