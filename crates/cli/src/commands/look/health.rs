//! `health`: whether each disk deserves to be used, and why.

use std::path::Path;

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::samples::Sample;
use sieve_catalogue::{looks, samples};
use sieve_core::health::{Check, Look, Verdict, age_in_years, batches, warranty_left};
use sieve_core::inventory::{Reach, SelfTest};
use sieve_core::pool::DiskSpec;
use sieve_disk::{Error, Kind, Result};

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::reason::listed;
use crate::human::{Cell, Table, style, time};
use crate::json;
use crate::shelf::{Item, Shelf, serial_cell, temperature_cell};

json::named!("health", Answer<'_>);

#[derive(Serialize, JsonSchema)]
pub(super) struct Judged<'a> {
    #[serde(flatten)]
    item: &'a Item<'a>,
    /// What is to be done about it.
    verdict: Verdict,
    /// Why, the worst first.
    pub(super) reasons: Vec<Check>,
    /// What it said the time before.
    last_look: Option<Look>,
    /// How old it is.
    age_years: Option<f64>,
    /// No date is known: it is at least so old, by its hours of power.
    age_by_hours: bool,
    /// Days left of its warranty; less than none is over.
    warranty_days_left: Option<i64>,
}

#[derive(Serialize, JsonSchema)]
struct Answer<'a> {
    /// All disks.
    disks: &'a [Judged<'a>],
    /// Disks of one batch, in words.
    batches: &'a [String],
    /// What could not be read, and why.
    gaps: &'a [String],
}

pub(crate) fn run(context: &Context, names: &[String], from: Option<&Path>) -> Result<Outcome> {
    let shelf = Shelf::look(&context.pool, from)?;
    let today = time::date(shelf.now);
    let items = shelf.items();
    refuse_unknown(&items, names)?;
    let mut judged = Vec::new();
    let is_there =
        |i: &&Item<'_>| i.found.is_some() || i.spec.is_some_and(|s| !s.simulated && s.path.is_some());
    let is_meant = |i: &&Item<'_>| names.is_empty() || names.iter().any(|name| name == i.title());
    for item in items.iter().filter(is_there).filter(is_meant) {
        judged.push(judge_one(&shelf, item, today)?);
    }
    let batches = batch_notes(&shelf);
    if context.json {
        json::print(&Answer { disks: &judged, batches: &batches, gaps: &shelf.inventory.gaps })?;
    } else {
        show(&shelf, &judged, &batches);
    }
    Ok(Outcome::well(judged.iter().all(|j| j.verdict == Verdict::Fine)))
}

