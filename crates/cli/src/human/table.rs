//! Aligned columns that fit: what matters least is left out where there is no room, cells are broken between words, and
//! where that is not enough the rows are told one below the other.

use std::borrow::Cow;

use anstyle::Style;
use tabled::settings::object::Columns;
use tabled::settings::{Alignment, Padding};

use super::{style, width};

/// Cells of text are broken down to this, where that makes a table fit.
const TEXT: usize = 20;
/// What is wider than this is prose: it is broken before a column is left out.
const PROSE: usize = 40;
/// How far it is indented, with the space before each cell.
const INDENT: usize = 2;
/// What is between two columns.
const GAP: usize = 2;

/// A cell: one or more pieces of text, each in its style.
pub(crate) struct Cell(Vec<(String, Style)>);

impl From<String> for Cell {
    fn from(text: String) -> Self {
        Self(vec![(text, Style::new())])
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Self {
        Self::from(text.to_string())
    }
}

impl From<(String, Style)> for Cell {
    fn from(piece: (String, Style)) -> Self {
        Self(vec![piece])
    }
}

impl Cell {
    /// Several pieces beside each other.
    pub(crate) fn of<const N: usize>(pieces: [(String, Style); N]) -> Self {
        Self(pieces.into())
    }

    fn text(&self) -> String {
        self.0.iter().map(|(text, _)| text.as_str()).collect()
    }

    fn painted(&self) -> String {
        self.0.iter().map(|(text, style)| style::paint(*style, text)).collect()
    }

    /// The longest word: no column is made narrower.
    fn longest_word(&self) -> usize {
        self.text().split(' ').map(width::of).max().unwrap_or(0)
    }

    /// Painted, broken between words so that no line is wider.
    fn broken(&self, width: usize) -> String {
        if width::of(&self.text()) <= width {
            return self.painted();
        }
        // Several pieces are not broken apart from each other: what has several is short.
        let (text, style) = (self.text(), self.0.first().map_or_else(Style::new, |(_, style)| *style));
        let lines = textwrap::wrap(
            &text,
            textwrap::Options::new(width).word_splitter(textwrap::WordSplitter::NoHyphenation),
        );
        lines.iter().map(|line| style::paint(style, line)).collect::<Vec<_>>().join("\n")
    }

    fn is_blank(&self) -> bool {
        self.0.iter().all(|(text, _)| text.is_empty() || text == "-")
    }
}

/// A column: its heading, how it is aligned, and how soon it goes where there is no room.
struct Column {
    heading: Cow<'static, str>,
    is_right: bool,
    /// Nothing where it always stays; the highest goes first.
    goes: u8,
}

impl Column {
    /// `>` in front aligns to the right; each `?` in front lets it go sooner.
    fn parse(written: Cow<'static, str>) -> Self {
        let marks = written.chars().take_while(|c| matches!(c, '>' | '?')).count();
        let (marked, _) = written.split_at(marks);
        let is_right = marked.contains('>');
        let goes = u8::try_from(marked.matches('?').count()).unwrap_or(u8::MAX);
        let heading = match written {
            Cow::Borrowed(text) => Cow::Borrowed(&text[marks..]),
            Cow::Owned(text) => Cow::Owned(text[marks..].to_string()),
        };
        Self { heading, is_right, goes }
    }
}

/// A table. Columns whose heading begins with `>` are aligned to the right; those with `?` are left out where there is no
/// room, the ones with the most `?` first.
pub(crate) struct Table {
    columns: Vec<Column>,
    rows: Vec<Vec<Cell>>,
}

impl Table {
    pub(crate) fn new(headings: &[&'static str]) -> Self {
        let columns = headings.iter().map(|heading| Column::parse(Cow::Borrowed(*heading)));
        Self { columns: columns.collect(), rows: Vec::new() }
    }

    /// One whose columns depend on what is shown.
    pub(crate) fn of(headings: Vec<String>) -> Self {
        let columns = headings.into_iter().map(|heading| Column::parse(Cow::Owned(heading)));
        Self { columns: columns.collect(), rows: Vec::new() }
    }

    /// Adds a row of plain cells.
    pub(crate) fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.add(cells.map(Cell::from));
    }

    /// Adds a row of cells with styles.
    pub(crate) fn styled_row<const N: usize>(&mut self, cells: [(String, Style); N]) {
        self.add(cells.map(Cell::from));
    }

