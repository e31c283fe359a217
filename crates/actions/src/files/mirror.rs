//! The copies of a mirrored volume: brought up to date by difference, conflicts told and left.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

use serde::Serialize;
use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::mirror::{Copy, Knowledge, Verdict, judge};
use sieve_core::path::RelPath;
use sieve_core::placement::{Placement, Placer};
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId};

use sieve_catalogue::label::Role;
use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{apart, gone, mark_changed, versions};
use sieve_core::count::Count;
use sieve_disk::copying;
use sieve_disk::copying::{CHANGED, copy_verified};
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Unit, heed};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Attributes, Disk, EntryKind, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::held;
use sieve_pool::held::ToHold;
use sieve_pool::looks::{looks_in_volume, looks_of};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan::doubts::resolve_doubts;

/// What the copies of a volume lack.
#[derive(Clone, Debug, Default, Serialize)]
pub struct MirrorPlan {
    /// Copies that are to be made.
    pub missing: Count,
    /// Copies that are outdated, and follow the newest one; what they were is held.
    pub outdated: Count,
    /// Files whose copies went separate ways: both stay.
    pub conflicts: Vec<String>,
    /// Files of which one copy was removed behind our back: it is not made again unasked.
    pub removed: Vec<String>,
    /// Bytes to write, by disk.
    pub written_bytes: BTreeMap<String, ByteLength>,
    #[serde(skip)]
    apart: Vec<RelPath>,
    #[serde(skip)]
    steps: Vec<Step>,
    /// Contents that were read to be compared, and may be recorded.
    #[serde(skip)]
    read: Vec<(ObjectRow, ContentSum)>,
}

impl MirrorPlan {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.steps.is_empty() && self.read.is_empty()
    }
}

/// One file whose copies are brought up to date.
#[derive(Clone, Debug)]
struct Step {
    path: RelPath,
    from: Vec<DiskId>,
    to: Vec<DiskId>,
}

/// Looks at the copies of a volume, as it was last scanned; what has to be compared and is not known is read.
///
/// # Errors
/// What a disk or the database says.
pub fn plan(pool: &Pool, volume: &VolumeSpec, observer: &dyn Observer) -> Result<MirrorPlan> {
    let members: Vec<&Member> = pool.members_of(&volume.name, Role::Data).collect();
    let mut free = Vec::new();
    for member in &members {
        resolve_doubts(pool, member, observer)?;
        free.push(member.free_bytes(&pool.catalogue)?);
    }
    let mut gone_names: HashMap<DiskId, BTreeSet<RelPath>> = HashMap::new();
    for member in &members {
        let names = gone::all(pool.catalogue.reading(), member.row.id)?.into_iter().map(|row| row.path);
        gone_names.insert(member.row.id, names.collect());
    }
    let placer = Placer::new(Placement::Emptiest, free);
    let copies = volume.copies.min(members.len());
    let apart = apart::all(pool.catalogue.reading(), &volume.name)?;
    let plan = MirrorPlan::default();
    let mut planner = Planner { pool, observer, members, copies, placer, gone_names, apart, plan };
    planner.all()?;
    Ok(planner.plan)
}

struct Planner<'a> {
    pool: &'a Pool,
    observer: &'a dyn Observer,
    members: Vec<&'a Member>,
    /// How many copies each file is to have.
    copies: usize,
    placer: Placer,
    gone_names: HashMap<DiskId, BTreeSet<RelPath>>,
    /// Files whose copies went separate ways before.
    apart: BTreeSet<RelPath>,
    plan: MirrorPlan,
}

