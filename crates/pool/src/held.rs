//! Holding: what is removed or replaced through us stays, out of sight, until a sync has passed it.
//!
//! The one way in which a name of the volume is taken away (L1): it is renamed into our own folder first, then what was
//! taken is looked at, and only what is what it was taken for stays there; everything else is put back. What somebody has
//! open or mapped for writing is not moved.

mod beside;
mod exchange;
mod guarded;
mod note;
mod recover;
mod release;

use std::collections::HashSet;
use std::sync::OnceLock;

use sieve_core::fate::Standing;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::member::Member;
use crate::pool::Pool;
use sieve_catalogue::held_files;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::{Holds, Intent};
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::pieces;
use sieve_disk::durable;
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, EntryKind, Lease, ReadFile, Stat};
use sieve_disk::{Error, Result};

pub use beside::{Beside, DoneBeside, line_for, lines_path, record_beside};
pub use exchange::{exchange, swap_in};
pub use guarded::Guarded;
pub use note::learn;
pub use recover::recover;
pub use release::{give_up, is_proven_elsewhere};
pub use release::{release, release_settled};

/// A file that is to be held.
pub struct ToHold {
    /// Its name.
    pub path: RelPath,
    /// What it is.
    pub object: ObjectRow,
    /// It, open for reading with a lease, where somebody watches it already.
    pub watched: Option<Watch>,
}

/// A file that is watched for writers.
pub enum Watch {
    /// By a lease, which the file that is open here holds.
    Leased(Box<dyn ReadFile>),
    /// The filesystem has no leases, or it is not ours: who has it open was looked up in /proc, which is weaker.
    Looked,
}

impl Watch {
    /// Whether nobody began to write since.
    pub fn holds(&self) -> bool {
        match self {
            Self::Leased(file) => file.lease_holds(),
            Self::Looked => true,
        }
    }

    /// The same when it has its held name: nobody finds it by its name any more, so that who writes to it now has it open,
    /// and one more look in /proc sees that. What it is, is to be compared afterwards.
    ///
    /// # Errors
    /// What the disk says.
    fn holds_when_taken(&self, machine: &dyn Machine, disk: &dyn Disk, held: &RelPath) -> Result<bool> {
        match self {
            Self::Leased(_) => Ok(self.holds()),
            Self::Looked => {
                let is_open = |stat: Stat| machine.open_files().contains(&(stat.device, stat.inode));
                Ok(!disk.stat(held)?.is_some_and(is_open))
            }
        }
    }
}

/// Asks whether files are written to, before they are copied; where there are no leases, who has files open is looked up once
/// for a batch here, and for each file again when it is taken.
pub struct Watcher<'a> {
    machine: &'a dyn Machine,
    open: OnceLock<HashSet<(u64, u64)>>,
}

/// Why a file stays where it is.
pub const IS_WRITTEN: &str = "it is open for writing";
/// Why a file stays where it is.
pub const IS_OF_ANOTHER: &str = "it belongs to another user: only root moves it without making it its own";
/// Why a file stays where it is.
pub const HAS_CHANGED: &str = "it has changed since it was looked at";

impl<'a> Watcher<'a> {
    /// One that asks this machine who has files open, where a filesystem has no leases.
    pub fn new(machine: &'a dyn Machine) -> Self {
        Self { machine, open: OnceLock::new() }
    }

    /// Watches a file; nothing when somebody has it open or mapped for writing.
    ///
    /// # Errors
    /// What the disk says.
    pub fn watch(&self, disk: &dyn Disk, path: &RelPath) -> Result<Option<Watch>> {
        match disk.open(path) {
            Ok(file) => self.watch_open(file),
            // Who may not read it may still take it away; and what is gone is met when it is taken.
            Err(_) => {
                let stat = disk.stat(path)?;
                Ok(stat.is_none_or(|stat| !self.is_open(&stat)).then_some(Watch::Looked))
            }
        }
    }

    /// Watches a file that is open for reading.
    ///
    /// # Errors
    /// What the disk says.
    pub fn watch_open(&self, file: Box<dyn ReadFile>) -> Result<Option<Watch>> {
        Ok(match file.lease()? {
            Lease::Granted => Some(Watch::Leased(file)),
            Lease::Refused => None,
            Lease::Unsupported => {
                let stat = file.stat()?;
                drop(file); // our own handle must not count
                (!self.is_open(&stat)).then_some(Watch::Looked)
            }
        })
    }

    fn is_open(&self, stat: &Stat) -> bool {
        self.open.get_or_init(|| self.machine.open_files()).contains(&(stat.device, stat.inode))
    }
}

/// A name that was left where it is, and why.
pub struct Left {
    /// The name.
    pub path: RelPath,
    /// Why, in words.
    pub why: &'static str,
}

