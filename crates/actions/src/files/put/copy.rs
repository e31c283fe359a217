//! Copying what was planned.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use sieve_core::checksum::ContentSum;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId};

use super::source::looks_of;
use super::steady::Steady;
use super::{Item, PutPlan, PutReport};
use sieve_catalogue as catalogue;
use sieve_catalogue::{objects, versions};
use sieve_core::count::Count;
use sieve_disk::copying;
use sieve_disk::durable::{self, Written};
use sieve_disk::event::{Event, Observer, Silent, Unit, heed};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Attributes, Disk, EntryKind, Stat, WriteFile};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::held;
use sieve_pool::held::ToHold;
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::looks::looks_in_volume;
use sieve_pool::member::Member;
use sieve_pool::pieces;
use sieve_pool::pieces::Plot;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

/// So many files get their names, and are recorded in the catalogue, at once;
const BATCH: usize = 128;
/// and so many bytes.
const BATCH_BYTES: u64 = 64 << 20;

/// A file that is copied, and has no name yet.
struct Pending {
    item: usize,
    target: RelPath,
    disk: Arc<dyn Disk>,
    temporary: RelPath,
    copy: Box<dyn WriteFile>,
    sum: ContentSum,
    attributes: Attributes,
}

struct Done {
    item: usize,
    stat: Stat,
    content: Option<(ContentSum, Vec<Rows>)>,
    attributes: Attributes,
    hold: Option<sieve_catalogue::objects::ObjectRow>,
}

/// Copies what was planned.
///
/// # Crash safety
/// Each file appears whole under its name or not at all. A file that is not in the catalogue yet is found by
/// the next scan. A file that is replaced is there, old or new, at every moment.
///
/// # Errors
/// At the first file that cannot be copied; what was copied before stays.
pub fn execute(pool: &Pool, plan: &PutPlan, observer: &dyn Observer) -> Result<PutReport> {
    pool.expect_writing()?;
    let begun = std::time::Instant::now();
    let total = plan.items.iter().map(|i| i.size.exact()).sum();
    observer.event(Event::Stage { name: "copying", total, unit: Unit::Bytes });
    let spaces = Workspaces::new(&*pool.machine);
    let (pending, done) = (Vec::new(), Vec::new());
    let (made, seen, copied) = (HashSet::new(), HashSet::new(), BTreeMap::new());
    let mut put = Putter { pool, plan, observer, spaces, pending, done, made, seen, copied };
    let outcome = put.all();
    // What is copied stays, whatever ended the rest.
    let outcome = outcome.and(put.give_names());
    put.record()?;
    let Putter { spaces, copied, .. } = put;
    spaces.finish()?;
    let report = match outcome {
        Err(error) if error.is_stop() => so_far(pool, plan, &copied),
        outcome => outcome.map(|()| PutReport::intended(plan))?,
    };
    let files = report.by_disk.iter().fold(Count::default(), |sum, (_, count)| sum.plus(*count));
    let disks = report.by_disk.iter().filter(|(_, count)| count.files > 0).map(|(name, _)| name);
    let ended = Ended::of(report.stopped, report.skipped.is_empty());
    pool.tell(
        Entry::new(Did::Put)
            .ended(ended)
            .took(begun.elapsed().as_secs_f64())
            .files(files)
            .on(disks)
            .detail(&report)?,
    )?;
    Ok(report)
}

/// What was copied before it was asked to stop.
fn so_far(pool: &Pool, plan: &PutPlan, copied: &BTreeMap<u16, Count>) -> PutReport {
    let by_disk = copied.iter().map(|(member, count)| {
        let name = pool.members[usize::from(*member)].row.name.clone();
        (name, *count)
    });
    PutReport { by_disk: by_disk.collect(), stopped: true, ..PutReport::intended(plan) }
}

struct Putter<'a> {
    pool: &'a Pool,
    plan: &'a PutPlan,
    observer: &'a dyn Observer,
    spaces: Workspaces<'a>,
    pending: Vec<Pending>,
    done: Vec<Done>,
    /// Folders that were not there before.
    made: HashSet<(DiskId, RelPath)>,
    /// Folders that are there.
    seen: HashSet<(DiskId, RelPath)>,
    /// Files that have their names, by the member that has them.
    copied: BTreeMap<u16, Count>,
}

