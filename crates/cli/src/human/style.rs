//! Colours: one meaning each. `anstream` takes them away where there is no terminal.

use anstyle::{AnsiColor, Style};
use sieve_core::fate::Fate;

/// Something is well.
pub(crate) const WELL: Style = Style::new().fg_color(Some(anstyle::Color::Ansi(AnsiColor::Green)));
/// Something wants attention.
pub(crate) const WATCH: Style = Style::new().fg_color(Some(anstyle::Color::Ansi(AnsiColor::Yellow)));
/// Something is lost or wrong.
pub(crate) const BAD: Style = Style::new().fg_color(Some(anstyle::Color::Ansi(AnsiColor::Red)));
/// A heading.
pub(crate) const HEAD: Style = Style::new().bold();
/// Something of less weight.
pub(crate) const FAINT: Style = Style::new().fg_color(Some(anstyle::Color::Ansi(AnsiColor::BrightBlack)));

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
    format!("{style}{text}{style:#}")
}

/// Prints a heading after an empty line.
pub(crate) fn heading(text: &str) {
    crate::say!("\n{}", paint(HEAD, text));
}
