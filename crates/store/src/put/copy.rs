//! Copying what was planned.

use std::sync::Arc;

use sieve_core::checksum::ContentSum;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId};

use super::{Item, PutPlan, PutReport};
use crate::catalogue::{self, objects, versions};
use crate::copying::copy_verified;
use crate::disk::{Attributes, Disk, EntryKind, Stat};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::event::{Event, Observer, Unit};
use crate::held::{self, ToHold};
use crate::journal;
use crate::member::Member;
use crate::pieces::{self, Plot};
use crate::pool::Pool;
use crate::scan;
use crate::workspace::Workspaces;
use crate::writer::ShortWriter;

/// So many files are recorded in the catalogue at once.
const BATCH: usize = 128;

struct Done {
    item: usize,
    stat: Stat,
    content: Option<(ContentSum, Vec<Rows>)>,
    attributes: Attributes,
    hold: Option<crate::catalogue::objects::ObjectRow>,
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
    let _turn = ShortWriter::begin(&*pool.home)?;
    let total = plan.items.iter().map(|i| i.size.exact()).sum();
    observer.event(Event::Stage { name: "copying", total, unit: Unit::Bytes });
    let spaces = Workspaces::new(&*pool.machine);
    let mut put = Putter { pool, plan, observer, spaces, done: Vec::new() };
    let outcome = put.all();
    put.record()?;
    put.spaces.finish()?;
    outcome?;
    let report =
        PutReport { by_disk: plan.by_disk.clone(), skipped: plan.skipped.clone(), replaced: plan.replaced };
    journal::append(&*pool.home, pool.machine.now(), "put", &report)?;
    Ok(report)
}

struct Putter<'a> {
    pool: &'a Pool,
    plan: &'a PutPlan,
    observer: &'a dyn Observer,
    spaces: Workspaces<'a>,
    done: Vec<Done>,
}

impl Putter<'_> {
    fn all(&mut self) -> Result<()> {
        for (index, item) in self.plan.items.iter().enumerate() {
            let target = self.plan.target(&item.path);
            match item.kind {
                EntryKind::Folder => {
                    durable::make_folders(&**self.member(item).writable()?, &target)?;
                }
                EntryKind::Symlink => self.symlink(item, &target)?,
                _ => self.file(index, item, &target)?,
            }
            if self.done.len() >= BATCH {
                self.record()?;
            }
        }
        // Folders get their times last, since every file in them moves those.
        let folders = self.plan.items.iter().rev().filter(|i| i.kind == EntryKind::Folder);
        folders.into_iter().try_for_each(|item| self.finish_folder(item))
    }

    /// Gives a folder its attributes, on every disk that has a part of it.
    fn finish_folder(&self, item: &Item) -> Result<()> {
        let (source, target) = (self.plan.source(item), self.plan.target(&item.path));
        let Some(stat) = source.stat(&item.path)? else { return Ok(()) };
        let attributes = Attributes::of(&stat, source.extended_attributes(&item.path)?);
        for member in self.pool.file_members(&self.member(item).row.volume) {
            let Ok(disk) = member.writable() else { continue };
            if disk.stat(&target)?.is_some() {
                disk.set_attributes(&target, &attributes)?;
            }
        }
        Ok(())
    }

    fn member(&self, item: &Item) -> &Member {
        &self.pool.members[usize::from(item.member)]
    }

    fn symlink(&mut self, item: &Item, target: &RelPath) -> Result<()> {
        let disk = Arc::clone(self.member(item).writable()?);
        if let Some(parent) = target.parent() {
            durable::make_folders(&*disk, &parent)?;
        }
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
        scan::scan(self.pool, member)?;
        objects::by_path(self.pool.catalogue.reading(), member.row.id, target)
    }

    fn file(&mut self, index: usize, item: &Item, target: &RelPath) -> Result<()> {
        let disk = Arc::clone(self.member(item).writable()?);
        if let Some(parent) = target.parent() {
            durable::make_folders(&*disk, &parent)?;
        }
        if let Some(parts) = &item.pieces {
            return self.in_pieces(item, target, parts);
        }
        if let Some(first) = &item.link_of {
            // The catalogue learns of the further name from the stat of the first.
            self.record()?;
            let first = self.plan.target(first);
            disk.link(&first, target)?;
            durable::sync_parents(&*disk, [target])?;
            return self.record_link(item, &first, target, &*disk);
        }
        let temporary = self.temporary(item, &disk)?;
        let source = self.plan.source(item);
        let mut input = source.open(&item.path)?;
        let stat = input.stat()?;
        let (size, attributes) = (stat.size, Attributes::of(&stat, source.extended_attributes(&item.path)?));
        let (sum, data) = copy_verified(&mut *input, size, &*disk, &temporary, &attributes, self.observer)?;
        let hold = self.publish(item, target, &disk, &temporary)?;
        let stat = disk.stat(target)?.ok_or_else(|| vanished(target))?;
        self.done.push(Done { item: index, stat, content: Some((sum, data)), attributes, hold });
        Ok(())
    }

    fn in_pieces(&mut self, item: &Item, target: &RelPath, parts: &[(u16, ByteLength)]) -> Result<()> {
        self.record()?;
        let source = self.plan.source(item);
        let mut input = source.open(&item.path)?;
        let attributes = Attributes::of(&input.stat()?, source.extended_attributes(&item.path)?);
        let mut plots = Vec::new();
        for (index, length) in parts {
            let member = &self.pool.members[usize::from(*index)];
            let disk = Arc::clone(member.writable()?);
            let temporary = self.spaces.next_path(member.row.id, &disk)?;
            plots.push(Plot { member: member.row.id, disk, temporary, length: *length });
        }
        pieces::write(&mut *input, &attributes, target, &plots, self.observer)?.publish(self.pool)
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
            Some(EntryKind::Symlink) if is_here => {
                return durable::publish_over(&**disk, temporary, target).map(|()| None);
            }
            Some(EntryKind::Symlink) => {
                durable::publish(&**disk, temporary, target)?;
                old.remove_file(target)?;
                return durable::sync_parents(&**old, [target]).map(|()| None);
            }
            None => return durable::publish(&**disk, temporary, target).map(|()| None),
            Some(_) => return Err(in_the_way(&**old, target)),
        }
        let object = self.known(member, target)?.ok_or_else(|| vanished(target))?;
        let to_hold = ToHold { path: target.clone(), object: object.clone() };
        if is_here {
            let holding = held::begin(self.pool, member, vec![to_hold], true)?;
            durable::publish_over(&**disk, temporary, target)?;
            holding.finish(&**old)?;
            return Ok(Some(object));
        }
        // On another disk the new one appears first: for a moment there are two, never none.
        durable::publish(&**disk, temporary, target)?;
        held::begin(self.pool, member, vec![to_hold], false)?.finish(&**old)?;
        Ok(None)
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
        })
    }
}

fn vanished(target: &RelPath) -> Error {
    Error::new(Kind::Conflict, "file.vanished", format!("{target}: somebody else took this file away"))
}

fn in_the_way(disk: &dyn Disk, target: &RelPath) -> Error {
    let place = crate::disk::full_path(disk, target);
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
