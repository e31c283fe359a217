//! Chances and small numbers, as people can hold them.

use super::count;

/// Rounded to two significant digits.
pub(crate) fn rounded(number: f64) -> f64 {
    if number == 0.0 || !number.is_finite() {
        return number;
    }
    let scale = 10f64.powi(number.abs().log10().floor() as i32 - 1);
    (number / scale).round() * scale
}

/// A number with two significant digits, and words for the large ones.
pub(crate) fn two_digits(number: f64) -> String {
    let number = rounded(number);
    if number >= 1e6 {
        format!("{} million", two_digits(number / 1e6))
    } else if number >= 10.0 {
        count(number.round() as u64)
    } else if number == 0.0 {
        "0".into()
    } else {
        // As many places as two digits need, and no zeros at the end.
        let places = (1 - number.log10().floor() as i32).max(0) as usize;
        format!("{number:.places$}").trim_end_matches('0').trim_end_matches('.').to_string()
    }
}

/// A share in per cent.
pub(crate) fn percent_of(share: f64) -> String {
    format!("{} %", two_digits(share * 100.0))
}

/// Nobody can hold what is rarer than this; `--json` has the figure.
const LEAST: f64 = 1e-9;

/// "about 1 in 700", "about 67 %", "none".
pub(crate) fn odds(share: f64) -> String {
    if share <= 0.0 {
        "none".into()
    } else if share < LEAST {
        format!("less than 1 in {}", two_digits(1.0 / LEAST))
    } else if share >= 0.5 {
        format!("about {}", percent_of(share))
    } else {
        format!("about 1 in {}", two_digits(1.0 / share))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "none")]
    #[case(0.001_42, "about 1 in 700")]
    #[case(8.3e-8, "about 1 in 12 million")]
    #[case(0.0999, "about 1 in 10")]
    #[case(0.27, "about 1 in 3.7")]
    #[case(4e-9, "about 1 in 250 million")]
    #[case(4e-11, "less than 1 in 1,000 million")]
    #[case(0.666, "about 67 %")]
    #[case(1.0, "about 100 %")]
    fn odds_are_figures_that_people_can_hold(#[case] share: f64, #[case] words: &str) {
        assert_eq!(odds(share), words);
    }

    #[rstest]
    #[case(0.0, "0 %")]
    #[case(0.000_25, "0.025 %")]
    #[case(0.08, "8 %")]
    #[case(0.014, "1.4 %")]
    #[case(1.0, "100 %")]
    fn shares_have_two_digits(#[case] share: f64, #[case] words: &str) {
        assert_eq!(percent_of(share), words);
    }
}
