//! Fates as tables.

use anstyle::Style;
use sieve_core::count::Totals;
use sieve_core::fate::Fate;

use super::question::Question;
use super::summary::State;
use super::summary::Summary;
use crate::args::Breakdown;
use crate::human::{Table, count, reason, size, style, time, units};

/// Reasons up to this length stand beside the file; longer ones below it.
const SHORT: usize = 40;

pub(super) fn show(question: &Question<'_>, shown: &State, before: Option<&State>, notes: &[String]) {
    let mut lost: Vec<&str> = question.lose.iter().map(String::as_str).collect();
    lost.extend(before.unwrap_or(shown).missing.iter().map(|m| m.name.as_str()));
    lost.sort_unstable();
    lost.dedup();
    let totals = &shown.summary.totals;
    let are = if lost.len() == 1 { "is" } else { "are" };
    crate::answer!(
        "{}: {}",
        style::paint(style::HEAD, format!("If {} {are} lost", reason::listed(&lost))),
        answer(totals)
    );
    for missing in &shown.missing {
        let when = missing
            .scanned_at
            .map_or("never scanned".into(), |at| format!("as of the last scan, {}", time::moment(at)));
        crate::say!("  {} is not there now: its files are told {when}", missing.name);
    }
    if let Some(folder) = &question.asked.folder {
        crate::say!("  of the files in {folder}");
    }
    crate::say!();
    let list = question.asked.only.map(Fate::from);
    match before {
        None => show_totals(&shown.summary.totals),
        Some(now) => show_both(&now.summary.totals, &shown.summary.totals, &question.first()),
    }
    for note in notes {
        crate::say!("  note: {note}");
    }
    show_parts(&shown.summary, question.asked.by);
    show_lines(&shown.summary, list);
}

/// What becomes of the files, in a sentence.
fn answer(totals: &Totals) -> String {
    let not_back: Vec<String> = [Fate::Gone, Fate::Torn, Fate::Older]
        .into_iter()
        .map(|fate| (fate, totals.of(fate)))
        .filter(|(_, amount)| amount.files > 0)
        .map(|(fate, amount)| {
            let words = format!("{} {}, {}", units::files(amount.files), fate.word(), size(amount.bytes));
            style::paint(style::of_fate(fate), words)
        })
        .collect();
    match not_back.as_slice() {
        [] if totals.files() == 0 => "there are no files in it".into(),
        [] => style::paint(style::WELL, "every file survives as it is"),
        told => told.join("; "),
    }
}

fn show_totals(totals: &Totals) {
    let mut table = Table::new(&["fate", ">files", ">size", "?"]);
    for fate in Fate::ALL {
        let amount = totals.of(fate);
        let style = if amount.files > 0 { style::of_fate(fate) } else { style::FAINT };
        table.styled_row([
            (fate.word().into(), style),
            (count(amount.files), style),
            (size(amount.bytes), style),
            (meaning(fate).into(), style::FAINT),
        ]);
    }
    table.print();
}

/// Two answers side by side.
fn show_both(now: &Totals, after: &Totals, first: &str) {
    crate::say!("  {} {first}\n", style::paint(style::FAINT, "now, and"));
    let mut table = Table::new(&["fate", ">files now", ">size now", ">files then", ">size then"]);
    for fate in Fate::ALL {
        let (before, then) = (now.of(fate), after.of(fate));
        let paint = |files: u64| if files > 0 { style::of_fate(fate) } else { style::FAINT };
        table.styled_row([
            (fate.word().into(), paint(before.files + then.files)),
            (count(before.files), paint(before.files)),
            (size(before.bytes), paint(before.files)),
            (count(then.files), paint(then.files)),
            (size(then.bytes), paint(then.files)),
        ]);
    }
    table.print();
}

const fn meaning(fate: Fate) -> &'static str {
    match fate {
        Fate::Untouched => "on disks that are not lost",
        Fate::Rebuilt => "the present content comes back",
        Fate::Older => "only the content of the last sync comes back",
        Fate::Torn => "some pieces come back",
        Fate::Gone => "nothing comes back",
    }
}

fn show_parts(summary: &Summary, by: Breakdown) {
    let (title, first) = match by {
        Breakdown::Folder => ("By folder (files)", "folder"),
        Breakdown::Disk => ("By disk (files)", "disk"),
        Breakdown::Type => ("By file type (files)", "type"),
    };
    style::heading(title);
    let mut table =
        Table::new(&[first, "?>untouched", ">rebuilt", ">older", ">torn", ">gone", ">size not back"]);
    for (name, totals) in &summary.parts {
        let cell = |fate: Fate| match totals.of(fate).files {
            0 => ("·".into(), style::FAINT),
            files => (count(files), style::of_fate(fate)),
        };
        let not_back = [Fate::Older, Fate::Torn, Fate::Gone].map(|f| totals.of(f).bytes).into_iter().sum();
        table.styled_row([
            (name.clone(), Style::new()),
            cell(Fate::Untouched),
            cell(Fate::Rebuilt),
            cell(Fate::Older),
            cell(Fate::Torn),
            cell(Fate::Gone),
            (size(not_back), Style::new()),
        ]);
    }
    table.print();
}

fn show_lines(summary: &Summary, list: Option<Fate>) {
    let title = match list {
        Some(fate) => format!("Every file that is {}", fate.word()),
        None if summary.totals.files() == 0 => {
            crate::say!("\nThere are no files in it: nothing survives, and nothing is lost.");
            return;
        }
        None if summary.totals.all_survive() => {
            let words = style::paint(style::WELL, "Every file survives in its present state.");
            crate::say!("\n{words}");
            return;
        }
        None => "What does not come back as it is, and why".into(),
    };
    style::heading(&title);
    for line in &summary.lines {
        let is_short = line.why.chars().count() <= SHORT;
        let beside = if is_short && !line.why.is_empty() { format!(": {}", line.why) } else { String::new() };
        crate::say!(
            "  {} {}  {}",
            style::paint(style::of_fate(line.fate), format!("{:<7}", line.fate.word())),
            line.path,
            style::paint(style::FAINT, format!("{}{beside}", line.text))
        );
        if !is_short {
            crate::say!("          {}", style::paint(style::FAINT, &line.why));
        }
    }
    if summary.unlisted > 0 {
        crate::say!("  and {} more: --top N, or all with --csv", units::files(summary.unlisted));
    }
}
