//! The copies of a mirrored volume: brought up to date by difference, conflicts told and left.

mod others;
mod plan;

use plan::Step;
pub use plan::{MirrorPlan, plan};

use std::collections::BTreeMap;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::DiskId;

use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{apart, mark_changed, versions};
use sieve_core::count::Count;
use sieve_disk::copying::{CHANGED, copy_verified};
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Unit, heed};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Attributes, Disk, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::held;
use sieve_pool::held::ToHold;
use sieve_pool::looks::{looks_in_volume, looks_of};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// What was done about the copies.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Mirrored {
    /// Copies that were made or brought up to date.
    pub copied: Count,
    /// Files of which no copy is what its checksum says.
    pub damaged: Vec<String>,
    /// Files that somebody is at.
    pub left_for_next: Vec<String>,
    /// Files of another user, of whom only the superuser makes copies.
    pub of_others: Vec<String>,
    /// It was asked to stop before its end.
    pub stopped: bool,
}

/// Brings the copies up to date.
///
/// # Crash safety
/// Every copy appears whole under its name. What it replaces is held before, and is there, old or new, at every moment.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn execute(
    pool: &Pool,
    volume: &VolumeSpec,
    plan: &MirrorPlan,
    observer: &dyn Observer,
) -> Result<Mirrored> {
    pool.catalogue.transaction(|t| apart::set(t, &volume.name, &plan.apart))?;
    record_read(pool, plan)?;
    let total = plan.written_bytes.total().exact();
    observer.event(Event::Stage { name: "copying", total, unit: Unit::Bytes });
    let mut copier = Copier {
        pool,
        observer,
        spaces: Workspaces::new(&*pool.machine),
        folders: BTreeMap::new(),
        done: Mirrored::default(),
    };
    let mut outcome = Ok(());
    for step in &plan.steps {
        outcome = heed(observer).and_then(|()| copier.step(step));
        if outcome.is_err() {
            break;
        }
    }
    if outcome.as_ref().is_err_and(Error::is_stop) {
        (copier.done.stopped, outcome) = (true, Ok(()));
    }
    copier.finish_folders()?;
    let Copier { spaces, done, .. } = copier;
    spaces.finish()?;
    outcome?;
    if !done.stopped {
        others::follow(pool, volume)?;
    }
    Ok(done)
}

/// Contents that were read to be compared are known from now on.
fn record_read(pool: &Pool, plan: &MirrorPlan) -> Result<()> {
    pool.catalogue.transaction(|t| {
        for (object, sum) in &plan.read {
            let Some(now) = objects::get(t, object.id)?.filter(|now| now.stamp() == object.stamp()) else {
                continue;
            };
            let member = pool.member(object.disk)?;
            let Some(name) = objects::names(t, object.id)?.into_iter().next() else { continue };
            let data = member.usable()?.open(&name)?.data_ranges()?;
            let version = versions::insert(t, object.disk, sum, &data, &objects::attributes(t, object.id)?)?;
            objects::set_version(t, object.id, Some(version), Standing::Same, now.older.or(now.version))?;
        }
        if plan.read.is_empty() { Ok(()) } else { mark_changed(t) }
    })
}

struct Copier<'a> {
    pool: &'a Pool,
    observer: &'a dyn Observer,
    spaces: Workspaces<'a>,
    /// Folders that were made, and where one like it is.
    folders: BTreeMap<(DiskId, RelPath), DiskId>,
    done: Mirrored,
}

impl Copier<'_> {
    fn step(&mut self, step: &Step) -> Result<()> {
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
        let Some(object) = objects::by_path(reading, from, path)? else { return Ok(true) };
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
        let copied = copy_verified(&mut *input, object.size, &*disk, &temporary, &attributes, self.observer);
        let (sum, data) = match copied {
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
        let replaced = match self.publish(path, target, &disk, &temporary) {
            // Somebody is at the copy that was to follow: the next sync looks again.
            Err(error) if error.kind == Kind::Conflict => {
                self.done.left_for_next.push(full_path(&*disk, path).display().to_string());
                return Ok(true);
            }
            other => other?,
        };
        // Nobody knew what the source was: it was read whole just now.
        let learned = known.is_none().then(|| source.open(path)?.data_ranges()).transpose()?;
        let (source, learned) = (&object, learned.as_deref());
        self.record(path, (from, source, learned), (to, replaced), (&sum, &data, &attributes))?;
        self.done.copied.add(object.size);
        Ok(true)
    }

    /// Makes the copy known, and what was learned of its source.
    fn record(
        &self,
        path: &RelPath,
        (from, source, learned): (DiskId, &ObjectRow, Option<&[Rows]>),
        (to, replaced): (DiskId, Option<ObjectRow>),
        (sum, data, attributes): (&ContentSum, &[Rows], &Attributes),
    ) -> Result<()> {
        let stat = self.pool.member(to)?.usable()?.stat(path)?;
        self.pool.catalogue.transaction(|t| {
            mark_changed(t)?;
            if let Some(ranges) = learned {
                let older = source.older.or(source.version);
                let version = versions::insert(t, from, sum, ranges, attributes)?;
                objects::set_version(t, source.id, Some(version), Standing::Same, older)?;
            }
            let Some(stat) = stat else { return Ok(()) };
            let version = versions::insert(t, to, sum, data, attributes)?;
            let extended = attributes.pack_extended();
            let id = objects::insert(t, to, &stat, extended.as_deref(), Some(version), false)?;
            let older = replaced.as_ref().and_then(|old| old.version.or(old.older));
            objects::set_version(t, id, Some(version), Standing::Same, older)?;
            objects::set_name(t, to, path, id)
        })
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

    /// Gives the copy its name; what had it is held.
    fn publish(
        &self,
        path: &RelPath,
        target: &Member,
        disk: &Arc<dyn Disk>,
        temporary: &RelPath,
    ) -> Result<Option<ObjectRow>> {
        let old = objects::by_path(self.pool.catalogue.reading(), target.row.id, path)?;
        let (Some(old), true) = (old, disk.stat(path)?.is_some()) else {
            durable::publish(&**disk, temporary, path)?;
            return Ok(None);
        };
        let to_hold = ToHold { path: path.clone(), object: old, watched: None };
        held::exchange(self.pool, target, to_hold, temporary).map(Some)
    }

    /// Folders that were made look as they do where they are from; the innermost first.
    fn finish_folders(&self) -> Result<()> {
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
