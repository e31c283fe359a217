//! `verify`: everything read and compared, and mended on request.

use std::ffi::OsString;

use clap::Args;
use sieve_actions::guard::verify;
use sieve_actions::guard::verify::{MendReport, Scope, VerifyReport};
use sieve_core::count::so_many;
use sieve_disk::Result;
use sieve_pool::pool::Pool;

use crate::args::{Consent, RestraintArguments};
use crate::commands::context::{Context, volume_path};
use crate::commands::protect::sync;
use crate::exit::Outcome;
use crate::human::{count, place, size, style, units};
use crate::progress::Watch;
use crate::{confirm, json, load, restraint};

json::named!("mend", MendReport);
json::named!("verify", VerifyReport);

/// So many disks are named with their places.
const NAMED: usize = 8;

/// What a verify looks at, and what it does about damage.
#[derive(Args)]
pub(crate) struct VerifyArguments {
    /// Only this share of the rows, those not checked for the longest, as "5 %": for every night
    #[arg(long, value_name = "SHARE", conflicts_with_all = ["disks", "folder"])]
    pub(crate) share: Option<String>,
    /// Only what lies on these disks
    #[arg(long, value_name = "DISK", value_delimiter = ',', conflicts_with = "folder")]
    pub(crate) disks: Vec<String>,
    /// Only this folder or file of the volumes
    #[arg(long, value_name = "PATH", add = crate::complete::paths())]
    pub(crate) folder: Option<OsString>,
    /// Mend what is damaged from parity, and keep the bytes that are replaced
    #[arg(long)]
    pub(crate) mend: bool,
    #[command(flatten)]
    pub(crate) restraint: RestraintArguments,
    #[command(flatten)]
    pub(crate) consent: Consent,
}

pub(crate) fn run(context: &Context, arguments: &VerifyArguments) -> Result<Outcome> {
    let scope = scope(arguments)?;
    let mut pool = load::pool(&context.pool)?;
    restraint::hold(&arguments.restraint, &mut pool);
    sieve_actions::begin_long(&mut pool, "verify")?;
    let events = arguments.restraint.events;
    if !context.json {
        announce(&pool, &scope)?;
    }
    let report = verify::verify(&pool, &scope, &Watch::begin(events)?)?;
    if !context.json {
        show(&report);
        if let Some(forecast) = report.forecast.as_ref().filter(|_| !report.stopped) {
            sync::show_how_long(forecast, report.seconds);
        }
    }
    let mut well = is_well(&report);
    if arguments.mend && !report.is_clean() {
        if !context.json {
            show_intention(&report);
        }
        // Nobody has to wait for an answer; what is mended is looked at again afterwards.
        pool.end();
        if confirm::go_on(arguments.consent, "Mend?")? {
            sieve_actions::begin_long(&mut pool, "mend")?;
            let mended = verify::mend(&pool, &Watch::begin(events)?)?;
            well = mended.is_clean() && report.missing.is_empty() && !report.stopped;
            if context.json {
                json::print(&mended)?;
            } else {
                show_mended(&mended);
            }
            return Ok(Outcome::well(well));
        }
    }
    if context.json {
        json::print(&report)?;
    }
    Ok(Outcome::well(well))
}

/// What is read, on which disks, and how long that takes; nothing where it is over in a moment.
fn announce(pool: &Pool, scope: &Scope) -> Result<()> {
    let Some((amounts, takes)) = verify::forecast(pool, scope)? else { return Ok(()) };
    if sync::is_over_in_a_moment(&takes) {
        return Ok(());
    }
    let all = size(amounts.total());
    let disks = match amounts.len() {
        0..=NAMED => place::named(&pool.spec, amounts.disks()),
        many => units::disks(many as u64),
    };
    crate::say!("Reads up to {all}, on {disks}.");
    sync::show_forecast(&takes);
    Ok(())
}

fn scope(arguments: &VerifyArguments) -> Result<Scope> {
    if let Some(share) = &arguments.share {
        return Ok(Scope::Share(crate::commands::context::share(share, "verify.share", "--share")?));
    }
    if let Some(folder) = &arguments.folder {
        return Ok(Scope::Folder(volume_path(folder)?));
    }
    Ok(if arguments.disks.is_empty() { Scope::Whole } else { Scope::Disks(arguments.disks.clone()) })
}

fn is_well(report: &VerifyReport) -> bool {
    report.is_clean() && report.missing.is_empty() && !report.stopped
}

fn show_intention(report: &VerifyReport) {
    let parity: usize = report.damaged_parity.values().map(Vec::len).sum();
    crate::say!(
        "\nMending computes {} damaged {} of files and {} from parity and the other disks.\nWhat is replaced is kept in .zinc-sieve/replaced on its disk.",
        count(report.damaged.len() as u64),
        if report.damaged.len() == 1 { "cell" } else { "cells" },
        units::parity_cells(parity as u64)
    );
}

