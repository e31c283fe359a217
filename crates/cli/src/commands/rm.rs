//! `rm`: files out of sight, held until the next sync.

use sieve_store::{Result, remove};

use super::put::show_by_disk;
use super::{Context, volume_path};
use crate::args::Consent;
use crate::exit::Outcome;
use crate::{confirm, json, load};

pub(super) fn run(
    context: &Context,
    paths: &[String],
    recursive: bool,
    volume: Option<&str>,
    consent: Consent,
) -> Result<Outcome> {
    let paths = paths.iter().map(|p| volume_path(p)).collect::<Result<Vec<_>>>()?;
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume)?.name;
    let plan = remove::plan(&pool, &volume, &paths, recursive)?;
    if !context.json {
        anstream::println!(
            "Removes from {volume}; the files stay, out of sight, until the next sync has passed them:\n"
        );
        show_by_disk(&plan.by_disk);
        if plan.others > 0 {
            anstream::println!("  and {} folders and symlinks", plan.others);
        }
    }
    let by_disk = plan.by_disk.clone();
    let others = plan.others;
    let report = if confirm::go_on(consent, "Remove?")? {
        remove::execute(&pool, plan)?
    } else {
        remove::RemoveReport { by_disk, others }
    };
    if context.json {
        json::print(&report)?;
    }
    Ok(Outcome::Fine)
}