impl Planner<'_> {
    fn all(&mut self) -> Result<()> {
        let mut by_path: BTreeMap<RelPath, Vec<(usize, ObjectRow)>> = BTreeMap::new();
        for (disk, member) in self.members.iter().enumerate() {
            objects::for_each_name(self.pool.catalogue.reading(), member.row.id, |path, object| {
                if !path.is_held() {
                    by_path.entry(path).or_default().push((disk, object));
                }
                Ok(())
            })?;
        }
        by_path.into_iter().try_for_each(|(path, copies)| self.file(&path, &copies))
    }

    fn file(&mut self, path: &RelPath, copies: &[(usize, ObjectRow)]) -> Result<()> {
        let mut judged = Vec::new();
        let mut read = Vec::new();
        if copies.len() > 1 {
            for (disk, object) in copies.iter().filter(|(_, object)| object.standing != Standing::Suspect) {
                judged.extend(self.copy(path, *disk, object, &mut read)?);
            }
        }
        let size = copies.iter().map(|(_, object)| object.size).max().unwrap_or_default();
        let verdict = match judge(&judged) {
            // What went apart once is not made one by whoever was recorded last.
            Verdict::Outdated { .. } if self.apart.contains(path) => Verdict::Conflict,
            verdict => verdict,
        };
        let (from, mut to) = match verdict {
            Verdict::Conflict => {
                self.plan.conflicts.push(path.to_string());
                self.plan.apart.push(path.clone());
                return Ok(());
            }
            Verdict::Outdated { newest, behind } => {
                let content = judged.iter().find(|copy| copy.disk == newest).map(|copy| copy.content);
                let same = judged.iter().filter(|copy| Some(copy.content) == content);
                let from: Vec<usize> = same.map(|copy| copy.disk).collect();
                behind.iter().for_each(|_| self.plan.outdated.add(size));
                (from, behind)
            }
            Verdict::InStep => (copies.iter().map(|(disk, _)| *disk).collect(), Vec::new()),
        };
        self.plan.read.append(&mut read);
        to.extend(self.places_for_more(path, copies, size));
        if !to.is_empty() {
            self.add(path, &from, &to, size);
        }
        Ok(())
    }

    /// One copy as the judge wants to see it; nothing when it cannot be read now.
    fn copy(
        &self,
        path: &RelPath,
        disk: usize,
        object: &ObjectRow,
        read: &mut Vec<(ObjectRow, ContentSum)>,
    ) -> Result<Option<Copy>> {
        let reading = self.pool.catalogue.reading();
        let recorded = object.version.map(|version| versions::get(reading, version)).transpose()?;
        let recorded = recorded.filter(|version| !version.unfinished);
        if let (Some(version), Standing::Same) = (&recorded, object.standing) {
            let knowledge = Knowledge::Recorded(version.id.get());
            return Ok(Some(Copy { disk, content: version.sum.whole, knowledge }));
        }
        let mut file = self.members[disk].usable()?.open(path)?;
        let stat = file.stat()?;
        let Some(sum) = copying::checksum(&mut *file, stat.size, |_| heed(self.observer))? else {
            return Ok(None);
        };
        if !object.matches(&file.stat()?) {
            return Ok(None); // it is being written: the next sync looks again
        }
        let knowledge = recorded.map_or(Knowledge::New, |version| Knowledge::ChangedFrom(version.sum.whole));
        let content = sum.whole;
        read.push((object.clone(), sum));
        Ok(Some(Copy { disk, content, knowledge }))
    }

    /// Disks for the copies that are owed, where nobody removed one.
    fn places_for_more(
        &mut self,
        path: &RelPath,
        copies: &[(usize, ObjectRow)],
        size: ByteLength,
    ) -> Vec<usize> {
        let owed = self.copies.saturating_sub(copies.len());
        if owed == 0 {
            return Vec::new();
        }
        let lacking: Vec<usize> =
            (0..self.members.len()).filter(|disk| copies.iter().all(|(has, _)| has != disk)).collect();
        let was_removed =
            |disk: &usize| self.gone_names.get(&self.members[*disk].row.id).is_some_and(|g| g.contains(path));
        if lacking.iter().any(was_removed) {
            self.plan.removed.push(path.to_string());
            return Vec::new();
        }
        let found = self.placer.place_copies(path, size, &lacking, owed, ByteLength::ZERO);
        found.unwrap_or_default().into_iter().inspect(|_| self.plan.missing.add(size)).collect()
    }

    fn add(&mut self, path: &RelPath, from: &[usize], to: &[usize], size: ByteLength) {
        let id = |disk: &usize| self.members[*disk].row.id;
        for disk in to {
            let sum = self.plan.written_bytes.entry(self.members[*disk].row.name.clone()).or_default();
            *sum = sum.plus(size);
        }
        self.plan.steps.push(Step {
            path: path.clone(),
            from: from.iter().map(id).collect(),
            to: to.iter().map(id).collect(),
        });
    }
}

