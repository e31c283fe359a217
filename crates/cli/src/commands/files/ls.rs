//! `ls`: what is in a volume.

use sieve_actions::files::read;
use sieve_disk::Result;
use sieve_pool::scan;
use std::ffi::OsStr;

use crate::args::LookArguments;
use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{size, style, time};
use crate::progress::Watch;
use crate::{json, load};

pub(crate) fn run(
    context: &Context,
    folder: &OsStr,
    look: LookArguments,
    volume: Option<&str>,
) -> Result<Outcome> {
    let folder = volume_path(folder)?;
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume)?.name;
    let as_of = scan::scanned_at(&pool).filter(|_| !look.scan);
    match as_of {
        Some(at) if !scan::is_short_at(&pool, &volume, &folder)? => {
            let ago = time::ago(at, pool.machine.now());
            crate::say_aside!("as of the scan {ago}; zinc-sieve ls --scan looks at all files first");
        }
        _ => {
            let watch = Watch::begin(false)?;
            scan::scan_at(
                &pool,
                |member| member.row.volume == volume,
                std::slice::from_ref(&folder),
                &watch,
            )?;
        }
    }
    let mut found = 0u64;
    let mut entries = Vec::new();
    read::list(&pool, &volume, &folder, |entry| {
        found += 1;
        if context.json {
            entries.push(entry);
        } else {
            let line = format!(
                "{:>9}  {}  {:<10}",
                size(entry.size_bytes),
                time::moment(entry.modified),
                entry.disk
            );
            let path = if entry.kind == "folder" { format!("{}/", entry.path) } else { entry.path };
            crate::say!("{}  {path}", style::paint(style::FAINT, line));
        }
        Ok(())
    })?;
    if context.json {
        json::print(&entries)?;
    }
    if found == 0 && !folder.is_root() {
        return Err(read::not_found(&pool, &volume, &folder)?);
    }
    Ok(Outcome::Fine)
}
