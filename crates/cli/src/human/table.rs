//! Plain aligned columns.

use anstyle::Style;

use super::style;

/// A cell: text and its style.
struct Cell {
    text: String,
    style: Style,
}

/// A table; columns whose heading begins with `>` are aligned to the right.
pub(crate) struct Table {
    headings: Vec<&'static str>,
    rows: Vec<Vec<Cell>>,
}

impl Table {
    pub(crate) fn new(headings: &[&'static str]) -> Self {
        Self { headings: headings.into(), rows: Vec::new() }
    }

    /// Adds a row of plain cells.
    pub(crate) fn row<const N: usize>(&mut self, cells: [String; N]) {
        self.styled_row(cells.map(|text| (text, Style::new())));
    }

    /// Adds a row of cells with styles.
    pub(crate) fn styled_row<const N: usize>(&mut self, cells: [(String, Style); N]) {
        self.rows.push(cells.into_iter().map(|(text, style)| Cell { text, style }).collect());
    }

    /// Prints it, indented by two.
    pub(crate) fn print(&self) {
        let widths: Vec<usize> = (0..self.headings.len())
            .map(|c| {
                let cells = self.rows.iter().map(|row| row[c].text.chars().count());
                cells.chain([self.heading(c).chars().count()]).max().unwrap_or(0)
            })
            .collect();
        let line = |cells: Vec<(&str, Style)>| {
            let mut text = String::from(" ");
            for (c, (cell, style)) in cells.iter().enumerate() {
                let pad = " ".repeat(widths[c].saturating_sub(cell.chars().count()));
                let painted = style::paint(*style, cell);
                text.push_str(&if self.is_right(c) {
                    format!(" {pad}{painted} ")
                } else {
                    format!(" {painted}{pad} ")
                });
            }
            anstream::println!("{}", text.trim_end());
        };
        line((0..self.headings.len()).map(|c| (self.heading(c), style::FAINT)).collect());
        for row in &self.rows {
            line(row.iter().map(|cell| (cell.text.as_str(), cell.style)).collect());
        }
    }

    fn is_right(&self, column: usize) -> bool {
        self.headings[column].starts_with('>')
    }

    fn heading(&self, column: usize) -> &'static str {
        self.headings[column].trim_start_matches('>')
    }
}
