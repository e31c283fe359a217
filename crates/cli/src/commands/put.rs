//! `put`: files into a volume.

use std::path::PathBuf;

use sieve_store::Result;
use sieve_store::fate::Count;
use sieve_store::put::{self, PutReport};

use super::{Context, volume_path};
use crate::args::Consent;
use crate::exit::Outcome;
use crate::human::{Table, count, size, style};
use crate::progress::Bars;
use crate::{confirm, json, load};

pub(super) fn run(
    context: &Context,
    sources: &[PathBuf],
    folder: &str,
    replace: bool,
    volume: Option<&str>,
    consent: Consent,
) -> Result<Outcome> {
    let folder = volume_path(folder)?;
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume)?.name;
    let plan = put::plan(&pool, &volume, sources, &folder, replace)?;
    if !context.json {
        anstream::println!("Copies to {volume}:/{folder}, each file verified before it gets its name:\n");
        show_by_disk(&plan.by_disk);
        if plan.replaced > 0 {
            anstream::println!(
                "\n{} replaced; what they were is held until the next sync.",
                crate::human::units::files(plan.replaced)
            );
        }
        for skipped in &plan.skipped {
            anstream::println!("  left alone: {skipped}");
        }
    }
    if !confirm::go_on(consent, "Copy?")? {
        if context.json {
            json::print(&PutReport {
                by_disk: plan.by_disk,
                skipped: plan.skipped,
                replaced: plan.replaced,
            })?;
        }
        return Ok(Outcome::Fine);
    }
    let report = put::execute(&pool, &plan, &Bars::new())?;
    if context.json {
        json::print(&report)?;
    } else {
        anstream::println!(
            "\n{} They are unguarded until the next sync.",
            style::paint(style::WELL, "Copied and verified.")
        );
    }
    Ok(Outcome::Fine)
}

/// A table of files and bytes by disk.
pub(super) fn show_by_disk(by_disk: &[(String, Count)]) {
    let mut table = Table::new(&["disk", ">files", ">size"]);
    for (disk, amount) in by_disk.iter().filter(|(_, amount)| amount.files > 0) {
        table.row([disk.clone(), count(amount.files), size(amount.bytes)]);
    }
    table.print();
}
