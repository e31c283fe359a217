//! `burn-in`: a full write-and-read pass before a disk holds anything.

use sieve_actions::measure::burn_in::{Report, Request, overwrites, run as burn};
use sieve_core::count::so_many;
use sieve_core::units::Rate;
use sieve_disk::Filesystem;
use sieve_disk::Result;
use sieve_pool::curves::{Curves, Measured};
use sieve_pool::pool::home_folder;

use crate::commands::context::Context;
use crate::exit::Outcome;
use crate::human::{Table, size, style, units};
use crate::progress::Watch;
use crate::{confirm, json, machine};

json::named!("burn-in", Report);

pub(crate) fn run(context: &Context, request: &Request, consent: crate::args::Consent) -> Result<Outcome> {
    let overwrites = overwrites(request)?;
    if !context.json {
        crate::say!("{}", intention(request, overwrites));
    }
    if !confirm::go_on(consent, "Begin?")? {
        return Ok(Outcome::Fine);
    }
    let machine = machine::real();
    let report = burn(request, machine.random(), &Watch::begin(false)?)?;
    if !report.interrupted && request.path.is_dir() {
        let filesystem = machine.open_disk(&request.path)?.filesystem()?;
        let points = of_the_whole(&report, &filesystem);
        let measured = Measured { filesystem: filesystem.id, at: machine.now(), points };
        Curves::keep(&*machine.open_disk(home_folder(&context.pool))?, measured)?;
    }
    if context.json {
        json::print(&report)?;
    } else {
        show(&report);
    }
    Ok(match () {
        () if report.interrupted => Outcome::Failed,
        () => Outcome::well(report.bad.is_empty()),
    })
}

/// The curve of what was read as a part of that of the whole disk: filesystems give out their space from its start on.
fn of_the_whole(report: &Report, filesystem: &Filesystem) -> Vec<(f64, Rate)> {
    let total = filesystem.total.exact().max(1) as f64;
    let used = filesystem.total.minus(filesystem.available).exact() as f64;
    let part = report.bytes.exact() as f64;
    report.read_curve.iter().map(|(share, rate)| (((used + share * part) / total).min(1.0), *rate)).collect()
}

fn intention(request: &Request, overwrites: bool) -> String {
    let (path, amount) = (request.path.display(), request.amount.map(size));
    if overwrites {
        let what = amount.map_or_else(String::new, |amount| format!("the first {amount} of "));
        return format!("Burn-in OVERWRITES {what}{path} and reads it back. What is there now is lost.");
    }
    let what = amount.unwrap_or_else(|| "all free space".into());
    format!("Burn-in fills {what} below {path} and reads it back. Existing files are not touched.")
}

fn show(report: &Report) {
    if report.interrupted {
        crate::answer!(
            "\n{}",
            style::paint(style::WATCH, "Broken off; what was written is taken away again.")
        );
        return;
    }
    let resumed = match report.resumed.exact() {
        0 => String::new(),
        _ => format!(" ({} of it by an earlier run)", size(report.resumed)),
    };
    crate::say!("\n{} written{resumed} and read back.", size(report.bytes));
    if !report.from_the_medium {
        crate::say!(
            "{}",
            style::paint(
                style::WATCH,
                "This filesystem does not let the page cache be passed by: some reads may not have reached the medium."
            )
        );
    }
    for bad in report.bad.iter().take(20) {
        let place = bad.on_device.map_or(String::new(), |at| format!(", byte {at} of the device"));
        crate::say!(
            "{} {} from byte {} of what was written{place}: {}",
            style::paint(style::BAD, "bad"),
            size(sieve_core::units::ByteLength::new(bad.length)),
            bad.offset,
            bad.what
        );
    }
    if report.bad.len() > 20 {
        crate::say!("  and {} more (all with --json)", report.bad.len() - 20);
    }
    let mut table = Table::new(&["at", ">writes", ">reads"]);
    let rate = |curve: &[(f64, Rate)], share: f64| {
        let near = curve.iter().min_by(|a, b| (a.0 - share).abs().total_cmp(&(b.0 - share).abs()));
        near.map_or("-".into(), |(_, rate)| units::rate(*rate))
    };
    for (place, share) in [("start", 0.0), ("middle", 0.5), ("end", 1.0)] {
        table.row([place.into(), rate(&report.write_curve, share), rate(&report.read_curve, share)]);
    }
    crate::say!();
    table.print();
    if report.bad.is_empty() {
        crate::answer!("\n{}", style::paint(style::WELL, "Everything came back as it was written."));
    } else {
        let places = so_many(report.bad.len() as u64, "place");
        crate::answer!(
            "\n{}",
            style::paint(style::BAD, format!("Not what was written came back in {places}."))
        );
    }
}
