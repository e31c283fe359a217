//! Holding: what is removed or replaced through us stays, out of sight, until a sync has passed it.

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

use rusqlite::Connection;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, VersionId};

use crate::catalogue::held_files::{self, HeldRow};
use crate::catalogue::intents::{self, Holds, Intent};
use crate::catalogue::objects::{self, ObjectRow};
use crate::catalogue::parity_state;
use crate::disk::{Disk, Stat};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::label::Role;
use crate::member::{Member, held_folder};
use crate::pieces;
use crate::pool::Pool;

/// A file that is to be held.
pub struct ToHold {
    /// Its name.
    pub path: RelPath,
    /// What it is.
    pub object: ObjectRow,
}

/// A hold whose intent is written down and whose file has its held name; it is not in the catalogue yet.
#[must_use = "the hold is not finished before `finish`"]
pub struct Holding<'a> {
    pool: &'a Pool,
    disk_id: DiskId,
    intent: i64,
    items: Vec<(ToHold, RelPath, Option<Stat>)>,
    replaced: bool,
}

/// Writes down what is to be held, and gives each file its held name.
///
/// With `replaced` the file keeps its old name as well, for another file to be renamed over it.
///
/// # Crash safety
/// After a crash the next start finishes the hold of what has its held name and drops the rest; no content is
/// without a name at any moment.
///
/// # Errors
/// What the disk or the database says.
pub fn begin<'a>(pool: &'a Pool, member: &Member, items: Vec<ToHold>, replaced: bool) -> Result<Holding<'a>> {
    let disk = member.writable()?;
    durable::make_folders(&**disk, &held_folder())?;
    // Names that come one after the other lie side by side in the catalogue.
    let (now, random) = (pool.machine.now(), pool.machine.random());
    let mut planned = Vec::new();
    for (number, item) in items.into_iter().enumerate() {
        let name = format!("{now:016x}{random:016x}{number:08x}");
        let held = held_folder().join(name.as_bytes()).expect("digits make a valid name");
        planned.push((item, held));
    }
    let holds = |(item, held): &(ToHold, RelPath)| Holds {
        object: item.object.id,
        original: item.path.tree_key(),
        held: held.tree_key(),
    };
    let files = planned.iter().map(holds).collect();
    let intent = Intent::HoldAll { disk: member.row.id, files, replaced };
    let intent = pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
    let mut items = Vec::new();
    for (item, held) in planned {
        let before = disk.stat(&item.path)?;
        if replaced {
            disk.link(&item.path, &held)?;
        } else {
            disk.rename(&item.path, &held)?;
        }
        items.push((item, held, before));
    }
    let paths = items.iter().flat_map(|(item, held, _)| [&item.path, held]);
    durable::sync_parents(&**disk, paths)?;
    Ok(Holding { pool, disk_id: member.row.id, intent, items, replaced })
}

impl Holding<'_> {
    /// Records the hold.
    ///
    /// # Errors
    /// What the disk or the database says.
    pub fn finish(self, disk: &dyn Disk) -> Result<()> {
        let now = self.pool.machine.now();
        self.pool.catalogue.transaction(|t| {
            crate::catalogue::mark_changed(t)?;
            for (item, held, before) in &self.items {
                let stat = disk.stat(held)?.ok_or_else(|| vanished(disk, held))?;
                // Our own rename moves the change time; that alone raises no doubt.
                let trusted = before.is_some_and(|before| item.object.matches(&before))
                    && item.object.matches_but_for_ctime(&stat);
                let standing =
                    if trusted { item.object.standing } else { item.object.standing.max(Standing::Doubtful) };
                let row = HeldRow {
                    path: held.clone(),
                    original: item.path.clone(),
                    since: now,
                    replaced: self.replaced,
                    edited: is_edit(standing),
                };
                move_in_catalogue(t, self.disk_id, &item.object, &row, &stat, standing)?;
            }
            intents::remove(t, self.intent)
        })
    }
}

/// Size or modification time show that the owner changed the file.
const fn is_edit(standing: Standing) -> bool {
    matches!(standing, Standing::Touched | Standing::Changed)
}

fn vanished(disk: &dyn Disk, path: &RelPath) -> Error {
    let place = crate::disk::full_path(disk, path);
    Error::new(
        Kind::Conflict,
        "file.vanished",
        format!("{}: somebody else took this file away", place.display()),
    )
}

fn move_in_catalogue(
    t: &rusqlite::Transaction<'_>,
    disk: DiskId,
    object: &ObjectRow,
    row: &HeldRow,
    stat: &Stat,
    standing: Standing,
) -> Result<()> {
    objects::rename(t, disk, &row.original, &row.path, object.id)?;
    objects::set_stat(t, object.id, stat, standing)?;
    held_files::insert(t, disk, row)
}

/// Finishes or drops holds that a crash interrupted.
///
/// # Errors
/// What the disk or the database says.
pub(crate) fn recover(pool: &Pool, id: i64, intent: &Intent) -> Result<()> {
    let (disk, files, replaced) = match intent {
        Intent::HoldAll { disk, files, replaced } => (*disk, files.clone(), *replaced),
        Intent::Hold { disk, object, original, held, replaced } => {
            let file = Holds { object: *object, original: original.clone(), held: held.clone() };
            (*disk, vec![file], *replaced)
        }
        _ => return Ok(()),
    };
    let member = pool.member(disk)?;
    if member.writable().is_err() {
        return Ok(()); // kept for when the disk is back
    }
    files.iter().try_for_each(|file| recover_one(pool, member, file, replaced))?;
    pool.catalogue.transaction(|t| intents::remove(t, id))
}