    /// Adds a row.
    pub(crate) fn add<const N: usize>(&mut self, cells: [Cell; N]) {
        debug_assert_eq!(N, self.columns.len());
        self.rows.push(cells.into());
    }

    /// Adds a row of as many cells as there are headings.
    pub(crate) fn add_row(&mut self, cells: Vec<Cell>) {
        debug_assert_eq!(cells.len(), self.columns.len());
        self.rows.push(cells);
    }

    /// Leaves out the columns in which there is nothing but dashes.
    pub(crate) fn leave_blanks_out(&mut self) {
        for column in (0..self.columns.len()).rev() {
            if self.rows.iter().all(|row| row[column].is_blank()) {
                self.columns.remove(column);
                self.rows.iter_mut().for_each(|row| _ = row.remove(column));
            }
        }
    }

    /// Prints it, indented by two.
    pub(crate) fn print(&self) {
        let set = self.set(width::of_output());
        if !set.is_empty() {
            crate::say!("{set}");
        }
    }

    /// As text that is nowhere wider.
    fn set(&self, width: Option<usize>) -> String {
        let all: Vec<usize> = (0..self.columns.len()).collect();
        let Some(width) = width else { return self.as_columns(&all, None) };
        let kept = self.that_fit(width);
        if self.takes(&kept) <= width {
            return self.as_columns(&kept, None);
        }
        if self.takes_at_least(&kept) <= width {
            return self.as_columns(&kept, Some(width));
        }
        self.as_records(width)
    }

    /// The columns that stay so that the rest fits, if leaving out helps.
    fn that_fit(&self, width: usize) -> Vec<usize> {
        let mut kept: Vec<usize> = (0..self.columns.len()).collect();
        while self.takes_with_prose_broken(&kept) > width {
            let goes = |c: &usize| self.columns[*c].goes;
            let Some(least) = kept.iter().copied().filter(|c| goes(c) > 0).max_by_key(|c| (goes(c), *c))
            else {
                break;
            };
            kept.retain(|c| *c != least);
        }
        kept
    }

    fn widest(&self, column: usize, of: impl Fn(&Cell) -> usize) -> usize {
        let cells = self.rows.iter().map(|row| of(&row[column]));
        cells.chain([width::of(&self.columns[column].heading)]).max().unwrap_or(0)
    }

    /// How wide some columns are as they are.
    fn takes(&self, columns: &[usize]) -> usize {
        Self::sum(columns, |c| self.widest(c, |cell| width::of(&cell.text())))
    }

    /// How wide they are with nothing broken but what is prose.
    fn takes_with_prose_broken(&self, columns: &[usize]) -> usize {
        Self::sum(columns, |c| {
            let whole = self.widest(c, |cell| width::of(&cell.text()));
            if self.columns[c].is_right || whole <= PROSE {
                whole
            } else {
                self.widest(c, Cell::longest_word).max(PROSE)
            }
        })
    }

    /// How wide they are with their text broken between words, and their numbers whole.
    fn takes_at_least(&self, columns: &[usize]) -> usize {
        Self::sum(columns, |c| {
            let whole = self.widest(c, |cell| width::of(&cell.text()));
            if self.columns[c].is_right {
                whole
            } else {
                self.widest(c, Cell::longest_word).max(whole.min(TEXT))
            }
        })
    }

    fn sum(columns: &[usize], of: impl Fn(usize) -> usize) -> usize {
        INDENT + columns.iter().map(|c| of(*c) + GAP).sum::<usize>().saturating_sub(GAP)
    }

    /// Beside each other; where a width is given, with the text of the widest columns broken until they fit.
    fn as_columns(&self, columns: &[usize], width: Option<usize>) -> String {
        let widths = width.map(|width| self.narrowed(columns, width));
        let heading = |c: &usize| style::paint(style::FAINT, &self.columns[*c].heading);
        let mut builder = tabled::builder::Builder::new();
        builder.push_record(columns.iter().map(heading));
        for row in &self.rows {
            let cells = columns.iter().enumerate().map(|(place, c)| match &widths {
                Some(widths) => row[*c].broken(widths[place]),
                None => row[*c].painted(),
            });
            builder.push_record(cells);
        }
        let mut table = builder.build();
        table.with(tabled::settings::Style::empty()).with(Padding::new(0, GAP, 0, 0));
        for (place, column) in columns.iter().enumerate() {
            if self.columns[*column].is_right {
                table.modify(Columns::one(place), Alignment::right());
            }
        }
        let lines = table.to_string();
        let indented = lines.lines().map(|line| format!("{}{}", " ".repeat(INDENT), line.trim_end()));
        indented.collect::<Vec<_>>().join("\n")
    }

