//! Serial numbers that are easily taken for one another.

use schemars::JsonSchema;
use serde::Serialize;

/// How many characters at the end people read.
const TAIL: usize = 4;

/// Two serial numbers that are easily confused.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Confusion {
    /// One.
    pub first: String,
    /// The other.
    pub second: String,
    /// Why.
    pub why: &'static str,
}

/// Splits a serial number before the characters at its end that people read.
pub fn tail(serial: &str) -> (&str, &str) {
    let cut = serial.char_indices().rev().nth(TAIL - 1).map_or(0, |(position, _)| position);
    serial.split_at(cut)
}

/// The character that stands for all that look like it.
const fn shape(character: char) -> char {
    match character.to_ascii_uppercase() {
        'O' | 'Q' | 'D' => '0',
        'I' | 'L' => '1',
        'S' => '5',
        'B' => '8',
        'Z' => '2',
        'G' => '6',
        other => other,
    }
}

fn shapes(serial: &str) -> String {
    serial.chars().map(shape).collect()
}

/// The pairs that are easily confused: they look alike, or end alike.
pub fn confusable<'a>(serials: impl IntoIterator<Item = &'a str>) -> Vec<Confusion> {
    let serials: Vec<&str> = serials.into_iter().filter(|s| !s.is_empty()).collect();
    let mut found = Vec::new();
    for (position, first) in serials.iter().enumerate() {
        for second in &serials[position + 1..] {
            let why = match () {
                () if first == second => "they are the same: one of them is wrong, or a disk is listed twice",
                () if shapes(first) == shapes(second) => "they differ only in characters that look alike",
                () if tail(first).1 == tail(second).1 => "they end alike: read further to the left",
                () if shapes(tail(first).1) == shapes(tail(second).1) => "their ends look alike",
                () => continue,
            };
            found.push(Confusion { first: (*first).into(), second: (*second).into(), why });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("TW12-88Q4K7", "TW12-8BQ4K7", Some("look alike"))]
    #[case("TW0O", "TW00", Some("look alike"))]
    #[case("KS08-31V7C5", "TW12-99V7C5", Some("end alike"))]
    #[case("AA-1I5S", "BB-I15S", Some("ends look alike"))]
    #[case("TW12-88Q4K7", "TW12-88Q4K7", Some("the same"))]
    #[case("TW12-88Q4K7", "TW12-88Q9M2", None)]
    #[case("", "", None)]
    fn pairs(#[case] first: &str, #[case] second: &str, #[case] why: Option<&str>) {
        let found = confusable([first, second]);
        assert_eq!(found.len(), usize::from(why.is_some()), "{found:?}");
        assert!(why.is_none_or(|words| found[0].why.contains(words)), "{found:?}");
    }

    #[test]
    fn the_tail_is_the_last_four_characters() {
        assert_eq!(tail("TW12-88Q4K7"), ("TW12-88", "Q4K7"));
        assert_eq!(tail("é7"), ("", "é7"));
        assert_eq!(tail(""), ("", ""));
    }
}
