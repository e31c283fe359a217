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
use crate::human::{size, units};
use crate::json;

/// Up to so many disks have their costs written out in the terminal.
const WRITTEN_OUT: usize = 12;

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
        chart::losses(file, &map, &title)?;
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

fn show(map: &LossMap) {
    heading("What the loss of a pair of disks costs; of one disk alone on the diagonal");
    crate::say!();
    let is_small = map.disks.len() <= WRITTEN_OUT;
    let width =
        if is_small { map.disks.iter().map(|n| n.chars().count()).max().unwrap_or(0).max(8) } else { 2 };
    let names = map.disks.iter().map(|n| n.chars().count()).max().unwrap_or(0);
    if is_small {
        let head: String = map.disks.iter().map(|n| format!(" {n:>width$}")).collect();
        crate::say!("  {:names$} {}", "", style::paint(style::FAINT, head));
    }
    for (row, name) in map.disks.iter().enumerate() {
        let mut line = format!("  {name:names$} ");
        for cost in &map.costs[row][..=row] {
            let heat = map.heat(*cost);
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
        crate::say!("{line}");
    }
    show_legend(map, is_small, names);
}

fn show_legend(map: &LossMap, is_small: bool, names: usize) {
    if !is_small {
        let numbers: String = (1..=map.disks.len()).map(|n| format!(" {n:>2}")).collect();
        crate::say!("  {:names$} {}", "", style::paint(style::FAINT, numbers));
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