/// Files that have their held names; they are not in the catalogue as held yet.
#[must_use = "what was taken is not recorded before `record`"]
pub struct Taken<'a> {
    pool: &'a Pool,
    disk_id: DiskId,
    intent: i64,
    items: Vec<Item>,
    /// Another file has the name now.
    replaced: bool,
    /// What was not taken.
    pub left: Vec<Left>,
}

struct Item {
    path: RelPath,
    object: ObjectRow,
    held: RelPath,
    stat: Stat,
    standing: Standing,
    /// Until it is recorded or gone: who had found its name before it was taken may come to write only now.
    watch: Watch,
}

impl Item {
    /// Removes what was taken, if it is still as it was and nobody came to write to it; else it stays in our folder, where
    /// the next scan learns of it.
    fn remove(&self, disk: &dyn Disk) -> Result<()> {
        // Not by the change time, which the rename of a further name moves.
        let is_as_taken = disk.stat(&self.held)?.is_some_and(|stat| {
            (stat.inode, stat.size, stat.mtime) == (self.stat.inode, self.stat.size, self.stat.mtime)
        });
        if self.watch.holds() && is_as_taken { disk.remove_file(&self.held) } else { Ok(()) }
    }
}

/// Where each of so many files is to be held: names that come one after the other lie side by side in the catalogue.
fn places(pool: &Pool, count: usize) -> Vec<RelPath> {
    let (now, random) = (pool.machine.now(), pool.machine.random());
    let place = |number: usize| {
        let name = format!("{now:016x}{random:016x}{number:08x}");
        OurPlace::Held.with(&name)
    };
    (0..count).map(place).collect()
}

/// Writes down what is to be held, and takes each file away.
///
/// # Crash safety
/// After a crash the next start finishes the hold of what has its held name and drops the rest; no content is
/// without a name at any moment, and what each held name stands for is written down beside it first.
///
/// # Errors
/// What the disk or the database says.
pub fn take<'a>(pool: &'a Pool, member: &Member, items: Vec<ToHold>) -> Result<Taken<'a>> {
    let disk = member.writable()?;
    durable::make_own_folder(&**disk, &OurPlace::Held.path())?;
    let planned: Vec<(ToHold, RelPath)> = {
        let places = places(pool, items.len());
        items.into_iter().zip(places).collect()
    };
    note::add(pool, &**disk, planned.iter().map(|(item, held)| (held, &item.path)), false)?;
    let holds = |(item, held): &(ToHold, RelPath)| Holds {
        object: item.object.id,
        original: item.path.tree_key(),
        held: held.tree_key(),
    };
    let files = planned.iter().map(holds).collect();
    let intent = Intent::HoldAll { disk: member.row.id, files, replaced: false };
    let intent = pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
    let watcher = Watcher::new(&*pool.machine);
    let mut taken =
        Taken { pool, disk_id: member.row.id, intent, items: Vec::new(), replaced: false, left: Vec::new() };
    let mut seen = HashSet::new();
    for (item, held) in planned {
        // The further names of a file: taking the first one moved the change time that they show.
        let is_further = !seen.insert(item.object.id);
        let path = item.path.clone();
        match take_one(&watcher, &**disk, item, held, is_further)? {
            Ok(item) => taken.items.push(item),
            Err(why) => taken.left.push(Left { path, why }),
        }
    }
    let paths = taken.items.iter().flat_map(|item| [&item.path, &item.held]);
    durable::sync_parents(&**disk, paths)?;
    Ok(taken)
}

fn take_one(
    watcher: &Watcher<'_>,
    disk: &dyn Disk,
    item: ToHold,
    held: RelPath,
    is_further: bool,
) -> Result<std::result::Result<Item, &'static str>> {
    let ToHold { path, object, watched } = item;
    let watch = match watched {
        Some(watch) => watch,
        None => match watcher.watch(disk, &path)? {
            Some(watch) => watch,
            None => return Ok(Err(IS_WRITTEN)),
        },
    };
    let before = disk.stat(&path)?;
    match disk.rename(&path, &held) {
        Err(error) if error.io_kind() == Some(std::io::ErrorKind::NotFound) => return Ok(Err(HAS_CHANGED)),
        other => other?,
    }
    let is_free = watch.holds_when_taken(watcher.machine, disk, &held)?;
    let stat = disk.stat(&held)?;
    let expected = stat.filter(|stat| stat.kind == EntryKind::File && object.matches_but_for_ctime(stat));
    let Some(stat) = expected.filter(|_| is_free) else {
        put_back(disk, &held, &path)?;
        return Ok(Err(if is_free { HAS_CHANGED } else { IS_WRITTEN }));
    };
    // Our own rename moves the change time; that alone raises no doubt.
    let is_trusted = is_further || before.is_some_and(|before| object.matches(&before));
    let standing = if is_trusted { object.standing } else { object.standing.max(Standing::Doubtful) };
    Ok(Ok(Item { path, object, held, stat, standing, watch }))
}

