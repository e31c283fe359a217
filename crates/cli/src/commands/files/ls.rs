//! `ls`: what is in a volume.

use sieve_actions::files::read;
use sieve_disk::Result;
use std::ffi::OsStr;

use crate::commands::context::{Context, volume_path};
use crate::exit::Outcome;
use crate::human::{size, style, time};
use crate::{json, load};

pub(crate) fn run(context: &Context, folder: &OsStr, volume: Option<&str>) -> Result<Outcome> {
    let folder = volume_path(folder)?;
    let pool = load::pool(&context.pool)?;
    let volume = pool.volume(volume)?.name;
    for member in pool.file_members(&volume) {
        if member.state.is_usable() {
            sieve_pool::scan::scan(&pool, member)?;
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
