//! A new file takes the name of an old one, which is held: the two names are exchanged, so that whatever has the name at
//! that moment is what ends up in our folder, and no save of somebody else can be lost between a look and a rename.

use sieve_core::fate::Standing;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;

use super::{HAS_CHANGED, IS_WRITTEN, Item, Taken, ToHold, Watcher, in_use, note, places};
use crate::member::Member;
use crate::pool::Pool;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_disk::Result;
use sieve_disk::durable;
use sieve_disk::{Disk, EntryKind, Stat};

/// Gives the finished file at `new` the name of the item, which is held from then on; tells what the item was.
///
/// # Crash safety
/// The new file lies under the held name before the exchange, and the intent has its inode: the next start sees which of
/// the two is there. Where the filesystem cannot exchange names, the old one is taken first, and the name is free for a
/// moment; a crash then is undone by giving it back.
///
/// # Errors
/// When somebody is writing to the file, or changed it meanwhile: then it is as it was. What the disk or the database says.
pub fn exchange(pool: &Pool, member: &Member, item: ToHold, new: &RelPath) -> Result<ObjectRow> {
    let taken = take_over(pool, member, item, new, false)?;
    let old = taken.items[0].object.clone();
    taken.record()?;
    Ok(old)
}

/// Gives the mended file at `new` the name of the damaged one, which goes: it stays the same object.
///
/// # Crash safety
/// As [`exchange`]; the damaged one may be left as held.
///
/// # Errors
/// As [`exchange`].
pub fn swap_in(pool: &Pool, member: &Member, item: ToHold, new: &RelPath) -> Result<()> {
    let disk = &**member.writable()?;
    let taken = take_over(pool, member, item, new, true)?;
    let item = &taken.items[0];
    let stat = disk.stat(&item.path)?;
    pool.catalogue.transaction(|t| {
        if let Some(stat) = stat {
            objects::set_stat(t, item.object.id, &stat, Standing::Same)?;
        }
        intents::remove(t, taken.intent)
    })?;
    item.remove(disk)?;
    disk.sync_folder(&OurPlace::Held.path())
}

fn take_over<'a>(
    pool: &'a Pool,
    member: &Member,
    item: ToHold,
    new: &RelPath,
    mends: bool,
) -> Result<Taken<'a>> {
    let disk = &**member.writable()?;
    durable::make_own_folder(disk, &OurPlace::Held.path())?;
    let held = places(pool, 1).remove(0);
    let ToHold { path, object, watched } = item;
    let watch = match watched {
        Some(watch) => Some(watch),
        None => Watcher::new(&*pool.machine).watch(disk, &path)?,
    };
    let Some(watch) = watch else { return Err(in_use(disk, &path, IS_WRITTEN)) };
    let made = disk.stat(new)?.map_or(0, |stat| stat.inode);
    note::add(pool, disk, std::iter::once((&held, &path)), true)?;
    let intent = Intent::Exchange {
        disk: member.row.id,
        object: object.id,
        original: path.tree_key(),
        held: held.tree_key(),
        made,
        mends,
    };
    let intent = pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
    let before = disk.stat(&path)?;
    let is_old = |stat: &Stat| stat.kind == EntryKind::File && object.matches_but_for_ctime(stat);
    swap(disk, new, &held, &path)?;
    let is_free = watch.holds_when_taken(&*pool.machine, disk, &held)?;
    let stat = disk.stat(&held)?;
    let Some(stat) = stat.filter(is_old).filter(|_| is_free) else {
        undo(disk, made, &held, &path)?;
        pool.catalogue.transaction(|t| intents::remove(t, intent))?;
        return Err(in_use(disk, &path, if is_free { HAS_CHANGED } else { IS_WRITTEN }));
    };
    durable::sync_parents(disk, [&held, &path])?;
    let is_trusted = before.is_some_and(|before| object.matches(&before));
    let standing = if is_trusted { object.standing } else { object.standing.max(Standing::Doubtful) };
    let items = vec![Item { path, object, held, stat, standing, watch }];
    Ok(Taken { pool, disk_id: member.row.id, intent, items, replaced: true, left: Vec::new() })
}

fn swap(disk: &dyn Disk, new: &RelPath, held: &RelPath, path: &RelPath) -> Result<()> {
    disk.rename(new, held)?;
    match disk.exchange(held, path) {
        Ok(true) => Ok(()),
        Ok(false) => {
            disk.rename(held, new)?;
            disk.rename(path, held)?;
            disk.rename(new, path)
        }
        Err(error) => {
            // The new file is still ours alone.
            disk.remove_file(held)?;
            Err(error)
        }
    }
}

/// What was taken is somebody's newer file: it gets its name back, and the file that we made goes. Whatever is met that is
/// neither stays held, where the next scan learns of it.
fn undo(disk: &dyn Disk, made: u64, held: &RelPath, path: &RelPath) -> Result<()> {
    let is_made = |stat: Option<Stat>| stat.is_some_and(|stat| stat.inode == made);
    if is_made(disk.stat(path)?) && disk.stat(held)?.is_some() {
        if !disk.exchange(held, path)? {
            disk.remove_file(path)?;
            disk.rename(held, path)?;
        }
        if !is_made(disk.stat(held)?) && disk.stat(held)?.is_some() {
            // The name was saved anew in between: what was there is kept as held.
            return durable::sync_parents(disk, [held, path]);
        }
        if disk.stat(held)?.is_some() {
            disk.remove_file(held)?;
        }
    }
    durable::sync_parents(disk, [held, path])
}