    /// How wide each column is set: the widest text gives way first, down to its longest word.
    fn narrowed(&self, columns: &[usize], width: usize) -> Vec<usize> {
        let whole = |c: usize| self.widest(c, |cell| width::of(&cell.text()));
        let mut widths: Vec<usize> = columns.iter().map(|c| whole(*c)).collect();
        let least: Vec<usize> = columns.iter().map(|c| self.least(*c)).collect();
        let taken = |widths: &[usize]| INDENT + widths.iter().sum::<usize>() + GAP * (widths.len() - 1);
        while taken(&widths) > width {
            let can_give = (0..widths.len()).filter(|place| widths[*place] > least[*place]);
            let Some(widest) = can_give.max_by_key(|place| widths[*place]) else { break };
            widths[widest] -= 1;
        }
        widths
    }

    /// The least that a column is narrowed to: a number stays whole.
    fn least(&self, column: usize) -> usize {
        let whole = self.widest(column, |cell| width::of(&cell.text()));
        if self.columns[column].is_right {
            whole
        } else {
            self.widest(column, Cell::longest_word).max(whole.min(TEXT))
        }
    }

    /// Each row as a paragraph: the first cell leads, the others follow with their headings.
    fn as_records(&self, width: usize) -> String {
        let text = self.rows.iter().map(|row| self.as_record(row, width)).collect::<Vec<_>>().join("\n");
        width::wrapped(&text, Some(width))
    }

    fn as_record(&self, row: &[Cell], width: usize) -> String {
        const INDENT: &str = "    ";
        let told = (1..row.len()).filter(|c| !row[*c].is_blank()).map(|c| match &*self.columns[c].heading {
            "" => row[c].painted(),
            heading => format!("{} {}", style::paint(style::FAINT, heading), row[c].painted()),
        });
        let mut lines = vec![format!("  {}", row[0].painted())];
        let mut line = String::new();
        for item in told {
            if line.is_empty() {
                line = format!("{INDENT}{item}");
            } else if width::of(&line) + 3 + width::of(&item) <= width {
                line += &format!(" · {item}");
            } else {
                lines.push(std::mem::replace(&mut line, format!("{INDENT}{item}")));
            }
        }
        lines.extend((!line.is_empty()).then_some(line));
        lines.join("\n")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn table() -> Table {
        let mut table = Table::new(&["disk", "?model", ">size", "??why"]);
        table.row(["alder".into(), "TW-A12".into(), "12.0 TB".into(), "it is hot and it is full".into()]);
        table.row(["beech".into(), "-".into(), "8.00 TB".into(), String::new()]);
        table
    }

    fn plain(table: &Table, width: Option<usize>) -> String {
        anstream::adapter::strip_str(&table.set(width)).to_string()
    }

    #[test]
    fn what_matters_least_goes_first() {
        let everything = "  disk   model      size  why\n  alder  TW-A12  12.0 TB  it is hot and it is full\n  beech  -       8.00 TB";
        assert_eq!(plain(&table(), None), everything);
        assert_eq!(plain(&table(), Some(60)), everything);
        assert_eq!(
            plain(&table(), Some(30)),
            "  disk   model      size\n  alder  TW-A12  12.0 TB\n  beech  -       8.00 TB"
        );
        assert_eq!(plain(&table(), Some(20)), "  disk      size\n  alder  12.0 TB\n  beech  8.00 TB");
    }

    #[test]
    fn rows_are_told_one_below_the_other_where_nothing_else_helps() {
        assert_eq!(
            plain(&table(), Some(15)),
            "  alder\n    model\n      TW-A12\n    size 12.0\n      TB\n    why it is\n      hot and\n      it is\n      full\n  beech\n    size 8.00\n      TB"
        );
    }

    #[rstest]
    fn nothing_is_wider_than_there_is_room(#[values(40, 80, 100, 140)] width: usize) {
        let mut table = Table::new(&["path", ">size", "told"]);
        let sentence = "a sentence about this file ".repeat(9);
        table.row(["dawn-chorus/a-name-that-is-rather-long-for-a-file.wav".into(), "1 kB".into(), sentence]);
        let set = table.set(Some(width));
        assert!(set.lines().all(|line| width::of(line) <= width), "{set}");
        assert!(plain(&table, Some(width)).contains("sentence"));
    }
}
