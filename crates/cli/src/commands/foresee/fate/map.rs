//! `fate --map`: what each pair of disks costs, as a matrix.

use std::path::Path;

use sieve_core::fate::LossMap;
use sieve_disk::Result;
use sieve_foresight::Outlook;

use super::question::{Question, heading};
use crate::chart;
use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::style;
use crate::human::{size, units, width};
use crate::json;

json::named!("fate-map", LossMap);

/// Up to so many disks have their costs written out in the terminal.
const WRITTEN_OUT: usize = 12;
/// Names are cut down to this where there is no room.
const SHORT: usize = 12;

fn loss_map(outlook: &dyn Outlook) -> Result<LossMap> {
    let costs = outlook.costs(2)?;
    Ok(LossMap::new(costs.names.clone(), |set| costs.of(set)))
}

pub(crate) fn run(
    context: &Context,
    outlook: &mut dyn Outlook,
    question: &Question<'_>,
    file: Option<&Path>,
) -> Result<Outcome> {
    let notes = question.do_first(outlook)?;
    let map = loss_map(outlook)?;
    if let Some(file) = file {
        let title = if question.steps.is_empty() { String::new() } else { format!(", {}", question.first()) };
        chart::losses(file, &question.asked.drawn, &map, &title)?;
    }
    if context.json {
        json::print(&map)?;
    } else {
        notes.iter().for_each(|note| crate::say!("note: {note}"));
        show(&map);
        if let Some(file) = file {
            crate::say!("\nwritten to {}", file.display());
        }
    }
    Ok(Outcome::well(map.worst().is_none_or(|(_, _, cost)| cost.files == 0)))
}

/// How the map is laid out in the room that there is.
struct Layout {
    /// Columns for the names on the left.
    names: usize,
    /// Columns for a pair, without the space before it.
    pair: usize,
    /// Whether what a pair costs is written out.
    is_written: bool,
}

impl Layout {
    fn of(map: &LossMap, room: Option<usize>) -> Self {
        let longest = map.disks.iter().map(|name| width::of(name)).max().unwrap_or(0);
        let room = room.unwrap_or(usize::MAX);
        let takes = |names: usize, pair: usize| 6 + names + map.disks.len() * (pair + 1);
        let is_written = map.disks.len() <= WRITTEN_OUT && takes(longest, longest.max(8)) <= room;
        if is_written {
            return Self { names: longest, pair: longest.max(8), is_written };
        }
        // The names give way first: a number stands at the end of each line as well.
        let pair = if takes(SHORT, 2) <= room { 2 } else { 1 };
        let rest = room.saturating_sub(takes(0, pair));
        Self { names: longest.min(rest.max(SHORT)), pair, is_written }
    }
}

fn show(map: &LossMap) {
    let layout = Layout::of(map, width::of_output());
    heading("What the loss of a pair of disks costs; of one disk alone on the diagonal");
    crate::say!();
    let Layout { names, pair, is_written } = layout;
    if is_written {
        let head: String = map.disks.iter().map(|n| format!(" {n:>pair$}")).collect();
        crate::say!("  {:names$} {}", "", style::paint(style::FAINT, head));
    }
    for (row, name) in map.disks.iter().enumerate() {
        let name = width::cut(name, names);
        let mut line = format!("  {name}{} ", " ".repeat(names - width::of(&name)));
        for cost in &map.costs[row][..=row] {
            let heat = map.heat(*cost);
            let text = match (is_written, heat) {
                (true, 0) => "·".into(),
                (true, _) => size(cost.bytes),
                (false, heat) => ["·", "░", "▒", "▓", "█"][heat].repeat(if heat == 0 { 1 } else { pair }),
            };
            line += &format!(" {}", style::paint(colour(heat), format!("{text:>pair$}")));
        }
        if !is_written {
            line += &format!(" {}", style::paint(style::FAINT, row + 1));
        }
        crate::say!("{line}");
    }
    show_legend(map, &layout);
}

fn show_legend(map: &LossMap, layout: &Layout) {
    let Layout { names, pair, is_written } = *layout;
    if !is_written {
        // Numbers of two digits stand upright where there is one column for them.
        let digits = if pair == 1 { 2 } else { 1 };
        for place in 0..digits {
            let number = |n: usize| match (digits, place) {
                (1, _) => n.to_string(),
                (_, 0) if n < 10 => String::new(),
                (_, 0) => (n / 10).to_string(),
                _ => (n % 10).to_string(),
            };
            let numbers: String = (1..=map.disks.len()).map(|n| format!(" {:>pair$}", number(n))).collect();
            crate::say!("  {:names$} {}", "", style::paint(style::FAINT, numbers));
        }
        crate::say!("\n  · nothing  ░ ▒ ▓ █ by quarters of the worst pair");
    }
    match map.worst_disks() {
        Some((disks, cost)) => {
            let told = format!("{}: {}, {}", disks.join(" and "), size(cost.bytes), units::files(cost.files));
            crate::say!("\n  The costliest: {}.", style::paint(style::BAD, told));
        }
        None => {
            let words = "No pair costs anything: every file survives the loss of any two.";
            crate::say!("\n  {}", style::paint(style::WELL, words));
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
