//! The one way in which anything reaches a terminal, a file or a pipe.
//!
//! What comes from disks may hold anything: whatever would move the cursor, change how text is read, or do more than colour
//! it is shown escaped (L6). Output that breaks (a closed pipe, a full disk) goes quiet: the work goes on to its end.

use std::fmt::{Arguments, Write as _};
use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, OnceLock};

use sieve_core::path::disturbs;

use crate::human::width;

/// Prints a line of a result on stdout.
#[macro_export]
macro_rules! say {
    () => { $crate::output::line(format_args!("")) };
    ($($text:tt)*) => { $crate::output::line(format_args!($($text)*)) };
}

/// Prints the answer: with `--quiet` nothing but it.
#[macro_export]
macro_rules! answer {
    ($($text:tt)*) => { $crate::output::answer(format_args!($($text)*)) };
}

/// Prints a line beside the result, on stderr.
#[macro_export]
macro_rules! say_aside {
    ($($text:tt)*) => { $crate::output::note_aside(format_args!($($text)*)) };
}

/// Prints what is said of an error, on stderr.
#[macro_export]
macro_rules! complain {
    ($($text:tt)*) => { $crate::output::line_aside(format_args!($($text)*)) };
}

/// Why stdout takes nothing any more.
static BROKEN: Mutex<Option<io::Error>> = Mutex::new(None);

fn note(error: io::Error) {
    BROKEN.lock().unwrap_or_else(std::sync::PoisonError::into_inner).get_or_insert(error);
}

fn is_broken() -> bool {
    BROKEN.lock().unwrap_or_else(std::sync::PoisonError::into_inner).is_some()
}

/// Why the result could not be written, where that matters: somebody who closed a pipe has read enough.
pub(crate) fn failure() -> Option<String> {
    let broken = BROKEN.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let error = broken.as_ref().filter(|error| error.kind() != io::ErrorKind::BrokenPipe)?;
    Some(error.to_string().split(" (os error").next().unwrap_or_default().to_string())
}

pub(crate) fn line(text: Arguments<'_>) {
    if !ONLY_THE_ANSWER.load(Ordering::Relaxed) {
        write(&format!("{}\n", set(&text.to_string())));
    }
}

/// A line of the answer: where nothing else is printed, nothing is set apart from it.
pub(crate) fn answer(text: Arguments<'_>) {
    let text = text.to_string();
    let told = if ONLY_THE_ANSWER.load(Ordering::Relaxed) { text.trim_matches('\n') } else { &text };
    write(&format!("{}\n", set(told)));
}

/// As much of a result as somebody wants.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Detail {
    /// The answer alone.
    Quiet,
    Plain,
    /// With what only somebody wants to know who knows how it works inside.
    Verbose,
}

static DETAIL: OnceLock<Detail> = OnceLock::new();
/// Whether a command that has an answer is to print nothing else.
static ONLY_THE_ANSWER: AtomicBool = AtomicBool::new(false);

/// Chooses it for the whole run; a command without an answer is a list, and prints that in any case.
pub(crate) fn choose(detail: Detail, has_answer: bool) {
    // Set once, at the start.
    let _ = DETAIL.set(detail);
    ONLY_THE_ANSWER.store(has_answer && detail == Detail::Quiet, Ordering::Relaxed);
}

fn detail() -> Detail {
    DETAIL.get().copied().unwrap_or(Detail::Plain)
}

/// Whether somebody wants to know how it works inside.
pub(crate) fn is_verbose() -> bool {
    detail() == Detail::Verbose
}

/// Whether somebody wants the answer alone.
pub(crate) fn is_quiet() -> bool {
    detail() == Detail::Quiet
}

/// Text as it is printed: harmless, and as wide as there is room.
fn set(text: &str) -> String {
    width::wrapped(&harmless(text), width::of_output())
}

/// Something that is no result and no error: what is quiet leaves it out.
pub(crate) fn note_aside(text: Arguments<'_>) {
    if !is_quiet() {
        line_aside(text);
    }
}

/// A line for a program that reads stderr: as long as it is.
pub(crate) fn record_aside(record: &str) {
    // Whoever does not read any more loses nothing but the lines.
    let _ = io::stderr().lock().write_all(format!("{}\n", harmless(record)).as_bytes());
}

pub(crate) fn line_aside(text: Arguments<'_>) {
    // Whoever does not read what is said beside the result misses nothing of it.
    let _ = anstream::stderr().write_all(format!("{}\n", set(&text.to_string())).as_bytes());
}

/// Writes text that is a document of its own (JSON, a script) on stdout as it is.
pub(crate) fn document(text: &str) {
    write(text);
}

/// Stdout, for documents that are written bit by bit: once it is broken it takes everything and keeps nothing.
pub(crate) struct Stdout;

impl Write for Stdout {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if !is_broken()
            && let Err(error) = io::stdout().lock().write_all(bytes)
        {
            note(error);
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        if !is_broken()
            && let Err(error) = io::stdout().lock().flush()
        {
            note(error);
        }
        Ok(())
    }
}

fn write(text: &str) {
    if is_broken() {
        return;
    }
    let written = crate::pager::write(text).unwrap_or_else(|| {
        let mut out = anstream::stdout().lock();
        out.write_all(text.as_bytes()).and_then(|()| out.flush())
    });
    if let Err(error) = written {
        note(error);
    }
}

/// Colours and line ends stay; everything else that is no text is shown as what it is.
fn harmless(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(length) = colour(rest) {
            shown.push_str(&rest[..length]);
            rest = &rest[length..];
            continue;
        }
        match c {
            '\n' | '\t' => shown.push(c),
            _ if disturbs(c) => {
                // Writing to text cannot fail.
                let _ = write!(shown, "{}", c.escape_default());
            }
            _ => shown.push(c),
        }
        rest = &rest[c.len_utf8()..];
    }
    shown
}

/// How long the sequence at the start is, if it only colours: ESC [ digits and semicolons m.
fn colour(text: &str) -> Option<usize> {
    let parameters = text.strip_prefix("\x1b[")?;
    let end = parameters.find(|c: char| !c.is_ascii_digit() && c != ';' && c != ':')?;
    (parameters.as_bytes()[end] == b'm').then_some(end + 3)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("plain – ä\n\tnext", "plain – ä\n\tnext")]
    #[case("\x1b[1;31mred\x1b[0m", "\x1b[1;31mred\x1b[0m")]
    #[case("\x1b[2Jgone", "\\u{1b}[2Jgone")]
    #[case("\x1b]0;title\x07", "\\u{1b}]0;title\\u{7}")]
    #[case("a\rb", "a\\rb")]
    #[case("right\u{202e}left", "right\\u{202e}left")]
    #[case("\u{9b}2J", "\\u{9b}2J")]
    fn what_is_more_than_text_and_colour_is_escaped(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(harmless(text), expected);
    }
}