/// What was taken is not what it was taken for: it goes back to its name. If the name was given anew in the meantime, or its
/// folder is gone, it stays held, and the next scan learns of it.
fn put_back(disk: &dyn Disk, held: &RelPath, path: &RelPath) -> Result<()> {
    match disk.rename(held, path) {
        Err(error)
            if matches!(
                error.io_kind(),
                Some(std::io::ErrorKind::AlreadyExists | std::io::ErrorKind::NotFound)
            ) =>
        {
            // It stays held; the folder of its name may be another one by now.
            disk.sync_folder(&OurPlace::Held.path())
        }
        Err(error) => Err(error),
        Ok(()) => durable::sync_parents(disk, [held, path]),
    }
}

/// Removes something that we made ourselves, or that its owner wants removed, if it is that still: it is taken into our
/// folder, looked at, and only then dropped; whatever else has the name gets it back.
///
/// # Crash safety
/// A crash may leave it in our folder, where the next scan learns of it.
///
/// # Errors
/// What the disk says.
pub fn discard(
    disk: &dyn Disk,
    random: u64,
    path: &RelPath,
    is_it: impl FnOnce(&Stat, &RelPath) -> Result<bool>,
) -> Result<bool> {
    durable::make_own_folder(disk, &OurPlace::Held.path())?;
    let aside = OurPlace::Held.with(&format!("{random:032x}"));
    match disk.rename(path, &aside) {
        Err(error) if error.io_kind() == Some(std::io::ErrorKind::NotFound) => return Ok(true),
        other => other?,
    }
    let stat = disk.stat(&aside)?;
    let is_it = stat.map(|stat| is_it(&stat, &aside)).transpose()?.unwrap_or(false);
    let is_written = disk.open(&aside).is_ok_and(|file| matches!(file.lease(), Ok(Lease::Refused)));
    if !is_it || is_written {
        put_back(disk, &aside, path)?;
        return Ok(false);
    }
    disk.remove_file(&aside)?;
    durable::sync_parents(disk, [path, &aside])?;
    Ok(true)
}

impl Taken<'_> {
    /// How many names were taken.
    pub fn count(&self) -> u64 {
        self.items.len() as u64
    }

    /// Records them as held.
    ///
    /// # Errors
    /// What the database says.
    pub fn record(self) -> Result<Vec<Left>> {
        let now = self.pool.machine.now();
        self.pool.catalogue.transaction(|t| {
            sieve_catalogue::mark_changed(t)?;
            for item in &self.items {
                let row = HeldRow {
                    path: item.held.clone(),
                    original: item.path.clone(),
                    since: now,
                    replaced: self.replaced,
                    edited: note::is_edit(item.standing),
                };
                move_in_catalogue(t, self.disk_id, &item.object, &row, &item.stat, item.standing)?;
            }
            intents::remove(t, self.intent)
        })?;
        Ok(self.left)
    }

    /// Lets them go: only for what is proven to be elsewhere.
    ///
    /// # Crash safety
    /// A crash leaves what the catalogue forgot in our folder; the next scan learns of it as held.
    ///
    /// # Errors
    /// What the disk or the database says.
    pub fn let_go(self, disk: &dyn Disk) -> Result<Vec<Left>> {
        self.pool.catalogue.transaction(|t| {
            sieve_catalogue::mark_changed(t)?;
            for item in &self.items {
                objects::remove_name(t, self.disk_id, &item.path)?;
                objects::forget_if_nameless(t, item.object.id)?;
            }
            if self.items.iter().any(|item| item.path.is_piece()) {
                pieces::forget_gone(t, self.disk_id)?;
            }
            intents::remove(t, self.intent)
        })?;
        self.items.iter().try_for_each(|item| item.remove(disk))?;
        durable::sync_parents(disk, self.items.iter().map(|item| &item.held))?;
        Ok(self.left)
    }
}

/// The error for a file that cannot be replaced, because somebody is at it.
pub fn in_use(disk: &dyn Disk, path: &RelPath, why: &'static str) -> Error {
    let place = sieve_disk::full_path(disk, path);
    let message = format!("{}: {why}; nothing of it was replaced", place.display());
    Error::new(sieve_disk::Kind::Conflict, "file.in-use", message)
        .remedy("let the other program finish, then run this again")
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
    if row.original.is_piece() {
        pieces::forget_gone(t, disk)?;
    }
    objects::set_stat(t, object.id, stat, standing)?;
    held_files::insert(t, disk, row)
}
