//! Quantities that only the pool file and reports about disks speak of: temperatures, prices, dates.

use std::fmt;

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;

/// A temperature, and the scale its owner thinks in.
#[derive(Clone, Copy, Debug, PartialEq, PartialOrd)]
pub struct Temperature {
    /// Degrees Celsius.
    pub celsius: f64,
    /// It is shown in degrees Fahrenheit.
    pub in_fahrenheit: bool,
}

impl Temperature {
    /// So many degrees Celsius.
    pub const fn celsius(celsius: f64) -> Self {
        Self { celsius, in_fahrenheit: false }
    }

    /// Reads "50 °C", "50 C" or "122 °F"; nothing if it is no temperature between −60 and 200 °C.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let (number, scale) = text.split_at(text.len() - text.chars().next_back()?.len_utf8());
        let number: f64 = number.trim_end().trim_end_matches('°').trim_end().parse().ok()?;
        let (celsius, in_fahrenheit) = match scale {
            "C" | "c" => (number, false),
            "F" | "f" => ((number - 32.0) * 5.0 / 9.0, true),
            _ => return None,
        };
        (-60.0..=200.0).contains(&celsius).then_some(Self { celsius, in_fahrenheit })
    }

    /// Another temperature, shown in the scale of this one.
    pub fn like(self, celsius: f64) -> Self {
        Self { celsius, in_fahrenheit: self.in_fahrenheit }
    }
}

impl fmt::Display for Temperature {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = if self.in_fahrenheit {
            format!("{:.0} °F", self.celsius * 9.0 / 5.0 + 32.0)
        } else {
            format!("{:.0} °C", self.celsius)
        };
        f.pad(&text)
    }
}

/// A price: hundredths, and the currency as it was written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Price {
    /// Hundredths of the currency.
    pub hundredths: u64,
    /// The currency.
    pub currency: String,
}

impl Price {
    /// Reads "249 EUR" or "249.90 USD".
    pub fn parse(text: &str) -> Option<Self> {
        let (number, currency) = text.trim().split_once(char::is_whitespace)?;
        let currency = currency.trim();
        let (whole, part) = number.split_once('.').unwrap_or((number, "0"));
        let digits = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
        if !digits(whole) || !digits(part) || part.len() > 2 || currency.is_empty() || currency.len() > 8 {
            return None;
        }
        let part: u64 = format!("{part:0<2}").parse().ok()?;
        let hundredths = whole.parse::<u64>().ok()?.checked_mul(100)?.checked_add(part)?;
        Some(Self { hundredths, currency: currency.into() })
    }

    /// The amount, in the currency.
    pub fn amount(&self) -> f64 {
        self.hundredths as f64 / 100.0
    }
}

impl fmt::Display for Price {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (whole, part) = (self.hundredths / 100, self.hundredths % 100);
        let amount = if part == 0 { whole.to_string() } else { format!("{whole}.{part:02}") };
        f.pad(&format!("{amount} {}", self.currency))
    }
}

/// Reads a date, "2031-05-04".
pub fn parse_date(text: &str) -> Option<Date> {
    text.trim().parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("50 °C", Some((50.0, "50 °C")))]
    #[case("50C", Some((50.0, "50 °C")))]
    #[case("122 °F", Some((50.0, "122 °F")))]
    #[case("-4 F", Some((-20.0, "-4 °F")))]
    #[case("50", None)]
    #[case("", None)]
    #[case("hot C", None)]
    #[case("900 °C", None)]
    fn temperatures(#[case] text: &str, #[case] expected: Option<(f64, &str)>) {
        let read = Temperature::parse(text);
        assert_eq!(read.map(|t| t.celsius), expected.map(|e| e.0));
        assert_eq!(read.map(|t| t.to_string()), expected.map(|e| e.1.to_string()));
    }

    #[rstest]
    #[case("249 EUR", Some((24_900, "249 EUR")))]
    #[case("249.9 USD", Some((24_990, "249.90 USD")))]
    #[case("0.05 EUR", Some((5, "0.05 EUR")))]
    #[case("249", None)]
    #[case("-3 EUR", None)]
    #[case("1.234 EUR", None)]
    fn prices(#[case] text: &str, #[case] expected: Option<(u64, &str)>) {
        let read = Price::parse(text);
        assert_eq!(read.as_ref().map(|p| p.hundredths), expected.map(|e| e.0));
        assert_eq!(read.map(|p| p.to_string()), expected.map(|e| e.1.to_string()));
    }

    #[rstest]
    #[case("2031-05-04", true)]
    #[case("2031-02-30", false)]
    #[case("May 2031", false)]
    fn dates(#[case] text: &str, #[case] is_one: bool) {
        assert_eq!(parse_date(text).is_some(), is_one);
    }
}
