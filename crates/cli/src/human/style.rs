//! Colours: one meaning each, and never the only sign of it. `anstream` takes them away where there is no terminal.
//!
//! They are of the 256 that terminals agree on, and chosen so that they can be read on a dark and on a light background.

use anstyle::{Ansi256Color, Color, Style};
use sieve_core::fate::Fate;

const fn coloured(number: u8) -> Style {
    Style::new().fg_color(Some(Color::Ansi256(Ansi256Color(number))))
}

/// Something is well.
pub(crate) const WELL: Style = coloured(28);
/// Something wants attention.
pub(crate) const WATCH: Style = coloured(130);
/// Something is lost or wrong.
pub(crate) const BAD: Style = coloured(160);
/// A heading.
pub(crate) const HEAD: Style = Style::new().bold();
/// Something of less weight.
pub(crate) const FAINT: Style = coloured(243);

/// The colour of a fate.
pub(crate) const fn of_fate(fate: Fate) -> Style {
    match fate {
        Fate::Untouched => Style::new(),
        Fate::Rebuilt => WELL,
        Fate::Older | Fate::Torn => WATCH,
        Fate::Gone => BAD,
    }
}

/// The colour of a verdict on a disk.
pub(crate) const fn of_verdict(verdict: sieve_core::health::Verdict) -> Style {
    use sieve_core::health::Verdict;
    match verdict {
        Verdict::Fine => WELL,
        Verdict::Watch => WATCH,
        Verdict::ReplaceSoon | Verdict::DoNotUse => BAD,
    }
}

/// Text in a style.
pub(crate) fn paint(style: Style, text: impl std::fmt::Display) -> String {
    match text.to_string() {
        empty if empty.is_empty() => empty,
        text => format!("{style}{text}{style:#}"),
    }
}

/// Prints a heading after an empty line.
pub(crate) fn heading(text: &str) {
    crate::say!("\n{}", paint(HEAD, text));
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Of the cube of 6×6×6 colours and the greys behind it, as terminals show them.
    fn channels(number: u8) -> [f64; 3] {
        let level = |n: u8| if n == 0 { 0.0 } else { f64::from(55 + 40 * n) };
        match number {
            232..=255 => [f64::from(8 + 10 * (number - 232)); 3],
            _ => [(number - 16) / 36, (number - 16) / 6 % 6, (number - 16) % 6].map(level),
        }
    }

    /// Relative luminance, as the Web Content Accessibility Guidelines 2.2 define it.
    fn luminance(number: u8) -> f64 {
        let linear = |channel: f64| {
            let share = channel / 255.0;
            if share <= 0.04045 { share / 12.92 } else { ((share + 0.055) / 1.055).powf(2.4) }
        };
        let [red, green, blue] = channels(number).map(linear);
        0.2126 * red + 0.7152 * green + 0.0722 * blue
    }

    #[rstest]
    #[case(WELL)]
    #[case(WATCH)]
    #[case(BAD)]
    #[case(FAINT)]
    fn a_colour_can_be_read_on_black_and_on_white(#[case] style: Style) {
        let Some(Color::Ansi256(Ansi256Color(number))) = style.get_fg_color() else {
            panic!("a colour of 256")
        };
        let light = luminance(number);
        let contrasts = [(light + 0.05) / 0.05, 1.05 / (light + 0.05)];
        assert!(contrasts.iter().all(|contrast| *contrast > 3.8), "{number}: {contrasts:?}");
    }
}