fn show_mended(report: &MendReport) {
    for cell in &report.mended {
        let (from, to) = cell.bytes;
        let how = if cell.in_place { " in place" } else { "" };
        crate::say!(
            "{}{how} {}:{} bytes {from} to {to}\n       what was there: {}",
            style::paint(style::WELL, "mended"),
            cell.disk,
            cell.path,
            cell.kept
        );
    }
    for cell in &report.left {
        let (from, to) = cell.bytes;
        crate::say!(
            "{} {}:{} bytes {from} to {to}: {}",
            style::paint(style::BAD, "left damaged"),
            cell.disk,
            cell.path,
            cell.why
        );
    }
    for (disk, cells) in &report.parity_mended {
        crate::say!("{} {} on {disk}", style::paint(style::WELL, "mended"), units::parity_cells(*cells));
    }
    for (disk, cells) in &report.parity_left {
        crate::say!("{} {} on {disk}", style::paint(style::BAD, "left damaged"), units::parity_cells(*cells));
    }
    if report.is_clean() {
        crate::say!("{}", style::paint(style::WELL, "Everything is what was checksummed again."));
    }
}

/// How much was read, and what it was held against.
fn show_extent(report: &VerifyReport) {
    // Where only some rows were read, whole files are not what was looked at.
    let parts = report.cells_checked < report.cells;
    if parts {
        let percent = report.cells_checked as f64 / report.cells.max(1) as f64 * 100.0;
        let end = if report.stopped { " before it was asked to stop" } else { "" };
        crate::say!("Read {percent:.0} % of what parity covers{end}.");
    }
    let read = if parts {
        "What lies there is".to_string()
    } else {
        format!("{} read and", units::files(report.files_checked))
    };
    let parity = match report.parity_cells_checked {
        0 => String::new(),
        cells if crate::output::is_verbose() => {
            format!("; {} as computed from them", units::parity_cells(cells))
        }
        _ => "; parity is what follows from them".into(),
    };
    let says_nothing =
        if parts { !report.damaged.is_empty() } else { report.files_checked == 0 && parity.is_empty() };
    if !says_nothing {
        crate::say!("{read} as checksummed{parity}.");
    }
    if report.parity_cells_by_checksum > 0 {
        let cells = if crate::output::is_verbose() {
            format!(" ({})", units::parity_cells(report.parity_cells_by_checksum))
        } else {
            String::new()
        };
        let why = match report.cells {
            0 => "",
            _ => ", as something beside it changed, is damaged or missing",
        };
        crate::say!("Some parity{cells} could be checked by its own checksum only{why}.");
    }
}

/// What is wrong, in a sentence.
fn verdict(report: &VerifyReport) -> String {
    let parity: usize = report.damaged_parity.values().map(Vec::len).sum();
    let places = report.damaged.len() + parity;
    match places {
        0 if report.stopped => "Stopped before its end; no damage so far.".into(),
        0 => "No damage in what was read; not everything was.".into(),
        places => format!("Damage in {}: zinc-sieve verify --mend", so_many(places as u64, "place")),
    }
}

fn show(report: &VerifyReport) {
    if is_well(report) {
        crate::answer!("{}", style::paint(style::WELL, "No damage."));
    } else {
        crate::answer!("{}", style::paint(style::BAD, verdict(report)));
    }
    show_extent(report);
    if report.not_synced > 0 {
        crate::say!(
            "{} not compared: they came or changed after the last sync.",
            units::files(report.not_synced)
        );
    }
    for disk in &report.missing {
        crate::say!("{}", style::paint(style::BAD, format!("{disk} is not there: nothing on it was read")));
    }
    for found in &report.damaged {
        let (from, to) = found.bytes;
        let place = format!("{}:{} bytes {from} to {to}", found.disk, found.path);
        crate::say!("{} {place}: {}", style::paint(style::BAD, "damaged"), found.what);
    }
    for (disk, cells) in &report.damaged_parity {
        // Where in an image it is means something to nobody else.
        if !crate::output::is_verbose() {
            let places = count(cells.len() as u64);
            crate::say!("{} parity on {disk}, places: {places}", style::paint(style::BAD, "damaged"));
            continue;
        }
        let cells_text = cells.iter().take(10).map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let more = if cells.len() > 10 { ", …" } else { "" };
        crate::say!(
            "{} parity on {disk}: {} {cells_text}{more} (verify --mend, or the next sync, computes it anew)",
            style::paint(style::BAD, "damaged"),
            if cells.len() == 1 { "cell" } else { "cells" }
        );
    }
}
