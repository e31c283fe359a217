//! How wide what is printed may be, and text set to that width.

use std::io::IsTerminal;
use std::sync::OnceLock;

use textwrap::core::Word;
use textwrap::{Options, WordSeparator, WordSplitter, WrapAlgorithm};

/// Nothing is set narrower than this.
const LEAST: usize = 40;
/// A command that is longer than this is broken like other text.
const LONGEST: usize = 60;

/// What `$COLUMNS` says, else how wide the terminal is; nothing where the result goes to a file or a pipe, which take lines
/// of any length.
pub(crate) fn of_output() -> Option<usize> {
    static WIDTH: OnceLock<Option<usize>> = OnceLock::new();
    *WIDTH.get_or_init(|| {
        let said = std::env::var("COLUMNS").ok().and_then(|text| text.trim().parse().ok());
        let seen = || {
            let (width, _) = std::io::stdout()
                .is_terminal()
                .then(|| terminal_size::terminal_size_of(std::io::stdout()))
                .flatten()?;
            Some(usize::from(width.0))
        };
        said.filter(|columns| *columns > 0).or_else(seen).map(|width| width.max(LEAST))
    })
}

/// Columns that text takes on a terminal; what colours it takes none.
pub(crate) fn of(text: &str) -> usize {
    textwrap::core::display_width(text)
}

/// The beginning of a text that is no wider; that something is left out is shown.
pub(crate) fn cut(text: &str, width: usize) -> String {
    if of(text) <= width {
        return text.to_string();
    }
    let mut kept = String::new();
    for c in text.chars() {
        if of(&kept) + of(c.encode_utf8(&mut [0; 4])) + 1 > width {
            break;
        }
        kept.push(c);
    }
    kept + "…"
}

/// Lines set to a width: broken between words, going on under where the text of the line began.
pub(crate) fn wrapped(text: &str, width: Option<usize>) -> String {
    let Some(width) = width else { return text.to_string() };
    let lines = text.split('\n').map(|line| match of(line) {
        fits if fits <= width => line.to_string(),
        _ => broken(line, width),
    });
    lines.collect::<Vec<_>>().join("\n")
}

fn broken(line: &str, width: usize) -> String {
    let indent = " ".repeat(hang(line).min(width / 2));
    let lead: String = line.chars().take_while(|c| *c == ' ').collect();
    // What is broken within a command ends with a mark, for which there has to be room.
    let is_narrow = width < LONGEST + 2;
    let mut commands = line.split('`').skip(1).step_by(2);
    let is_paired = line.matches('`').count().is_multiple_of(2);
    let marks = is_paired && commands.any(|command| is_narrow || command.len() >= LONGEST);
    let separator = if is_narrow { WordSeparator::AsciiSpace } else { WordSeparator::Custom(words) };
    let options = Options::new(if marks { width - 2 } else { width })
        .initial_indent(&lead)
        .subsequent_indent(&indent)
        .word_splitter(WordSplitter::NoHyphenation)
        .wrap_algorithm(WrapAlgorithm::FirstFit)
        .word_separator(separator);
    let parts = textwrap::wrap(&line[lead.len()..], options);
    let mut inside = false;
    let mut lines = Vec::with_capacity(parts.len());
    for (number, part) in parts.iter().enumerate() {
        inside ^= part.matches('`').count() % 2 == 1;
        // A command that is longer than a line goes on the next one as a shell takes it.
        let goes_on = marks && inside && number + 1 < parts.len();
        lines.push(if goes_on { format!("{part} \\") } else { part.to_string() });
    }
    lines.join("\n")
}

/// Words, where a command between backticks is one: somebody will paste it.
fn words(line: &str) -> Box<dyn Iterator<Item = Word<'_>> + '_> {
    let mut found = Vec::new();
    let mut start = 0;
    // Where the command began that this is within.
    let mut opened = None;
    let mut spaces = false;
    for (at, c) in line.char_indices() {
        if c != ' ' && spaces {
            let is_short =
                |opened: usize| line[opened + 1..].find('`').is_some_and(|length| length < LONGEST);
            if !opened.is_some_and(is_short) {
                found.push(Word::from(&line[start..at]));
                start = at;
            }
            spaces = false;
        }
        match c {
            ' ' => spaces = true,
            '`' => opened = if opened.is_some() { None } else { Some(at) },
            _ => {}
        }
    }
    found.push(Word::from(&line[start..]));
    Box::new(found.into_iter())
}

/// Where the text of a line begins: behind its indentation, a mark, and a label that is set apart by two spaces.
fn hang(line: &str) -> usize {
    /// What stands further right is no label.
    const LABEL: usize = 28;
    let plain = anstream::adapter::strip_str(line).to_string();
    let characters: Vec<char> = plain.chars().collect();
    let lead = characters.iter().take_while(|c| **c == ' ').count();
    let mark = match characters.get(lead..lead + 2) {
        Some([mark, ' ']) if !mark.is_alphanumeric() => 2,
        _ => 0,
    };
    let from = lead + mark;
    let rest: String = characters[from..].iter().collect();
    let label = rest.find("  ").filter(|at| *at > 0 && *at < LABEL).map(|at| {
        let gap = rest[at..].chars().take_while(|c| *c == ' ').count();
        rest[..at].chars().count() + gap
    });
    match label {
        Some(label) => from + label,
        None if mark > 0 => from,
        // What goes on is told apart from what begins.
        None if lead > 0 => lead + 2,
        None => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("short", 40, "short")]
    #[case(
        "a sentence that is longer than the forty columns there are",
        40,
        "a sentence that is longer than the forty\ncolumns there are"
    )]
    #[case(
        "  ✓ what is marked goes on behind its mark, not below it",
        40,
        "  ✓ what is marked goes on behind its\n    mark, not below it"
    )]
    #[case(
        "  waits     so many files, and the oldest of them came long ago",
        40,
        "  waits     so many files, and the\n            oldest of them came long ago"
    )]
    #[case(
        "what is to be known of it, and when, is told by `zinc-sieve fate --lose oak` and more",
        66,
        "what is to be known of it, and when, is told by\n`zinc-sieve fate --lose oak` and more"
    )]
    #[case(
        "what to do now is `zinc-sieve fate --lose oak` and more",
        40,
        "what to do now is `zinc-sieve fate \\\n--lose oak` and more"
    )]
    #[case(
        "one ` alone is no command, and nothing is to be pasted of it",
        40,
        "one ` alone is no command, and nothing\nis to be pasted of it"
    )]
    #[case(
        "\u{1b}[1mbold\u{1b}[0m does not count, and what is long is broken",
        40,
        "\u{1b}[1mbold\u{1b}[0m does not count, and what is long is\nbroken"
    )]
    fn lines_are_broken_between_words(#[case] text: &str, #[case] width: usize, #[case] expected: &str) {
        assert_eq!(wrapped(text, Some(width)), expected);
        assert_eq!(wrapped(text, None), text);
    }

    #[test]
    fn a_command_longer_than_a_line_can_still_be_pasted() {
        let text =
            "`zinc-sieve rebuild cedar --onto /mnt/a-new-disk-with-a-long-name --first nest-cams --salvage`";
        let shown = wrapped(text, Some(50));
        assert!(shown.lines().all(|line| of(line) <= 50), "{shown}");
        assert_eq!(shown.replace(" \\\n", " "), text);
    }
}
