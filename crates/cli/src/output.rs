//! The one way in which anything reaches a terminal, a file or a pipe.
//!
//! What comes from disks may hold anything: whatever would move the cursor, change how text is read, or do more than colour
//! it is shown escaped (L6). Output that breaks (a closed pipe, a full disk) goes quiet: the work goes on to its end.

use std::fmt::{Arguments, Write as _};
use std::io::{self, Write};
use std::sync::Mutex;

use sieve_core::path::disturbs;

/// Prints a line of a result on stdout.
#[macro_export]
macro_rules! say {
    () => { $crate::output::line(format_args!("")) };
    ($($text:tt)*) => { $crate::output::line(format_args!($($text)*)) };
}

/// Prints a line beside the result, on stderr.
#[macro_export]
macro_rules! say_aside {
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
    write(&format!("{}\n", harmless(&text.to_string())));
}

pub(crate) fn line_aside(text: Arguments<'_>) {
    // Whoever does not read what is said beside the result misses nothing of it.
    let _ = anstream::stderr().write_all(format!("{}\n", harmless(&text.to_string())).as_bytes());
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
    let mut out = anstream::stdout().lock();
    if let Err(error) = out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
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
