//! The copies of files themselves: new ones made many at a time, those that replace another one by one.

use std::collections::BTreeMap;
use std::sync::Arc;

use rusqlite::Transaction;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{mark_changed, objects, versions};
use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;
use sieve_disk::copying::{self, CHANGED, copy_hashed};
use sieve_disk::durable::{self, Written};
use sieve_disk::event::{Observer, Silent};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Attributes, Disk, WriteFile, full_path};
use sieve_disk::{Kind, Result};
use sieve_pool::held::{self, ToHold};
use sieve_pool::looks::{looks_in_volume, looks_of};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

use super::plan::Step;
use super::report::Mirrored;

/// So many copies get their names, and are recorded in the catalogue, at once;
const BATCH: usize = 128;
/// and so many bytes.
const BATCH_BYTES: u64 = 64 << 20;

/// Makes copies.
pub(super) struct Copier<'a> {
    pub(super) pool: &'a Pool,
    pub(super) observer: &'a dyn Observer,
    pub(super) spaces: Workspaces<'a>,
    /// Folders that were made, and where one like it is.
    pub(super) folders: BTreeMap<(DiskId, RelPath), DiskId>,
    /// Copies that have no names yet.
    pub(super) waiting: Vec<Copied>,
    pub(super) done: Mirrored,
}

/// A copy beside its place.
pub(super) struct Copied {
    path: RelPath,
    of: Source,
    to: DiskId,
    disk: Arc<dyn Disk>,
    temporary: RelPath,
    copy: Box<dyn WriteFile>,
    sum: ContentSum,
    attributes: Attributes,
}

/// What it is a copy of.
struct Source {
    disk: DiskId,
    on: Arc<dyn Disk>,
    object: ObjectRow,
    /// Its granules that are no holes, where nobody knew its content before.
    learned: Option<Vec<Rows>>,
}

fn is_full(waiting: &[Copied]) -> bool {
    let bytes: u64 = waiting.iter().map(|copied| copied.sum.size.exact()).sum();
    waiting.len() >= BATCH || bytes >= BATCH_BYTES
}

/// Makes a copy known, and what was learned of its source.
fn record(
    t: &Transaction<'_>,
    Copied { path, of, to, disk, sum, attributes, .. }: &Copied,
    data: &[Rows],
    replaced: Option<&ObjectRow>,
) -> Result<()> {
    if let Some(ranges) = &of.learned {
        let older = of.object.older.or(of.object.version);
        let version = versions::insert(t, of.disk, sum, ranges, attributes)?;
        objects::set_version(t, of.object.id, Some(version), Standing::Same, older)?;
    }
    let Some(stat) = disk.stat(path)? else { return Ok(()) };
    let version = versions::insert(t, *to, sum, data, attributes)?;
    let extended = attributes.pack_extended();
    let id = objects::insert(t, *to, &stat, extended.as_deref(), Some(version), false)?;
    let older = replaced.and_then(|old| old.version.or(old.older));
    objects::set_version(t, id, Some(version), Standing::Same, older)?;
    objects::set_name(t, *to, path, id)
}