impl Putter<'_> {
    fn all(&mut self) -> Result<()> {
        for (index, item) in self.plan.items.iter().enumerate() {
            heed(self.observer)?;
            let target = self.plan.target(&item.path);
            match item.kind {
                EntryKind::Folder => self.make_folders(item, &target)?,
                EntryKind::Symlink => self.symlink(item, &target)?,
                _ => self.file(index, item, &target)?,
            }
            if self.pending.iter().all(|file| file.item != index) {
                self.count(item);
            }
            let bytes: u64 = self.pending.iter().map(|file| file.sum.size.exact()).sum();
            if self.pending.len() >= BATCH || bytes >= BATCH_BYTES {
                self.give_names()?;
            }
            if self.done.len() >= BATCH {
                self.record()?;
            }
        }
        self.give_names()?;
        // Folders get their times last, since every file in them moves those.
        let folders = self.plan.items.iter().rev().filter(|i| i.kind == EntryKind::Folder);
        folders.into_iter().try_for_each(|item| self.finish_folder(item))
    }

    fn count(&mut self, item: &Item) {
        let copied = match (&item.pieces, item.kind) {
            (_, EntryKind::Folder) => return,
            (Some(pieces), _) => pieces.to_vec(),
            // A further name takes no room.
            (None, _) if item.link_of.is_some() => vec![(item.member, ByteLength::ZERO)],
            (None, _) => vec![(item.member, item.size)],
        };
        copied.into_iter().for_each(|(member, bytes)| self.copied.entry(member).or_default().add(bytes));
    }

    /// Makes folders as they are elsewhere in the volume; what is new in it, as it is where it comes from.
    fn make_folders(&mut self, item: &Item, folder: &RelPath) -> Result<()> {
        let member = self.member(item);
        let (id, disk) = (member.row.id, Arc::clone(member.writable()?));
        let (plan, source) = (self.plan, self.plan.source(item));
        let twin = |folder: &RelPath| match looks_in_volume(self.pool, &member.row.volume, folder)? {
            None => plan.origin(folder).map_or(Ok(None), |origin| looks_of(source, &origin)),
            there => Ok(there),
        };
        let made = durable::make_folders(&*disk, folder, twin)?;
        self.made.extend(made.into_iter().map(|folder| (id, folder)));
        self.seen.insert((id, folder.clone()));
        Ok(())
    }

    /// The folder that a file is to lie in.
    fn make_parent(&mut self, item: &Item, target: &RelPath) -> Result<()> {
        let Some(parent) = target.parent() else { return Ok(()) };
        let place = (self.member(item).row.id, parent);
        if self.seen.contains(&place) { Ok(()) } else { self.make_folders(item, &place.1) }
    }

    /// Gives a folder that was made here its time, on every disk that has a part of it.
    fn finish_folder(&self, item: &Item) -> Result<()> {
        let (source, target) = (self.plan.source(item), self.plan.target(&item.path));
        let Some(stat) = source.stat(&item.path)? else { return Ok(()) };
        for member in self.pool.file_members(&self.member(item).row.volume) {
            if self.made.contains(&(member.row.id, target.clone())) {
                member.writable()?.set_time(&target, stat.mtime)?;
            }
        }
        Ok(())
    }

    fn member(&self, item: &Item) -> &Member {
        &self.pool.members[usize::from(item.member)]
    }

    fn symlink(&mut self, item: &Item, target: &RelPath) -> Result<()> {
        let disk = Arc::clone(self.member(item).writable()?);
        self.make_parent(item, target)?;
        let temporary = self.temporary(item, &disk)?;
        let source = self.plan.source(item);
        disk.make_symlink(&source.read_link(&item.path)?, &temporary)?;
        if let Some(stat) = source.stat(&item.path)? {
            disk.set_attributes(&temporary, &Attributes::of(&stat, Vec::new()))?;
        }
        self.publish(item, target, &disk, &temporary).map(|_| ())
    }

    /// A path for an unfinished file on the disk that an item goes to.
    fn temporary(&mut self, item: &Item, disk: &Arc<dyn Disk>) -> Result<RelPath> {
        let id = self.member(item).row.id;
        self.spaces.next_path(id, disk)
    }

    /// The object of that name; what was copied there directly has to be known to be held.
    fn known(&self, member: &Member, target: &RelPath) -> Result<Option<objects::ObjectRow>> {
        let known = objects::by_path(self.pool.catalogue.reading(), member.row.id, target)?;
        if known.is_some() {
            return Ok(known);
        }
        scan::scan_at(self.pool, |m| m.row.id == member.row.id, std::slice::from_ref(target), &Silent)?;
        objects::by_path(self.pool.catalogue.reading(), member.row.id, target)
    }

    fn file(&mut self, index: usize, item: &Item, target: &RelPath) -> Result<()> {
        let disk = Arc::clone(self.member(item).writable()?);
        self.make_parent(item, target)?;
        if let Some(parts) = &item.pieces {
            return self.in_pieces(item, target, parts);
        }
        if let Some(first) = &item.link_of {
            // The catalogue learns of the further name from the stat of the first.
            self.give_names()?;
            self.record()?;
            let first = self.plan.target(first);
            disk.link(&first, target)?;
            durable::sync_parents(&*disk, [target])?;
            return self.record_link(item, &first, target, &*disk);
        }
        let temporary = self.temporary(item, &disk)?;
        let (copy, sum, attributes) = self.steady().copy(item, &*disk, &temporary)?;
        let target = target.clone();
        self.pending.push(Pending { item: index, target, disk, temporary, copy, sum, attributes });
        Ok(())
    }

    /// What is copied is made durable, read back, and gets its names: all of it after one wait for each disk.
    fn give_names(&mut self) -> Result<()> {
        let (plan, mut pending) = (self.plan, std::mem::take(&mut self.pending));
        let mut written = Written::default();
        for file in &mut pending {
            written.add(self.member(&plan.items[file.item]).row.id, &file.disk, &mut file.copy);
        }
        written.sync()?;
        let mut named: BTreeMap<DiskId, (Arc<dyn Disk>, Vec<RelPath>)> = BTreeMap::new();
        let outcome = pending.into_iter().try_for_each(|file| {
            let item = &plan.items[file.item];
            let disk = Arc::clone(&file.disk);
            let names = &mut named.entry(self.member(item).row.id).or_insert_with(|| (disk, Vec::new())).1;
            self.give_name(item, file, names)
        });
        // Those that have their names keep them, whatever is wrong with the next.
        named.values().try_for_each(|(disk, names)| durable::sync_parents(&**disk, names))?;
        outcome
    }

    fn give_name(&mut self, item: &Item, mut file: Pending, names: &mut Vec<RelPath>) -> Result<()> {
        // What was copied when a stop was asked for still gets its name, but where that takes long.
        let observer: &dyn Observer =
            if file.sum.size.exact() < BATCH_BYTES { &Silent } else { self.observer };
        let data = copying::read_back(&*file.disk, &mut *file.copy, &file.sum, observer)?;
        let hold = match item.replaces {
            Some(_) => self.publish(item, &file.target, &file.disk, &file.temporary)?,
            None => {
                self.rename(item, &file)?;
                names.push(file.target.clone());
                None
            }
        };
        let stat = file.disk.stat(&file.target)?.ok_or_else(|| vanished(&file.target))?;
        let content = Some((file.sum, data));
        self.done.push(Done { item: file.item, stat, content, attributes: file.attributes, hold });
        self.count(item);
        Ok(())
    }

    /// Gives a copy its name, which nothing has; its folder may have been taken away meanwhile.
    fn rename(&mut self, item: &Item, file: &Pending) -> Result<()> {
        match file.disk.rename(&file.temporary, &file.target) {
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::NotFound) => {}
            other => return other,
        }
        if let Some(parent) = file.target.parent() {
            self.make_folders(item, &parent)?;
        }
        file.disk.rename(&file.temporary, &file.target)
    }

    fn steady(&self) -> Steady<'_> {
        Steady { pool: self.pool, plan: self.plan, observer: self.observer }
    }

    fn in_pieces(&mut self, item: &Item, target: &RelPath, parts: &[(u16, ByteLength)]) -> Result<()> {
        self.give_names()?;
        self.record()?;
        let source = self.plan.source(item);
        let mut input = source.open(&item.path)?;
        let stat = input.stat()?;
        let attributes = Attributes::of(&stat, source.extended_attributes(&item.path)?);
        let mut plots = Vec::new();
        for (index, length) in parts {
            let member = &self.pool.members[usize::from(*index)];
            let disk = Arc::clone(member.writable()?);
            let temporary = self.spaces.next_path(member.row.id, &disk)?;
            plots.push(Plot { member: member.row.id, disk, temporary, length: *length });
        }
        let written = pieces::write(&mut *input, &attributes, target, &plots, self.observer)?;
        self.steady().expect_whole(item, &stat, written.whole())?;
        written.publish(self.pool)
    }

    /// Gives the copy its name. A file that had the name before is held; a symlink makes way.
    fn publish(
        &mut self,
        item: &Item,
        target: &RelPath,
        disk: &Arc<dyn Disk>,
        temporary: &RelPath,
    ) -> Result<Option<objects::ObjectRow>> {
        let Some(there) = item.replaces else {
            return durable::publish(&**disk, temporary, target).map(|()| None);
        };
        let member = &self.pool.members[usize::from(there)];
        let old = member.writable()?;
        let is_here = there == item.member;
        match old.stat(target)?.map(|s| s.kind) {
            Some(EntryKind::File) => {}
            Some(EntryKind::Symlink) => {
                let is_link = |stat: &Stat, _: &RelPath| Ok(stat.kind == EntryKind::Symlink);
                if !held::discard(&**old, self.pool.machine.random(), target, is_link)? {
                    return Err(held::in_use(&**old, target, held::HAS_CHANGED));
                }
                return durable::publish(&**disk, temporary, target).map(|()| None);
            }
            None => return durable::publish(&**disk, temporary, target).map(|()| None),
            Some(_) => return Err(in_the_way(&**old, target)),
        }
        let object = self.known(member, target)?.ok_or_else(|| vanished(target))?;
        let to_hold = ToHold { path: target.clone(), object, watched: None };
        if is_here {
            return held::exchange(self.pool, member, to_hold, temporary).map(Some);
        }
        // On another disk the new one appears first: for a moment there are two, never none.
        durable::publish(&**disk, temporary, target)?;
        let left = held::take(self.pool, member, vec![to_hold])?.record()?;
        match left.first() {
            Some(left) => Err(held::in_use(&**old, target, left.why)),
            None => Ok(None),
        }
    }

    fn record_link(&self, item: &Item, first: &RelPath, target: &RelPath, disk: &dyn Disk) -> Result<()> {
        let member = self.member(item);
        let object = objects::by_path(self.pool.catalogue.reading(), member.row.id, first)?;
        let (Some(object), Some(stat)) = (object, disk.stat(target)?) else { return Ok(()) };
        self.pool.catalogue.transaction(|t| {
            objects::set_name(t, member.row.id, target, object.id)?;
            objects::set_stat(t, object.id, &stat, object.standing)
        })
    }

    fn record(&mut self) -> Result<()> {
        if self.done.is_empty() {
            return Ok(());
        }
        let done = std::mem::take(&mut self.done);
        self.pool.catalogue.transaction(|t| {
            catalogue::mark_changed(t)?;
            for file in &done {
                let item = &self.plan.items[file.item];
                record_file(t, self.member(item).row.id, &self.plan.target(&item.path), file)?;
            }
            Ok(())
        })?;
        self.tell_replaced(&done)
    }

    /// The journal keeps every path whose content was replaced.
    fn tell_replaced(&self, done: &[Done]) -> Result<()> {
        let mut by_disk: BTreeMap<&str, Vec<RelPath>> = BTreeMap::new();
        for item in done.iter().filter(|file| file.hold.is_some()).map(|file| &self.plan.items[file.item]) {
            by_disk.entry(&self.member(item).row.name).or_default().push(self.plan.target(&item.path));
        }
        by_disk.iter().try_for_each(|(disk, paths)| self.pool.tell_paths(&Did::Replaced, disk, paths))
    }
}

fn vanished(target: &RelPath) -> Error {
    Error::new(Kind::Conflict, "file.vanished", format!("{target}: somebody else took this file away"))
}

fn in_the_way(disk: &dyn Disk, target: &RelPath) -> Error {
    let place = sieve_disk::full_path(disk, target);
    let message = format!("{} is a folder, or something else that is no file", place.display());
    Error::new(Kind::Conflict, "put.in-the-way", message).remedy("put it elsewhere, or move that away")
}

fn record_file(t: &rusqlite::Transaction<'_>, disk: DiskId, path: &RelPath, file: &Done) -> Result<ObjectId> {
    let version = match &file.content {
        Some((sum, data)) => Some(versions::insert(t, disk, sum, data, &file.attributes)?),
        None => None,
    };
    let extended = file.attributes.pack_extended();
    let id = objects::insert(t, disk, &file.stat, extended.as_deref(), version, false)?;
    let older = file.hold.as_ref().and_then(|o| o.version.or(o.older));
    objects::set_version(t, id, version, sieve_core::fate::Standing::Same, older)?;
    objects::set_name(t, disk, path, id)?;
    Ok(id)
}