/// What was done about the copies.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Mirrored {
    /// Copies that were made or brought up to date.
    pub copied: Count,
    /// Files of which no copy is what its checksum says.
    pub damaged: Vec<String>,
    /// Files that somebody is at.
    pub left_for_next: Vec<String>,
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
    let total = plan.written_bytes.values().map(|bytes| bytes.exact()).sum();
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
        nodes(pool, volume)?;
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
        if let Some(parent) = path.parent() {
            for made in durable::make_folders(&*disk, &parent, |folder| looks_of(&**source, folder))? {
                self.folders.insert((to, made), from);
            }
        }
        let attributes = objects::attributes(reading, object.id)?;
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
        let stat = disk.stat(path)?;
        self.pool.catalogue.transaction(|t| {
            mark_changed(t)?;
            if known.is_none() {
                let ranges = source.open(path)?.data_ranges()?;
                let version = versions::insert(t, from, &sum, &ranges, &attributes)?;
                objects::set_version(
                    t,
                    object.id,
                    Some(version),
                    Standing::Same,
                    object.older.or(object.version),
                )?;
            }
            let Some(stat) = stat else { return Ok(()) };
            let version = versions::insert(t, to, &sum, &data, &attributes)?;
            let extended = attributes.pack_extended();
            let id = objects::insert(t, to, &stat, extended.as_deref(), Some(version), false)?;
            let older = replaced.as_ref().and_then(|old| old.version.or(old.older));
            objects::set_version(t, id, Some(version), Standing::Same, older)?;
            objects::set_name(t, to, path, id)
        })?;
        self.done.copied.add(object.size);
        Ok(true)
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

/// Folders and symlinks are on as many disks as files.
fn nodes(pool: &Pool, volume: &VolumeSpec) -> Result<()> {
    let members: Vec<&Member> = pool.members_of(&volume.name, Role::Data).collect();
    let copies = volume.copies.min(members.len());
    let mut found: BTreeMap<RelPath, Vec<(usize, EntryKind)>> = BTreeMap::new();
    for (disk, member) in members.iter().enumerate() {
        nodes::for_each(pool.catalogue.reading(), member.row.id, |path, node| {
            if node.kind != EntryKind::Special {
                found.entry(path).or_default().push((disk, node.kind));
            }
            Ok(())
        })?;
    }
    let mut made = Vec::new();
    for (path, on) in found.iter().filter(|(_, on)| on.len() < copies) {
        let (first, kind) = on[0];
        let source = members[first].usable()?;
        let lacking = (0..members.len()).filter(|disk| on.iter().all(|(has, _)| has != disk));
        for disk in lacking.take(copies - on.len()) {
            make_node(pool, &**source, members[disk], path, kind)?;
            made.push((disk, path.clone()));
        }
    }
    // The innermost first: what is made in a folder moves its times.
    for (disk, path) in made.iter().rev() {
        let source = members[found[path][0].0].usable()?;
        if let Some(stat) = source.stat(path)?.filter(|stat| stat.kind == EntryKind::Folder) {
            members[*disk].writable()?.set_time(path, stat.mtime)?;
        }
    }
    Ok(())
}

fn make_node(pool: &Pool, source: &dyn Disk, member: &Member, path: &RelPath, kind: EntryKind) -> Result<()> {
    let target = &**member.writable()?;
    let Some(stat) = source.stat(path)?.filter(|stat| stat.kind == kind) else { return Ok(()) };
    if target.stat(path)?.is_some() {
        return Ok(());
    }
    if kind == EntryKind::Folder {
        return durable::make_folders(target, path, |folder| looks_of(source, folder)).map(|_| ());
    }
    if let Some(parent) = path.parent() {
        durable::make_folders(target, &parent, |folder| looks_of(source, folder))?;
    }
    let goes_to = source.read_link(path)?;
    let attributes = Attributes::of(&stat, Vec::new());
    target.make_symlink(&goes_to, path)?;
    target.set_attributes(path, &attributes)?;
    durable::sync_parents(target, [path])?;
    let Some(made) = target.stat(path)? else { return Ok(()) };
    let node = NodeRow { kind, attributes, ctime: made.ctime, target: Some(goes_to), recorded: 0 };
    pool.catalogue.transaction(|t| nodes::set(t, member.row.id, path, &node))
}
