//! `get`: files out of a volume.

use std::ffi::OsString;
use std::path::Path;

use sieve_store::{Result, read};

use super::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{count, size, units};
use crate::progress::Bars;
use crate::{json, load};

pub(super) fn run(
    context: &Context,
    paths: &[OsString],
    target: &Path,
    disk: Option<&str>,
    volume: Option<&str>,
) -> Result<Outcome> {
    let paths = paths.iter().map(volume_path).collect::<Result<Vec<_>>>()?;
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume)?.name;
    if let Some(name) = disk {
        pool.member_named(name)?;
    }
    for member in pool.file_members(&volume).filter(|m| m.state.is_usable()) {
        sieve_store::scan::scan(&pool, member)?;
    }
    let report = read::get(&pool, &volume, &paths, disk, target, &Bars::new())?;
    if context.json {
        json::print(&report)?;
    } else {
        let what = units::files(report.files);
        crate::say!(
            "{what}, {}, copied; {} checked against their checksums.",
            size(report.bytes),
            count(report.verified)
        );
        let missing = report.reconstructed - report.damaged.len() as u64;
        if missing > 0 {
            crate::say!(
                "{} computed from parity and the other disks, as the disk is not there.",
                units::files(missing)
            );
        }
        for file in &report.damaged {
            crate::say!(
                "computed from parity and the other disks, as it is damaged on its disk: {file} (zinc-sieve verify --mend)"
            );
        }
    }
    Ok(Outcome::well(report.damaged.is_empty()))
}
