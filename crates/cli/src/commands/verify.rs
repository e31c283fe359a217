//! `verify`: everything read and compared.

use sieve_store::{Result, verify};

use super::Context;
use crate::exit::Outcome;
use crate::human::{count, style, units};
use crate::progress::Bars;
use crate::{json, load};

pub(super) fn run(context: &Context) -> Result<Outcome> {
    let pool = load::pool(&context.pool)?;
    let report = verify::verify(&pool, &Bars::new())?;
    if context.json {
        json::print(&report)?;
        return Ok(Outcome::well(report.is_clean() && report.missing.is_empty()));
    }
    anstream::println!(
        "{} read and as checksummed; {} as computed from them.",
        units::files(report.files_checked),
        units::parity_cells(report.parity_cells_checked)
    );
    if report.parity_cells_by_checksum > 0 {
        let cells = count(report.parity_cells_by_checksum);
        anstream::println!(
            "Cells of parity checked by their own checksum only: {cells} (something in their rows changed, is damaged or missing)."
        );
    }
    if report.not_synced > 0 {
        anstream::println!(
            "{} not compared: they came or changed after the last sync.",
            units::files(report.not_synced)
        );
    }
    for disk in &report.missing {
        anstream::println!(
            "{}",
            style::paint(style::BAD, format!("{disk} is not there: nothing on it was read"))
        );
    }
    for found in &report.damaged {
        let (from, to) = found.bytes;
        let place = format!("{}:{} bytes {from} to {to}", found.disk, found.path);
        anstream::println!("{} {place}: {}", style::paint(style::BAD, "damaged"), found.what);
    }
    for (disk, cells) in &report.damaged_parity {
        let cells_text = cells.iter().take(10).map(ToString::to_string).collect::<Vec<_>>().join(", ");
        let more = if cells.len() > 10 { ", …" } else { "" };
        anstream::println!(
            "{} parity on {disk}: cells {cells_text}{more} (the next sync computes them anew)",
            style::paint(style::BAD, "damaged")
        );
    }
    if report.is_clean() && report.missing.is_empty() {
        anstream::println!("{}", style::paint(style::WELL, "No damage."));
    }
    Ok(Outcome::well(report.is_clean() && report.missing.is_empty()))
}
