//! `fate --map`: what each pair of disks costs, as a matrix.

use std::path::Path;

use serde::Serialize;
use sieve_core::fate::Cost;
use sieve_store::Result;
use sieve_store::fate::Outlook;

use super::{Question, heading};
use crate::chart;
use crate::commands::Context;
use crate::exit::Outcome;
use crate::human::style;
use crate::human::{size, units};
use crate::json;

/// Up to so many disks have their costs written out in the terminal.
const WRITTEN_OUT: usize = 12;

/// Disks against disks: singles on the diagonal.
#[derive(Serialize)]
pub(crate) struct LossMap {
    pub(crate) disks: Vec<String>,
    pub(crate) costs: Vec<Vec<Cost>>,
}

pub(super) fn run(
    context: &Context,
    outlook: &mut dyn Outlook,
    question: &Question<'_>,
    file: Option<&Path>,
) -> Result<Outcome> {
    let notes = question.do_first(outlook)?;
    let map = LossMap::of(outlook)?;
    if let Some(file) = file {
        let title = if question.steps.is_empty() { String::new() } else { format!(", {}", question.first()) };
        chart::save(file, |canvas| chart::losses::draw(canvas, &map, &title))?;
    }
    if context.json {
        json::print(&map)?;
    } else {
        notes.iter().for_each(|note| anstream::println!("note: {note}"));
        map.show();
        if let Some(file) = file {
            anstream::println!("\nwritten to {}", file.display());
        }
    }
    Ok(Outcome::well(map.worst().is_none_or(|(_, _, cost)| cost.files == 0)))
}

impl LossMap {
    fn of(outlook: &dyn Outlook) -> Result<Self> {
        let costs = outlook.costs(2)?;
        let count = costs.names.len();
        let pair = |row: usize, column: usize| {
            if row == column { costs.of(&[row]) } else { costs.of(&[row.min(column), row.max(column)]) }
        };
        let matrix = (0..count).map(|row| (0..count).map(|column| pair(row, column)).collect()).collect();
        Ok(Self { disks: costs.names, costs: matrix })
    }

    /// The costliest pair, as row and column; the first of equal ones.
    pub(crate) fn worst(&self) -> Option<(usize, usize, Cost)> {
        let cells = (0..self.disks.len()).flat_map(|row| (0..=row).map(move |column| (row, column)));
        cells.map(|(row, column)| (row, column, self.costs[row][column])).rev().max_by_key(|cell| cell.2)
    }

    /// From 0 to 4: nothing, then by quarters of the worst.
    pub(crate) fn heat(&self, cost: Cost) -> usize {
        let worst = self.worst().map_or(0, |(_, _, worst)| worst.bytes.exact());
        match (cost.files, u128::from(cost.bytes.exact()) * 4) {
            (0, _) => 0,
            (_, share) => usize::try_from(share.div_ceil(u128::from(worst.max(1)))).unwrap_or(4).clamp(1, 4),
        }
    }

    fn show(&self) {
        heading("What the loss of a pair of disks costs; of one disk alone on the diagonal");
        println!();
        let is_small = self.disks.len() <= WRITTEN_OUT;
        let width =
            if is_small { self.disks.iter().map(|n| n.chars().count()).max().unwrap_or(0).max(8) } else { 2 };
        let names = self.disks.iter().map(|n| n.chars().count()).max().unwrap_or(0);
        if is_small {
            let head: String = self.disks.iter().map(|n| format!(" {n:>width$}")).collect();
            anstream::println!("  {:names$} {}", "", style::paint(style::FAINT, head));
        }
        for (row, name) in self.disks.iter().enumerate() {
            let mut line = format!("  {name:names$} ");
            for cost in &self.costs[row][..=row] {
                let heat = self.heat(*cost);
                let text = match (is_small, heat) {
                    (true, 0) => "·".into(),
                    (true, _) => size(cost.bytes),
                    (false, heat) => ["·", "░░", "▒▒", "▓▓", "██"][heat].to_string(),
                };
                line += &format!(" {}", style::paint(colour(heat), format!("{text:>width$}")));
            }
            if !is_small {
                line += &format!(" {}", style::paint(style::FAINT, row + 1));
            }
            anstream::println!("{line}");
        }
        self.show_legend(is_small, names);
    }

    fn show_legend(&self, is_small: bool, names: usize) {
        if !is_small {
            let numbers: String = (1..=self.disks.len()).map(|n| format!(" {n:>2}")).collect();
            anstream::println!("  {:names$} {}", "", style::paint(style::FAINT, numbers));
            anstream::println!("\n  · nothing  ░ ▒ ▓ █ by quarters of the worst pair");
        }
        match self.worst() {
            Some((row, column, cost)) if cost.files > 0 => {
                let who = if row == column {
                    self.disks[row].clone()
                } else {
                    format!("{} and {}", self.disks[column], self.disks[row])
                };
                let told = format!("{who}: {}, {}", size(cost.bytes), units::files(cost.files));
                anstream::println!("\n  The costliest: {}.", style::paint(style::BAD, told));
            }
            _ => {
                let words = "No pair costs anything: every file survives the loss of any two.";
                anstream::println!("\n  {}", style::paint(style::WELL, words));
            }
        }
    }
}

const fn colour(heat: usize) -> anstyle::Style {
    match heat {
        0 => style::FAINT,
        1 | 2 => style::WATCH,
        _ => style::BAD,
    }
}
