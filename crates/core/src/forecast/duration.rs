//! Lengths of time that are estimated.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

/// An estimated length of time, in seconds.
#[derive(Clone, Copy, Debug, Default, PartialEq, PartialOrd, Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Duration(f64);

impl Duration {
    /// A duration of so many seconds; what is no number counts as none.
    pub fn from_seconds(seconds: f64) -> Self {
        Self(if seconds.is_finite() { seconds.max(0.0) } else { 0.0 })
    }

    /// Both, one after the other.
    #[must_use]
    pub fn plus(self, other: Self) -> Self {
        Self::from_seconds(self.0 + other.0)
    }

    /// Its seconds.
    pub const fn seconds(self) -> f64 {
        self.0
    }

    /// Its hours.
    pub fn hours(self) -> f64 {
        self.0 / 3600.0
    }
}

impl fmt::Display for Duration {
    /// "40 s", "12 min", "3 h 20 min", "2 d 4 h".
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let minutes = (self.0 / 60.0).round() as u64;
        let text = match self.0 {
            s if s < 1.0 => "under 1 s".to_string(),
            s if s < 90.0 => format!("{} s", s.round()),
            _ if minutes < 90 => format!("{minutes} min"),
            _ if minutes < 48 * 60 => format!("{} h {:02} min", minutes / 60, minutes % 60),
            _ => format!("{} d {} h", minutes / 1440, minutes % 1440 / 60),
        };
        f.pad(&text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.2, "under 1 s")]
    #[case(40.0, "40 s")]
    #[case(720.0, "12 min")]
    #[case(12_000.0, "3 h 20 min")]
    #[case(190_000.0, "2 d 4 h")]
    #[case(f64::INFINITY, "under 1 s")]
    fn durations_are_told_in_two_units_at_most(#[case] seconds: f64, #[case] text: &str) {
        assert_eq!(Duration::from_seconds(seconds).to_string(), text);
    }
}
