//! What the mounted volume takes away while programs wait for it: the name first, by a rename or a copy into our folder, and
//! the record of it a moment later, for many at once. Until then, and after a crash, what lies in our folder is learned of by
//! the next scan as after any crash; only what is recorded here is trusted without being read again.

use std::collections::HashSet;

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::{Watch, move_in_catalogue, note};
use crate::pool::Pool;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::{mark_changed, objects};
use sieve_disk::durable;
use sieve_disk::{EntryKind, Result, Stat};

/// A file whose present content lies in our folder.
pub struct TakenBeside {
    /// The disk.
    pub disk: DiskId,
    /// The name that it had.
    pub original: RelPath,
    /// Where it lies.
    pub held: RelPath,
    /// What it was before it was taken.
    pub before: Stat,
    /// Its length and modification time are those of `before`, and it is another inode: a copy, made while nobody wrote.
    pub is_copy: bool,
    /// Another content has the name now.
    pub replaced: bool,
    /// Nobody came to write to it while this holds. Without it, it is read before it is trusted.
    pub watch: Option<Watch>,
}

/// The line that says in our folder what a held name stands for. It is written before the name is taken away.
pub fn line_for(held: &RelPath, original: &RelPath, since: i64, replaced: bool) -> String {
    note::line(held, original, since, replaced)
}

/// Where those lines are written.
pub fn lines_path() -> RelPath {
    note::path()
}

/// Records what was taken. What is no longer as it was taken, or was learned of meanwhile, is left to the next scan.
///
/// # Errors
/// What a disk or the database says; when no work was begun.
pub fn record_beside(pool: &Pool, taken: &[TakenBeside]) -> Result<()> {
    pool.expect_writing()?;
    let disks: HashSet<DiskId> = taken.iter().map(|item| item.disk).collect();
    for id in disks {
        let disk = pool.member(id)?.writable()?;
        // First what the names stand for, then that they are there, then the record of them.
        if disk.stat(&note::path())?.is_some_and(|stat| stat.kind == EntryKind::File) {
            disk.modify(&note::path())?.sync()?;
        }
        let of_disk = taken.iter().filter(|item| item.disk == id);
        durable::sync_parents(&**disk, of_disk.map(|item| &item.held))?;
    }
    let now = pool.machine.now();
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        for item in taken {
            let Some(object) = objects::by_path(t, item.disk, &item.original)? else { continue };
            let is_it = object.inode == item.before.inode && object.version.is_some();
            let Some(stat) = pool.member(item.disk)?.usable()?.stat(&item.held)?.filter(|_| is_it) else {
                continue;
            };
            let is_as_taken = (stat.size, stat.mtime) == (item.before.size, item.before.mtime)
                && (item.is_copy || stat.inode == item.before.inode)
                && object.matches_but_for_ctime(&item.before);
            if !is_as_taken || objects::by_path(t, item.disk, &item.held)?.is_some() {
                continue;
            }
            let is_watched = item.watch.as_ref().is_some_and(Watch::holds);
            let is_trusted = object.matches(&item.before) && (is_watched || item.is_copy);
            let standing =
                if is_trusted { object.standing } else { object.standing.max(Standing::Doubtful) };
            let row = HeldRow {
                path: item.held.clone(),
                original: item.original.clone(),
                since: now,
                replaced: item.replaced,
                edited: note::is_edit(standing),
            };
            move_in_catalogue(t, item.disk, &object, &row, &stat, standing)?;
        }
        Ok(())
    })
}