fn recover_one(pool: &Pool, member: &Member, file: &Holds, replaced: bool) -> Result<()> {
    let real = member.writable()?;
    let (original, held) = (objects::path_of(&file.original)?, objects::path_of(&file.held)?);
    let stat = real.stat(&held)?;
    let still_named = real.stat(&original)?;
    let unfinished_replacement =
        replaced && stat.is_some() && still_named.map(|s| s.inode) == stat.map(|s| s.inode);
    if unfinished_replacement {
        real.remove_file(&held)?;
        real.sync_folder(&held_folder())?;
    }
    pool.catalogue.transaction(|t| {
        if let (Some(stat), false) = (stat, unfinished_replacement)
            && let Some(object) = objects::get(t, file.object)?
        {
            let same = (object.inode, object.size, object.mtime) == (stat.inode, stat.size, stat.mtime);
            // The rename moved the change time, and nobody watched: to be read before it is trusted again.
            let doubt = if same { Standing::Doubtful } else { Standing::Touched };
            let standing = object.standing.max(doubt);
            let (since, edited) = (pool.machine.now(), is_edit(standing));
            let row = HeldRow { path: held, original, since, replaced, edited };
            crate::catalogue::mark_changed(t)?;
            move_in_catalogue(t, member.row.id, &object, &row, &stat, standing)?;
        }
        Ok(())
    })
}

/// Giving up one name of a file moves the change time that its other names show; that alone raises no doubt.
fn expect_new_change_time(t: &Connection, disk: &dyn Disk, object: &ObjectRow) -> Result<()> {
    for name in objects::names(t, object.id)? {
        if let Some(stat) = disk.stat(&name)?.filter(|stat| object.matches_but_for_ctime(stat)) {
            return objects::set_stat(t, object.id, &stat, object.standing);
        }
    }
    Ok(())
}

/// Gives up what was held before `before` and has left the snapshot.
///
/// # Crash safety
/// The file goes first; the next scan forgets a record whose file is gone.
///
/// # Errors
/// What the disk or the database says.
pub fn release(pool: &Pool, member: &Member, before: i64) -> Result<u64> {
    let reading = pool.catalogue.reading();
    let lane = parity_state::lane(reading, member.row.id)?;
    let needed: BTreeSet<_> = lane.iter().map(|i| i.value.version).collect();
    let mut released = Vec::new();
    for held in held_files::all(reading, member.row.id)?.into_iter().filter(|h| h.since < before) {
        let object = objects::by_path(reading, member.row.id, &held.path)?;
        let still_encoded = object
            .as_ref()
            .is_some_and(|o| o.version.iter().chain(&o.older).any(|version| needed.contains(version)));
        if !still_encoded {
            released.push((held, object));
        }
    }
    give_up(pool, member, &released)?;
    Ok(released.len() as u64)
}

/// What is held on a cache is a copy of what was settled: it goes when the sync that is over has passed that.
///
/// # Crash safety
/// As [`release`].
///
/// # Errors
/// What the disk or the database says.
pub fn release_settled(pool: &Pool, cache: &Member, before: i64) -> Result<u64> {
    let reading = pool.catalogue.reading();
    let mut lanes: BTreeMap<DiskId, BTreeSet<VersionId>> = BTreeMap::new();
    let mut released = Vec::new();
    let pieced = pieces::files(pool, &cache.row.volume)?;
    for held in held_files::all(reading, cache.row.id)?.into_iter().filter(|h| h.since < before) {
        let mut is_guarded = true;
        let data = pool.members_of(&cache.row.volume, Role::Data);
        let whole = data.map(|member| (member.row.id, &held.original));
        let parts = pieced.iter().filter(|file| file.path == held.original).flat_map(|file| &file.pieces);
        for (disk, path) in whole.chain(parts.map(|piece| (piece.disk, &piece.path))) {
            let Some(object) = objects::by_path(reading, disk, path)? else { continue };
            let encoded = match lanes.entry(disk) {
                Entry::Occupied(entry) => entry.into_mut(),
                Entry::Vacant(entry) => {
                    let lane = parity_state::lane(reading, disk)?;
                    entry.insert(lane.iter().map(|piece| piece.value.version).collect())
                }
            };
            let is_synced = object.standing == Standing::Same
                && object.version.is_some_and(|v| encoded.contains(&v) || object.size == ByteLength::ZERO);
            is_guarded &= is_synced || object.left_out;
        }
        if is_guarded {
            let object = objects::by_path(reading, cache.row.id, &held.path)?;
            released.push((held, object));
        }
    }
    give_up(pool, cache, &released)?;
    Ok(released.len() as u64)
}

/// Gives up what is held.
///
/// # Crash safety
/// As [`release`].
///
/// # Errors
/// What the disk or the database says.
pub(crate) fn give_up(pool: &Pool, member: &Member, released: &[(HeldRow, Option<ObjectRow>)]) -> Result<()> {
    let disk = member.writable()?;
    let (mut removed, mut trusted) = (false, Vec::new());
    for (held, object) in released {
        if let Some(stat) = disk.stat(&held.path)? {
            trusted.extend(object.as_ref().filter(|o| o.matches(&stat)));
            disk.remove_file(&held.path)?;
            removed = true;
        }
    }
    if removed {
        disk.sync_folder(&held_folder())?;
    }
    if !released.is_empty() {
        pool.catalogue.transaction(|t| {
            for (held, _) in released {
                objects::remove_name(t, member.row.id, &held.path)?;
                held_files::remove(t, member.row.id, &held.path)?;
            }
            for object in &trusted {
                expect_new_change_time(t, &**disk, object)?;
            }
            objects::forget_nameless(t, member.row.id)
        })?;
    }
    Ok(())
}
