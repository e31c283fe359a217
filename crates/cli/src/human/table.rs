//! Plain aligned columns.

use std::borrow::Cow;

use anstyle::Style;

use super::style;

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

    fn width(&self) -> usize {
        self.0.iter().map(|(text, _)| text.chars().count()).sum()
    }

    fn painted(&self) -> String {
        self.0.iter().map(|(text, style)| style::paint(*style, text)).collect()
    }
}

/// A table; columns whose heading begins with `>` are aligned to the right.
pub(crate) struct Table {
    headings: Vec<Cow<'static, str>>,
    rows: Vec<Vec<Cell>>,
}

impl Table {
    pub(crate) fn new(headings: &[&'static str]) -> Self {
        Self { headings: headings.iter().map(|heading| Cow::Borrowed(*heading)).collect(), rows: Vec::new() }
    }

    /// One whose columns depend on what is shown.
    pub(crate) fn of(headings: Vec<String>) -> Self {
        Self { headings: headings.into_iter().map(Cow::Owned).collect(), rows: Vec::new() }
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
        debug_assert_eq!(N, self.headings.len());
        self.rows.push(cells.into());
    }

    /// Adds a row of as many cells as there are headings.
    pub(crate) fn add_row(&mut self, cells: Vec<Cell>) {
        debug_assert_eq!(cells.len(), self.headings.len());
        self.rows.push(cells);
    }

    /// Leaves out the columns in which there is nothing but dashes.
    pub(crate) fn leave_blanks_out(&mut self) {
        let is_blank = |row: &Vec<Cell>, c: usize| row[c].0.iter().all(|(text, _)| text == "-");
        let blank: Vec<usize> =
            (0..self.headings.len()).filter(|c| self.rows.iter().all(|row| is_blank(row, *c))).collect();
        for column in blank.into_iter().rev() {
            self.headings.remove(column);
            self.rows.iter_mut().for_each(|row| _ = row.remove(column));
        }
    }

    /// Prints it, indented by two.
    pub(crate) fn print(&self) {
        let headings: Vec<Cell> = (0..self.headings.len())
            .map(|c| Cell::from((self.heading(c).to_string(), style::FAINT)))
            .collect();
        let widths: Vec<usize> = (0..headings.len())
            .map(|c| self.rows.iter().chain([&headings]).map(|row| row[c].width()).max().unwrap_or(0))
            .collect();
        for row in [&headings].into_iter().chain(&self.rows) {
            let mut line = String::from(" ");
            for (c, cell) in row.iter().enumerate() {
                let pad = " ".repeat(widths[c] - cell.width());
                let painted = cell.painted();
                line +=
                    &if self.is_right(c) { format!(" {pad}{painted} ") } else { format!(" {painted}{pad} ") };
            }
            crate::say!("{}", line.trim_end());
        }
    }

    fn is_right(&self, column: usize) -> bool {
        self.headings[column].starts_with('>')
    }

    fn heading(&self, column: usize) -> &str {
        self.headings[column].trim_start_matches('>')
    }
}
