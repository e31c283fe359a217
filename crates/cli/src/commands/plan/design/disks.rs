//! Which disks are designed with.

use std::path::{Path, PathBuf};

use clap::Args;
use sieve_core::design::{DesignDisk, parse_disk_table, parse_disks};
use sieve_core::forecast::Link;
use sieve_core::pool::Media;
use sieve_disk::inventory::{Found, from_folder, from_system};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::Curves;
use sieve_pool::pool::home_folder;

use crate::args::Documents;
use crate::commands::context::Context;
use crate::load;

/// Where the disks are from.
#[derive(Args)]
pub(crate) struct ShelfArguments {
    /// Hard disks, such as "12TB,10TB,2x6TB,4TB"; without any of these the disks of the pool file
    #[arg(long, value_name = "SIZES")]
    pub(crate) hdd: Option<String>,
    /// SSDs beside them, such as "2x1TB"
    #[arg(long, value_name = "SIZES")]
    pub(crate) ssd: Option<String>,
    /// A table of disks, JSON or CSV: name, size, media, price
    #[arg(long, value_name = "FILE")]
    pub(crate) table: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) from: Documents,
}

/// The disks that are named; else those of a table; else those of the pool file.
pub(super) fn named(context: &Context, arguments: &ShelfArguments) -> Result<Vec<DesignDisk>> {
    let usage = |e: &dyn std::fmt::Display| Error::new(Kind::Usage, "design.disks", e.to_string());
    let mut disks = Vec::new();
    if let Some(text) = &arguments.hdd {
        disks.extend(parse_disks(text, Media::Hdd).map_err(|e| usage(&e))?);
    }
    if let Some(text) = &arguments.ssd {
        disks.extend(parse_disks(text, Media::Ssd).map_err(|e| usage(&e))?);
    }
    if let Some(path) = &arguments.table {
        let text = std::fs::read_to_string(path).map_err(|e| Error::io("design.table", path, e))?;
        let read = parse_disk_table(&text);
        disks.extend(read.map_err(|e| usage(&format!("{}: {e}", path.display())))?);
    }
    if !disks.is_empty() {
        return Ok(disks);
    }
    if arguments.from.from.is_some() || !context.pool.exists() {
        return of_the_machine(arguments.from.from.as_deref());
    }
    let spec = load::spec(&context.pool)?;
    let machine = crate::machine::real();
    let curves = Curves::read(&*machine.open_disk(home_folder(&context.pool))?)?;
    let known = spec.disks.iter().filter_map(|disk| {
        let there = disk.path.as_ref().and_then(|path| machine.open_disk(Path::new(path)).ok());
        let filesystem = there.and_then(|d| d.filesystem().ok());
        let space = sieve_pool::member::usable_bytes(Some(disk), filesystem.as_ref());
        let mut designed = DesignDisk::of_spec(disk, space)?;
        designed.curve = curves.of(Some(disk), filesystem.as_ref().map(|f| &f.id));
        let link = spec.links.iter().find(|l| Some(&l.name) == disk.link.as_ref());
        designed.link = link.map(|l| Link { name: l.name.clone(), rate: l.rate });
        Some(designed)
    });
    Ok(known.collect())
}

/// The disks of this machine, but for the one that carries the system.
fn of_the_machine(from: Option<&Path>) -> Result<Vec<DesignDisk>> {
    let inventory = from.map_or_else(from_system, from_folder)?;
    let disk = |found: &Found| {
        let size = found.device.size.or(found.smart.as_ref().and_then(|s| s.size))?;
        let media = found.device.media.unwrap_or(Media::Hdd);
        Some(DesignDisk::on_paper(&found.device.name, size, media))
    };
    let disks = inventory.disks.iter().filter(|found| !found.device.carries_the_system());
    Ok(disks.filter_map(disk).collect())
}