impl Copier<'_> {
    pub(super) fn step(&mut self, step: &Step) -> Result<()> {
        for to in &step.to {
            let mut is_done = false;
            for from in &step.from {
                is_done = self.copy(&step.path, *from, *to)?;
                if is_done {
                    break;
                }
            }
            if !is_done && !self.done.damaged.contains(&step.path.to_string()) {
                self.done.damaged.push(step.path.to_string());
            }
        }
        Ok(())
    }

    /// Copies one file to one disk; false when the source is not what it should be.
    fn copy(&mut self, path: &RelPath, from: DiskId, to: DiskId) -> Result<bool> {
        let reading = self.pool.catalogue.reading();
        let (source, target) = (self.pool.member(from)?.usable()?, self.pool.member(to)?);
        let disk = Arc::clone(target.writable()?);
        let Some(mut object) = objects::by_path(reading, from, path)? else { return Ok(true) };
        if self.waiting.iter().any(|copied| copied.to == to && copied.of.object.id == object.id) {
            // It is copied under another name, and gets this one as well: once that is known.
            self.give_names()?;
            object = objects::get(reading, object.id)?.unwrap_or(object);
        }
        if self.link_to_other_name(path, &object, target, &disk)? {
            return Ok(true);
        }
        if source.stat(path)?.is_none_or(|stat| !object.matches(&stat)) {
            return Ok(true); // it changes just now: the next sync looks again
        }
        let attributes = objects::attributes(reading, object.id)?;
        if !disk.may_give_to(attributes.uid) {
            self.done.of_others.push(full_path(&**source, path).display().to_string());
            return Ok(true);
        }
        self.make_folders(path, from, to)?;
        let temporary = self.spaces.next_path(to, &disk)?;
        let mut input = source.open(path)?;
        let copied = copy_hashed(&mut *input, object.size, &*disk, &temporary, &attributes, self.observer);
        let (copy, sum) = match copied {
            Err(error) if error.code == CHANGED => {
                disk.remove_file(&temporary)?;
                self.done.left_for_next.push(full_path(&**source, path).display().to_string());
                return Ok(true);
            }
            other => other?,
        };
        let known = object.version.filter(|_| object.standing == Standing::Same);
        let known = known.map(|version| versions::get(reading, version)).transpose()?;
        if known.as_ref().is_some_and(|version| !version.unfinished && version.sum != sum) {
            disk.remove_file(&temporary)?;
            return Ok(false);
        }
        // Nobody knew what the source was: it was read whole just now. One of its copies tells.
        let is_told = self.waiting.iter().any(|copied| copied.of.object.id == object.id);
        let learned = (known.is_none() && !is_told).then(|| input.data_ranges()).transpose()?;
        let old = objects::by_path(reading, to, path)?;
        let old = if disk.stat(path)?.is_some() { old } else { None };
        let (path, on) = (path.clone(), Arc::clone(source));
        let of = Source { disk: from, on, object, learned };
        let copied = Copied { path, of, to, disk, temporary, copy, sum, attributes };
        match old {
            Some(old) => self.replace(copied, old)?,
            None => self.waiting.push(copied),
        }
        if is_full(&self.waiting) { self.give_names().map(|()| true) } else { Ok(true) }
    }

    /// All that is copied and has no name yet becomes durable, is read back, and gets its names: after one wait for each disk.
    ///
    /// # Crash safety
    /// A copy that has its name and is not in the catalogue yet is found by the next scan.
    pub(super) fn give_names(&mut self) -> Result<()> {
        let mut waiting = std::mem::take(&mut self.waiting);
        let mut written = Written::default();
        waiting.iter_mut().for_each(|copied| written.add(copied.to, &copied.disk, &mut copied.copy));
        written.sync()?;
        let mut named: BTreeMap<DiskId, Vec<(Copied, Vec<Rows>)>> = BTreeMap::new();
        let outcome = waiting.into_iter().try_for_each(|mut copied| {
            let data = self.read_back(&mut copied)?;
            if self.give_name(&copied)? {
                named.entry(copied.to).or_default().push((copied, data));
            }
            Ok(())
        });
        // Those that have their names keep them, whatever is wrong with the next.
        for copies in named.values() {
            let names = copies.iter().map(|(copied, _)| &copied.path);
            durable::sync_parents(&*copies[0].0.disk, names)?;
        }
        let named: Vec<(Copied, Vec<Rows>)> = named.into_values().flatten().collect();
        self.pool.catalogue.transaction(|t| {
            named.iter().try_for_each(|(copied, data)| record(t, copied, data, None))?;
            if named.is_empty() { Ok(()) } else { mark_changed(t) }
        })?;
        named.iter().for_each(|(copied, _)| self.done.copied.add(copied.sum.size));
        outcome
    }

    /// False where it is left to the next sync: others may have been at the source, or at the name, since it was copied.
    fn give_name(&mut self, copied: &Copied) -> Result<bool> {
        let Copied { path, of, disk, temporary, .. } = copied;
        // A file that was removed meanwhile must not come back as its own copy.
        let is_steady = of.on.stat(path)?.is_some_and(|stat| of.object.matches(&stat));
        let renamed = if is_steady { disk.rename(temporary, path) } else { Ok(()) };
        let is_taken = match renamed {
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::AlreadyExists) => true,
            other => other.map(|()| false)?,
        };
        if !is_steady || is_taken {
            disk.remove_file(temporary)?;
            self.done.left_for_next.push(full_path(&**disk, path).display().to_string());
        }
        Ok(is_steady && !is_taken)
    }

    fn read_back(&self, copied: &mut Copied) -> Result<Vec<Rows>> {
        // What was copied when a stop was asked for still gets its name, but where that takes long.
        let is_short = copied.sum.size.exact() < BATCH_BYTES;
        let observer: &dyn Observer = if is_short { &Silent } else { self.observer };
        copying::read_back(&*copied.disk, &mut *copied.copy, &copied.sum, observer)
    }

    /// Gives the copy its name; what had it is held.
    fn replace(&mut self, mut copied: Copied, old: ObjectRow) -> Result<()> {
        copied.copy.sync()?;
        let data = self.read_back(&mut copied)?;
        let to_hold = ToHold { path: copied.path.clone(), object: old, watched: None };
        let target = self.pool.member(copied.to)?;
        let replaced = match held::exchange(self.pool, target, to_hold, &copied.temporary) {
            // Somebody is at the copy that was to follow: the next sync looks again.
            Err(error) if error.kind == Kind::Conflict => {
                self.done.left_for_next.push(full_path(&*copied.disk, &copied.path).display().to_string());
                return Ok(());
            }
            other => other?,
        };
        self.pool.catalogue.transaction(|t| {
            mark_changed(t)?;
            record(t, &copied, &data, Some(&replaced))
        })?;
        self.done.copied.add(copied.sum.size);
        Ok(())
    }

    /// The folders around a file, as they look where it comes from.
    fn make_folders(&mut self, path: &RelPath, from: DiskId, to: DiskId) -> Result<()> {
        let Some(parent) = path.parent() else { return Ok(()) };
        let (source, disk) = (self.pool.member(from)?.usable()?, self.pool.member(to)?.writable()?);
        for made in durable::make_folders(&**disk, &parent, |folder| looks_of(&**source, folder))? {
            self.folders.insert((to, made), from);
        }
        Ok(())
    }

    /// A further name of a file whose other name is on the target already, with this content, needs no copy.
    fn link_to_other_name(
        &self,
        path: &RelPath,
        object: &ObjectRow,
        target: &Member,
        disk: &Arc<dyn Disk>,
    ) -> Result<bool> {
        let reading = self.pool.catalogue.reading();
        let whole = |row: &ObjectRow| -> Result<Option<[u8; 32]>> {
            let version = row.version.filter(|_| row.standing == Standing::Same);
            Ok(version.map(|v| versions::get(reading, v)).transpose()?.map(|v| v.sum.whole))
        };
        if disk.stat(path)?.is_some() {
            return Ok(false);
        }
        let expected = whole(object)?;
        for name in objects::names(reading, object.id)?.into_iter().filter(|name| name != path) {
            let Some(there) = objects::by_path(reading, target.row.id, &name)? else { continue };
            if expected.is_none()
                || whole(&there)? != expected
                || disk.stat(&name)?.is_none_or(|s| !there.matches(&s))
            {
                continue;
            }
            if let Some(parent) = path.parent() {
                let volume = &target.row.volume;
                durable::make_folders(&**disk, &parent, |folder| looks_in_volume(self.pool, volume, folder))?;
            }
            disk.link(&name, path)?;
            durable::sync_parents(&**disk, [path])?;
            let stat = disk.stat(path)?;
            self.pool.catalogue.transaction(|t| {
                objects::set_name(t, target.row.id, path, there.id)?;
                stat.map_or(Ok(()), |stat| objects::set_stat(t, there.id, &stat, there.standing))
            })?;
            return Ok(true);
        }
        Ok(false)
    }

    /// Folders that were made look as they do where they are from; the innermost first.
    pub(super) fn finish_folders(&self) -> Result<()> {
        for ((disk, folder), from) in self.folders.iter().rev() {
            let source = self.pool.member(*from)?.usable()?;
            if let Some(stat) = source.stat(folder)? {
                let attributes = Attributes::of(&stat, source.extended_attributes(folder)?);
                self.pool.member(*disk)?.writable()?.set_time(folder, attributes.mtime)?;
            }
        }
        Ok(())
    }
}
