//! What the mounted volume does to files while programs wait for it: a name is taken away by a rename, or a content is kept
//! by a copy, into our folder at once, and the record of it follows a moment later, for many. Until then, and after a crash,
//! what lies in our folder is learned of by the next scan as after any crash; only what is recorded here is trusted without
//! being read again. So is what was renamed, or got other permissions: a change time that our own doing moved is no doubt.

use std::collections::HashSet;
use std::sync::Mutex;

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::{Watch, note};
use crate::pool::Pool;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::{held_files, mark_changed, objects, pieces};
use sieve_disk::durable;
use sieve_disk::{Attributes, EntryKind, Result, Stat};

/// A file of which the mounted volume changed where it lies, or how it looks.
pub struct DoneBeside {
    /// The disk.
    pub disk: DiskId,
    /// What it was before, as a file system object.
    pub before: Stat,
    /// What was done to it.
    pub what: Beside,
    /// Nobody came to write to it while this holds. Without it, it is read before it is trusted. It is let go as soon as a program
    /// wants to write, also while it is being recorded.
    pub watch: Mutex<Option<Watch>>,
}

/// What was done to a file.
pub enum Beside {
    /// Its name was taken away: its content lies in our folder.
    Held {
        /// The name that it had.
        original: RelPath,
        /// Where it lies.
        at: RelPath,
        /// It is a copy: of the same length and modification time, and another inode, made while nobody wrote.
        is_copy: bool,
        /// Another content has the name now.
        replaced: bool,
    },
    /// It has this name now, or still; its change time is another, and nothing of its content.
    Kept {
        /// The name.
        at: RelPath,
    },
}

impl DoneBeside {
    /// Where it lies.
    pub const fn place(&self) -> &RelPath {
        match &self.what {
            Beside::Held { at, .. } | Beside::Kept { at } => at,
        }
    }
}

/// The line that says in our folder what a held name stands for. It is written before the name is taken away.
pub fn line_for(held: &RelPath, original: &RelPath, since: i64, replaced: bool) -> String {
    note::line(held, original, since, replaced)
}

/// Where those lines are written.
pub fn lines_path() -> RelPath {
    note::path()
}

/// Records what was done. What is no longer as it was then, or was learned of meanwhile, is left to the next scan.
///
/// # Errors
/// What a disk or the database says; when no work was begun.
pub fn record_beside(pool: &Pool, done: &[DoneBeside]) -> Result<()> {
    pool.expect_writing()?;
    let holds = |item: &&DoneBeside| matches!(item.what, Beside::Held { .. });
    let disks: HashSet<DiskId> = done.iter().filter(holds).map(|item| item.disk).collect();
    for id in disks {
        let disk = pool.member(id)?.writable()?;
        // First what the names stand for, then that they are there, then the record of them.
        if disk.stat(&note::path())?.is_some_and(|stat| stat.kind == EntryKind::File) {
            disk.modify(&note::path())?.sync()?;
        }
        let of_disk = done.iter().filter(holds).filter(|item| item.disk == id);
        durable::sync_parents(&**disk, of_disk.map(DoneBeside::place))?;
    }
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        done.iter().try_for_each(|item| record(pool, t, item))
    })
}

fn record(pool: &Pool, t: &rusqlite::Transaction<'_>, item: &DoneBeside) -> Result<()> {
    // By its inode: its name may have moved without the catalogue.
    let Some(object) = objects::known_by_inode(t, item.disk, item.before.inode)? else { return Ok(()) };
    let names = objects::names(t, object.id)?;
    let Some(stat) = pool.member(item.disk)?.usable()?.stat(item.place())? else { return Ok(()) };
    let is_copy = matches!(item.what, Beside::Held { is_copy: true, .. });
    let is_as_done = (stat.size, stat.mtime) == (item.before.size, item.before.mtime)
        && (is_copy || stat.inode == item.before.inode)
        && object.matches_but_for_ctime(&item.before);
    let [name] = &names[..] else { return Ok(()) };
    if !is_as_done || name.is_held() {
        return Ok(());
    }
    let is_watched = item.watch.lock().is_ok_and(|watch| watch.as_ref().is_some_and(Watch::holds));
    let is_trusted = object.matches(&item.before) && (is_watched || is_copy);
    let standing = if is_trusted { object.standing } else { object.standing.max(Standing::Doubtful) };
    match &item.what {
        Beside::Kept { at } => {
            if at != name && objects::by_path(t, item.disk, at)?.is_none_or(|other| other.version.is_none()) {
                objects::rename(t, item.disk, name, at, object.id)?;
            } else if at != name {
                // Another content that parity has is known by that name: the scan tells them apart.
                return Ok(());
            }
            objects::set_stat(t, object.id, &stat, standing)?;
            let extended = pool.member(item.disk)?.usable()?.extended_attributes(at)?;
            let looks = Attributes::of(&stat, extended);
            objects::set_extended(t, object.id, looks.pack_extended().as_deref())
        }
        Beside::Held { original, at, replaced, .. } => {
            let (since, edited) = (pool.machine.now(), note::is_edit(standing));
            let row =
                HeldRow { path: at.clone(), original: original.clone(), since, replaced: *replaced, edited };
            objects::rename(t, item.disk, name, at, object.id)?;
            if original.is_piece() {
                pieces::forget_gone(t, item.disk)?;
            }
            objects::set_stat(t, object.id, &stat, standing)?;
            held_files::insert(t, item.disk, &row)
        }
    }
}
