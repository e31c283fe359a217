//! How folders of a volume look, so that new ones look alike.

use crate::pool::Pool;
use sieve_catalogue::nodes;
use sieve_core::path::RelPath;
use sieve_disk::Result;
use sieve_disk::{Attributes, Disk, EntryKind};

/// How a folder looks on a disk, if it is there.
///
/// # Errors
/// What the disk says.
pub fn looks_of(disk: &dyn Disk, folder: &RelPath) -> Result<Option<Attributes>> {
    match disk.stat(folder)? {
        Some(stat) if stat.kind == EntryKind::Folder => {
            Ok(Some(Attributes::of(&stat, disk.extended_attributes(folder)?)))
        }
        _ => Ok(None),
    }
}

/// How a folder of a volume looks on the first of its disks that has it; where none is there that has, as the catalogue
/// says.
///
/// # Errors
/// What a disk or the database says.
pub fn looks_in_volume(pool: &Pool, volume: &str, folder: &RelPath) -> Result<Option<Attributes>> {
    let mut known = None;
    for member in pool.file_members(volume) {
        if let Ok(disk) = member.usable()
            && let Some(looks) = looks_of(&**disk, folder)?
        {
            return Ok(Some(looks));
        }
        if known.is_none() {
            known = nodes::get(pool.catalogue.reading(), member.row.id, folder)?
                .filter(|node| node.kind == EntryKind::Folder)
                .map(|node| node.attributes);
        }
    }
    Ok(known)
}
