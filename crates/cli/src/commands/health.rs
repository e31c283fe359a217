//! `health`: whether each disk deserves to be used, and why.

use std::path::Path;

use jiff::civil::Date;
use serde::Serialize;
use sieve_core::health::{About, Check, Look, Verdict, age_in_years, batches, judge, warranty_left};
use sieve_store::Result;
use sieve_store::catalogue::{Catalogue, looks};
use sieve_store::inventory::Found;
use sieve_store::pool::catalogue_path;

use super::Context;
use crate::exit::Outcome;
use crate::human::{Cell, Table, style, time};
use crate::json;
use crate::shelf::{Item, Shelf, serial_cell};

#[derive(Serialize)]
struct Judged<'a> {
    #[serde(flatten)]
    item: &'a Item<'a>,
    verdict: Verdict,
    reasons: Vec<Check>,
    last_look: Option<Look>,
    age_years: Option<f64>,
    warranty_days_left: Option<i64>,
}

#[derive(Serialize)]
struct Answer<'a> {
    disks: &'a [Judged<'a>],
    batches: &'a [String],
    gaps: &'a [String],
}

pub(super) fn run(context: &Context, from: Option<&Path>) -> Result<Outcome> {
    let shelf = Shelf::look(&context.pool, from)?;
    let machine = crate::machine::real();
    let now = machine.now();
    let today = time::date(now);
    let catalogue = match catalogue_path(&context.pool) {
        path if path.exists() => Some(Catalogue::open_to_read(&path, machine)?),
        _ => None,
    };
    let items = shelf.items();
    let mut judged = Vec::new();
    for item in
        items.iter().filter(|i| i.found.is_some() || i.spec.is_some_and(|s| !s.simulated && s.path.is_some()))
    {
        judged.push(judge_one(&shelf, item, catalogue.as_ref(), now, today)?);
    }
    let batches = batch_notes(&shelf);
    if context.json {
        json::print(&Answer { disks: &judged, batches: &batches, gaps: &shelf.inventory.gaps })?;
    } else {
        show(&shelf, &judged, &batches, catalogue.is_some());
    }
    Ok(Outcome::well(judged.iter().all(|j| j.verdict == Verdict::Fine)))
}

fn judge_one<'a>(
    shelf: &Shelf,
    item: &'a Item<'a>,
    catalogue: Option<&Catalogue>,
    now: i64,
    today: Date,
) -> Result<Judged<'a>> {
    let report = item.found.and_then(|f: &Found| f.smart.as_ref());
    let mut last_look = None;
    if let (Some(catalogue), Some(serial), Some(report)) = (catalogue, item.serial(), report) {
        last_look = looks::newest(catalogue.reading(), serial, now)?;
        let look = Look {
            at: now,
            reallocated: report.reallocated,
            pending: report.pending,
            uncorrectable: report.uncorrectable,
        };
        catalogue.note(|t| looks::keep(t, serial, &look))?;
    }
    let thresholds = shelf.thresholds();
    let full = item.spec.and_then(fullness);
    let about = item.about(&thresholds);
    let reasons = judge(&About { before: last_look.as_ref(), full, ..about });
    Ok(Judged {
        item,
        verdict: reasons.first().map_or(Verdict::Fine, |c| c.verdict),
        reasons,
        last_look,
        age_years: item.spec.and_then(|s| age_in_years(s, today)),
        warranty_days_left: item.spec.and_then(|s| warranty_left(s, today)),
    })
}

/// How full a mounted disk is, from 0 to 1.
fn fullness(spec: &sieve_core::pool::DiskSpec) -> Option<f64> {
    let path = spec.path.as_deref().filter(|_| !spec.simulated)?;
    let filesystem = crate::machine::real().open_disk(Path::new(path)).ok()?.filesystem().ok()?;
    let total = filesystem.total.exact().max(1) as f64;
    Some(1.0 - filesystem.available.exact() as f64 / total)
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

fn show(shelf: &Shelf, judged: &[Judged<'_>], batches: &[String], keeps_looks: bool) {
    let mut table = Table::new(&[
        "disk",
        "serial",
        "verdict",
        ">temp",
        ">hours",
        ">realloc.",
        ">pending",
        "self-test",
        ">age",
        "warranty",
        "price",
    ]);
    for j in judged {
        let smart = j.item.found.and_then(|f| f.smart.as_ref());
        let dash = |text: Option<String>| {
            text.map_or_else(|| Cell::from(("-".to_string(), style::FAINT)), Cell::from)
        };
        let count = |now: Option<u64>, then: Option<u64>| {
            let more = now.zip(then).map_or(0, |(n, t)| n.saturating_sub(t));
            now.map(|n| if more > 0 { format!("{n} (+{more})") } else { n.to_string() })
        };
        let test = smart.and_then(|s| s.self_test.as_ref()).map(|t| match t.passed {
            Some(true) => "passed".to_string(),
            Some(false) => "failed".into(),
            None => "unfinished".into(),
        });
        let warranty = j.warranty_days_left.map(|days| match days {
            ..0 => format!("ended {} days ago", -days),
            days => format!("{days} days"),
        });
        table.add([
            Cell::from((j.item.title().to_string(), style::HEAD)),
            serial_cell(j.item.serial()),
            Cell::from((j.verdict.words().to_string(), style::of_verdict(j.verdict))),
            dash(j.item.temperature(&shelf.thresholds()).map(|t| t.to_string())),
            dash(smart.and_then(|s| s.hours).map(crate::human::count)),
            dash(count(smart.and_then(|s| s.reallocated), j.last_look.and_then(|l| l.reallocated))),
            dash(count(smart.and_then(|s| s.pending), j.last_look.and_then(|l| l.pending))),
            dash(test),
            dash(j.age_years.map(|years| format!("{years:.1} y"))),
            dash(warranty),
            dash(j.item.spec.and_then(|s| s.price.as_ref()).map(ToString::to_string)),
        ]);
    }
    table.print();
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
    batches.iter().for_each(|note| crate::say!("\n{} {note}", style::paint(style::WATCH, "!")));
    shelf.inventory.gaps.iter().for_each(|gap| crate::say_aside!("note: {gap}"));
    if !keeps_looks {
        crate::say_aside!(
            "note: there is no pool yet, so this look is not kept to compare the next one with"
        );
    }
}