fn refuse_unknown(items: &[Item<'_>], names: &[String]) -> Result<()> {
    match names.iter().find(|name| items.iter().all(|item| item.title() != *name)) {
        None => Ok(()),
        Some(wrong) => {
            let message = sieve_core::suggest::unknown("disk", wrong, items.iter().map(Item::title));
            Err(Error::new(Kind::NotFound, "health.disk", message))
        }
    }
}

pub(super) fn judge_one<'a>(shelf: &Shelf, item: &'a Item<'a>, today: Date) -> Result<Judged<'a>> {
    let report = item.report();
    let judgement = shelf.judge(item)?;
    if let (Some(catalogue), Some(serial), Some(report)) = (&shelf.catalogue, item.serial(), report) {
        catalogue.note(|t| looks::keep(t, serial, &Look::of(report, shelf.now)))?;
    }
    if let (Some(catalogue), Some(name)) = (&shelf.catalogue, item.name) {
        let celsius = item.found.and_then(|found| found.celsius);
        let reallocated = report.and_then(|report| report.reallocated);
        let sample = Sample { at: shelf.now, celsius, reallocated, ..Sample::default() };
        if let Some(row) =
            sieve_catalogue::disks::all(catalogue.reading())?.iter().find(|row| row.name == name)
        {
            catalogue.note_beside(|t| samples::keep(t, row.id, &sample))?;
        }
    }
    let reasons = judgement.checks;
    let nobody = DiskSpec::default();
    Ok(Judged {
        item,
        verdict: reasons.first().map_or(Verdict::Fine, |c| c.verdict),
        reasons,
        last_look: judgement.before,
        age_years: age_in_years(item.spec.unwrap_or(&nobody), today, report.and_then(|r| r.hours)),
        age_by_hours: item.spec.is_none_or(|s| s.made.or(s.bought).is_none()),
        warranty_days_left: item.spec.and_then(|s| warranty_left(s, today)),
    })
}

fn batch_notes(shelf: &Shelf) -> Vec<String> {
    let Some(spec) = &shelf.spec else { return Vec::new() };
    let mut notes = Vec::new();
    for volume in &spec.volumes {
        for (batch, names) in batches(volume, &spec.disks) {
            notes.push(format!(
                "{} of volume {} are of one batch ({batch}): disks of one batch and age tend to die together",
                names.join(" and "),
                volume.name
            ));
        }
    }
    notes
}

fn test_words(test: &SelfTest) -> String {
    let reach = if test.reach == Reach::Long { "full" } else { "short" };
    let end = match test.passed {
        Some(true) => "passed",
        Some(false) => "failed",
        None => "unfinished",
    };
    format!("{reach} {end}")
}

/// Which disks want attention, in a sentence.
fn answer(judged: &[Judged<'_>]) {
    let of = |verdict: Verdict| {
        let names: Vec<&str> =
            judged.iter().filter(|j| j.verdict == verdict).map(|j| j.item.title()).collect();
        (!names.is_empty()).then(|| {
            let words = format!("{}: {}", verdict.words(), listed(&names));
            style::paint(style::of_verdict(verdict), words)
        })
    };
    let sick: Vec<String> =
        [Verdict::DoNotUse, Verdict::ReplaceSoon, Verdict::Watch].into_iter().filter_map(of).collect();
    match sick.as_slice() {
        [] if judged.is_empty() => crate::answer!("There is no disk to judge."),
        [] => crate::answer!("{}", style::paint(style::WELL, "Every disk is fine.")),
        sick => crate::answer!("{}", sick.join("; ")),
    }
    crate::say!();
}

fn show(shelf: &Shelf, judged: &[Judged<'_>], batches: &[String]) {
    answer(judged);
    let mut table = Table::new(&[
        "disk",
        "serial",
        "verdict",
        ">temp",
        "??>hours",
        ">realloc.",
        ">pending",
        "?self-test",
        "??>age",
        "??warranty",
        "???price",
    ]);
    for j in judged {
        let smart = j.item.report();
        let dash = |text: Option<String>| {
            text.map_or_else(|| Cell::from(("-".to_string(), style::FAINT)), Cell::from)
        };
        let count = |now: Option<u64>, then: Option<u64>| {
            let more = now.zip(then).map_or(0, |(n, t)| n.saturating_sub(t));
            now.map(|n| if more > 0 { format!("{n} (+{more})") } else { n.to_string() })
        };
        let test = smart.and_then(|s| s.self_tests.first()).map(test_words);
        let warranty = j.warranty_days_left.map(|days| match days {
            ..0 => format!("ended {} days ago", -days),
            days => format!("{days} days"),
        });
        table.add([
            Cell::from((j.item.title().to_string(), style::HEAD)),
            serial_cell(j.item.serial()),
            Cell::from((j.verdict.words().to_string(), style::of_verdict(j.verdict))),
            temperature_cell(j.item, &shelf.thresholds()),
            dash(smart.and_then(|s| s.hours).map(crate::human::count)),
            dash(count(smart.and_then(|s| s.reallocated), j.last_look.and_then(|l| l.reallocated))),
            dash(count(smart.and_then(|s| s.pending), j.last_look.and_then(|l| l.pending))),
            dash(test),
            dash(j.age_years.map(|years| format!("{}{years:.1} y", if j.age_by_hours { "≥ " } else { "" }))),
            dash(warranty),
            dash(j.item.spec.and_then(|s| s.price.as_ref()).map(ToString::to_string)),
        ]);
    }
    table.print();
    show_reasons(judged);
    batches.iter().for_each(|note| crate::say!("\n{} {note}", style::paint(style::WATCH, "!")));
    shelf.inventory.gaps.iter().for_each(|gap| crate::say_aside!("note: {gap}"));
    if shelf.catalogue.is_none() {
        crate::say_aside!(
            "note: there is no pool yet, so this look is not kept to compare the next one with"
        );
    }
}

/// Why a disk is not judged fine.
fn show_reasons(judged: &[Judged<'_>]) {
    for j in judged.iter().filter(|j| !j.reasons.is_empty()) {
        crate::say!(
            "\n  {} {}",
            style::paint(style::HEAD, j.item.title()),
            style::paint(style::of_verdict(j.verdict), j.verdict.words())
        );
        for check in &j.reasons {
            crate::say!("    {} {}", style::paint(style::of_verdict(check.verdict), "-"), check.reason);
        }
    }
}
