//! Files from members to other members of their volume: whole in the old place or in the new one at every moment.

mod carry;
mod recover;
mod span;
mod told;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};

use carry::{Carried, Other, Stays, Target, Task};
pub(crate) use recover::recover;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::objects;
use sieve_catalogue::pieces;
pub(crate) use sieve_catalogue::relocation::{Destination, Leaving, Move, Source};
use sieve_catalogue::{mark_changed, versions};
use sieve_core::count::Count;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Disk, EntryKind};
use sieve_disk::{Error, Result};
use sieve_pool::follow::replicas_follow;
use sieve_pool::held;
use sieve_pool::held::{ToHold, Watch};
use sieve_pool::pool::Pool;
use told::in_volume;

/// So many files, or bytes, are moved before their sources go.
const BATCH_FILES: usize = 256;
const BATCH_BYTES: u64 = 1 << 30;

/// A file that was not moved, and why.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct LeftAlone {
    /// Its path.
    pub path: String,
    /// Why, in words.
    pub why: String,
}

/// What was moved.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Moved {
    /// Files and bytes, by the disk that they went to.
    pub by_disk: BTreeMap<String, Count>,
    /// Files whose sources are held until the next sync.
    pub held: u64,
    /// What was left alone.
    pub left_alone: Vec<LeftAlone>,
    /// It was asked to stop before its end.
    pub stopped: bool,
}

/// Moves files.
///
/// # Crash safety
/// Every batch is written down first. A source goes after its copy was synced, read back, has its name, and the folder
/// around it is durable. The next start finishes what was begun: where both are there with the same content, the source
/// goes; where they differ, both stay.
///
/// # Errors
/// What a disk or the database says; what was moved before stays moved.
pub(crate) fn execute(pool: &Pool, moves: &[Move], observer: &dyn Observer) -> Result<Moved> {
    let mut relocation = Relocation {
        pool,
        observer,
        spaces: Workspaces::new(&*pool.machine),
        folders: BTreeMap::new(),
        moved: Moved::default(),
    };
    // Files without data make the replicas follow: those go together, at the end.
    let (empty, full): (Vec<Move>, Vec<Move>) =
        moves.iter().cloned().partition(|m| m.size == ByteLength::ZERO);
    let in_order = [full, empty].concat();
    let outcome = relocation.all(&in_order);
    relocation.finish_folders()?;
    let Relocation { spaces, moved, .. } = relocation;
    spaces.finish()?;
    outcome.map(|()| moved)
}

/// Says what is to be moved in all, for progress.
pub(crate) fn announce(observer: &dyn Observer, name: &'static str, bytes: ByteLength) {
    observer.event(Event::Stage { name, total: bytes.exact(), unit: Unit::Bytes });
}

struct Relocation<'a> {
    pool: &'a Pool,
    observer: &'a dyn Observer,
    spaces: Workspaces<'a>,
    /// The modification times of folders that files come to or leave.
    folders: BTreeMap<(DiskId, RelPath), i64>,
    moved: Moved,
}

/// A file whose copies have their names.
struct Brought<'m> {
    of: &'m Move,
    task: Task,
    done: Carried,
}

/// A file whose copies are recorded, and whose sources go.
struct Leaver<'m> {
    of: &'m Move,
    task: Task,
    watched: Vec<Watch>,
    /// The disks that have a whole copy now.
    copies: Vec<DiskId>,
}

/// Files whose copies have their names, and what is written down about them.
struct Batch<'m> {
    intent: i64,
    files: Vec<Brought<'m>>,
    failure: Option<Error>,
}

/// How many of these moves are done at once.
fn batch_of(moves: &[Move]) -> usize {
    let mut bytes = 0u64;
    for (position, file) in moves.iter().enumerate().take(BATCH_FILES) {
        if matches!(file.to, Destination::Pieces(_)) {
            return position;
        }
        bytes = bytes.saturating_add(file.size.exact());
        if bytes > BATCH_BYTES && position > 0 {
            return position;
        }
    }
    moves.len().min(BATCH_FILES)
}

impl Relocation<'_> {
    fn disk(&self, id: DiskId) -> Result<&Arc<dyn Disk>> {
        self.pool.member(id)?.writable()
    }

    /// Batch after batch: while the copies of one are made, the sources of the one before go.
    fn all(&mut self, moves: &[Move]) -> Result<()> {
        let mut before: Option<Batch<'_>> = None;
        let mut left = moves;
        while !left.is_empty() && before.as_ref().is_none_or(|batch| batch.failure.is_none()) {
            if self.observer.is_stopped() {
                self.moved.stopped = true;
                break;
            }
            let (batch, rest) = left.split_at(batch_of(left));
            left = rest;
            match batch {
                [] => {
                    before.take().map_or(Ok(()), |batch| self.finish(batch))?;
                    self.in_pieces(&rest[0])?;
                    left = &rest[1..];
                }
                batch => before = Some(self.bring(batch, before)?),
            }
        }
        before.map_or(Ok(()), |batch| self.finish(batch))
    }

    fn bring<'m>(&mut self, batch: &'m [Move], before: Option<Batch<'m>>) -> Result<Batch<'m>> {
        let intent = Intent::Relocate { moves: batch.to_vec() };
        let intent = self.pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
        let tasks = self.tasks(batch)?;
        let carrying: Vec<&Task> = tasks.iter().map(|(_, task)| task).collect();
        let observer = self.observer;
        let (carried, finished) = carry::all(&carrying, &*self.pool.machine, observer, || {
            before.map_or(Ok(()), |before| self.finish(before))
        });
        finished?;
        let mut brought = Batch { intent, files: Vec::new(), failure: None };
        for ((file, task), outcome) in tasks.into_iter().zip(carried) {
            match outcome {
                Some(Ok(done)) => brought.files.push(Brought { of: file, task, done }),
                Some(Err(Stays::Because(why))) => self.leave(file, why)?,
                Some(Err(Stays::Failed(error))) => brought.failure = brought.failure.or(Some(error)),
                // Nobody came to it, after a failure or a stop: it is where it was.
                Some(Err(Stays::Stopped)) | None => self.moved.stopped |= observer.is_stopped(),
            }
        }
        Ok(brought)
    }

    /// The copies of a batch are there for good, and their sources go.
    fn finish(&mut self, batch: Batch<'_>) -> Result<()> {
        self.make_durable(&batch.files)?;
        self.record(&batch.files)?;
        if batch.files.iter().any(|file| file.done.copies.iter().any(|(.., data)| data.is_empty())) {
            // What has no rows is guarded by the replicas alone: they know the copy before its source goes (L8).
            replicas_follow(self.pool)?;
        }
        let files = batch.files.into_iter().map(|file| Leaver {
            of: file.of,
            watched: file.done.watched,
            copies: file.done.copies.iter().map(|(disk, ..)| *disk).collect(),
            task: file.task,
        });
        self.take_sources_away(files.collect())?;
        // After a failure the next start looks at what was left half done.
        match batch.failure {
            Some(error) => Err(error),
            None => self.pool.catalogue.transaction(|t| intents::remove(t, batch.intent)),
        }
    }

    fn tasks<'m>(&mut self, batch: &'m [Move]) -> Result<Vec<(&'m Move, Task)>> {
        // One state of the catalogue, and one look at its locks, for all of them.
        let _reading = self.pool.catalogue.reading().unchecked_transaction()?;
        let mut tasks = Vec::new();
        for file in batch {
            match self.task(file)? {
                Ok(task) => tasks.push((file, task)),
                Err(why) => self.leave(file, why)?,
            }
        }
        Ok(tasks)
    }

    fn leave(&mut self, file: &Move, why: String) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        let (names, disk) = match file.from.first() {
            Some(source) => (objects::names(reading, source.object)?, Some(source.disk)),
            None => (Vec::new(), None),
        };
        let path =
            names.first().zip(disk).map(|(name, disk)| in_volume(self.pool, disk, name)).transpose()?;
        self.moved.left_alone.push(LeftAlone { path: path.unwrap_or_default(), why });
        Ok(())
    }

    /// Everything that is known about a file that is to move, so that the disks can be at it without the catalogue.
    fn task(&mut self, file: &Move) -> Result<std::result::Result<Task, String>> {
        let reading = self.pool.catalogue.reading();
        let vanished = || Ok(Err("it is no longer there".to_string()));
        let Some(source) = file.from.first() else { return vanished() };
        let Some(object) = objects::get(reading, source.object)? else { return vanished() };
        let names = objects::names(reading, object.id)?;
        if names.is_empty() {
            return vanished();
        }
        let mut known = None;
        if let Some(version) = object.version.filter(|_| object.standing == Standing::Same) {
            let version = versions::get(reading, version)?;
            known = (!version.unfinished).then_some(version.sum);
        }
        let mut others = Vec::new();
        for other in &file.from[1..] {
            let Some(path) = objects::names(reading, other.object)?.into_iter().next() else { continue };
            let member = self.pool.member(other.disk)?;
            others.push(Other { name: member.row.name.clone(), disk: Arc::clone(member.writable()?), path });
        }
        let mut targets = Vec::new();
        let to = file.to.disks();
        for id in &to {
            let member = self.pool.member(*id)?;
            let disk = Arc::clone(member.writable()?);
            let temporary = self.spaces.next_path(*id, &disk)?;
            targets.push(Target { id: *id, name: member.row.name.clone(), disk, temporary });
        }
        self.remember_folders(source.disk, &to, &names)?;
        let attributes = objects::attributes(reading, object.id)?;
        let disk = Arc::clone(self.disk(source.disk)?);
        Ok(Ok(Task { disk, object, names, attributes, known, others, targets }))
    }

    /// Files that come and go move the times of their folders: those are put back at the end.
    fn remember_folders(&mut self, from: DiskId, to: &[DiskId], names: &[RelPath]) -> Result<()> {
        let time = |disk: &dyn Disk, folder: &RelPath| -> Result<Option<i64>> {
            Ok(disk.stat(folder)?.filter(|stat| stat.kind == EntryKind::Folder).map(|stat| stat.mtime))
        };
        let source = Arc::clone(self.disk(from)?);
        for name in names {
            let mut around = name.parent().filter(|folder| !folder.is_root());
            while let Some(folder) = around {
                for disk in to.iter().copied().chain([from]) {
                    if self.folders.contains_key(&(disk, folder.clone())) {
                        continue;
                    }
                    let there = time(&**self.disk(disk)?, &folder)?;
                    if let Some(at) = there.map_or_else(|| time(&*source, &folder), |own| Ok(Some(own)))? {
                        self.folders.insert((disk, folder.clone()), at);
                    }
                }
                around = folder.parent().filter(|folder| !folder.is_root());
            }
        }
        Ok(())
    }

    /// The innermost first: everything in a folder moves its times. Nothing else about it is ours to change.
    fn finish_folders(&self) -> Result<()> {
        for ((disk, folder), at) in self.folders.iter().rev() {
            let disk = self.disk(*disk)?;
            if disk.stat(folder)?.is_some_and(|stat| stat.kind == EntryKind::Folder) {
                disk.set_time(folder, *at)?;
            }
        }
        Ok(())
    }

    /// The names of the copies are durable before a source goes.
    fn make_durable(&self, brought: &[Brought<'_>]) -> Result<()> {
        let mut folders: HashSet<(DiskId, RelPath)> = HashSet::new();
        for file in brought {
            for (disk, ..) in &file.done.copies {
                folders.extend(file.task.names.iter().filter_map(|n| Some((*disk, n.parent()?))));
            }
        }
        folders.iter().try_for_each(|(disk, folder)| self.disk(*disk)?.sync_folder(folder))
    }

    fn record(&mut self, brought: &[Brought<'_>]) -> Result<()> {
        self.pool.catalogue.transaction(|t| {
            mark_changed(t)?;
            for file in brought {
                let Task { names, attributes, .. } = &file.task;
                for (disk, stat, data) in &file.done.copies {
                    let version = versions::insert(t, *disk, &file.done.sum, data, attributes)?;
                    let extended = attributes.pack_extended();
                    let id = objects::insert(t, *disk, stat, extended.as_deref(), Some(version), false)?;
                    names.iter().try_for_each(|name| objects::set_name(t, *disk, name, id))?;
                    pieces::follow(t, file.of.from[0].disk, *disk, &names[0])?;
                }
                record_sources(t, file)?;
            }
            Ok(())
        })?;
        told::tell(self.pool, brought.iter().map(|file| (file.of, &file.task.names[..])))?;
        for file in brought {
            for (disk, ..) in &file.done.copies {
                let name = self.pool.member(*disk)?.row.name.clone();
                let count = self.moved.by_disk.entry(name).or_default();
                file.task.names.iter().for_each(|_| count.add(file.task.object.size));
            }
        }
        Ok(())
    }

    /// Puts a file down in pieces, by itself.
    fn in_pieces(&mut self, file: &Move) -> Result<()> {
        let Destination::Pieces(shares) = &file.to else { return Ok(()) };
        let intent = Intent::Relocate { moves: vec![file.clone()] };
        let intent = self.pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
        let task = self.task(file)?;
        match task {
            Err(why) => self.leave(file, why)?,
            Ok(task) => match span::carry(self.pool, &task, shares, self.observer) {
                Err(Stays::Because(why)) => self.leave(file, why)?,
                Err(Stays::Stopped) => self.moved.stopped = true,
                Err(Stays::Failed(error)) => return Err(error),
                Ok(watched) => {
                    told::tell(self.pool, std::iter::once((file, &task.names[..])))?;
                    for (disk, length) in shares {
                        let name = self.pool.member(*disk)?.row.name.clone();
                        self.moved.by_disk.entry(name).or_default().add(*length);
                    }
                    self.take_sources_away(vec![Leaver { of: file, task, watched, copies: Vec::new() }])?;
                }
            },
        }
        self.pool.catalogue.transaction(|t| intents::remove(t, intent))
    }

    /// The sources of files go, or are held. Where somebody was faster, the file stays where it is, and the copy that was
    /// made of it goes again.
    fn take_sources_away(&mut self, files: Vec<Leaver<'_>>) -> Result<()> {
        let mut leaving: BTreeMap<(DiskId, bool), Vec<ToHold>> = BTreeMap::new();
        let mut brought: HashMap<RelPath, Vec<DiskId>> = HashMap::new();
        for file in files {
            for (source, watched) in file.of.from.iter().zip(file.watched.into_iter().map(Some)) {
                let group = leaving.entry((source.disk, source.leaving == Leaving::Hold)).or_default();
                self.names_of_source(source, &file.task, watched, group)?;
            }
            brought.extend(file.task.names.into_iter().map(|name| (name, file.copies.clone())));
        }
        for ((disk, holds), files) in leaving {
            let taken = held::take(self.pool, self.pool.member(disk)?, files)?;
            let real = Arc::clone(self.disk(disk)?);
            self.moved.held += if holds { taken.count() } else { 0 };
            let left = if holds { taken.record()? } else { taken.let_go(&*real)? };
            for left in left {
                let copies = brought.get(&left.path).cloned().unwrap_or_default();
                retract(self.pool, &left.path, &copies)?;
                let path = in_volume(self.pool, disk, &left.path)?;
                self.moved.left_alone.push(LeftAlone { path, why: left.why.into() });
            }
        }
        Ok(())
    }

    /// All names of one source, as it has them itself.
    fn names_of_source(
        &self,
        source: &Source,
        task: &Task,
        mut watched: Option<Watch>,
        group: &mut Vec<ToHold>,
    ) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        let is_first = source.object == task.object.id;
        let object = if is_first { Some(task.object.clone()) } else { objects::get(reading, source.object)? };
        let Some(object) = object else { return Ok(()) };
        let names = if is_first { task.names.clone() } else { objects::names(reading, source.object)? };
        for path in names.into_iter().filter(|name| !name.is_held()) {
            group.push(ToHold { path, object: object.clone(), watched: watched.take() });
        }
        Ok(())
    }
}

/// What was copied was read whole: so the content of its sources is known as well, and while they are held they count as the
/// copies that they are (L8).
fn record_sources(t: &rusqlite::Transaction<'_>, file: &Brought<'_>) -> Result<()> {
    let Some((_, _, data)) = file.done.copies.first() else { return Ok(()) };
    for source in &file.of.from {
        let task = &file.task.object;
        let older = if task.id == source.object {
            // As it was planned, which nobody else may change meanwhile: many small files feel one more look.
            task.version.is_none().then_some(task.older)
        } else {
            objects::get(t, source.object)?.filter(|o| o.version.is_none()).map(|object| object.older)
        };
        let Some(older) = older else { continue };
        let version = versions::insert(t, source.disk, &file.done.sum, data, &file.task.attributes)?;
        objects::set_version(t, source.object, Some(version), Standing::Same, older)?;
    }
    Ok(())
}

/// Takes back the copies that were made of a file that stays where it is, if they are still what was made.
fn retract(pool: &Pool, path: &RelPath, copies: &[DiskId]) -> Result<()> {
    for disk in copies {
        let member = pool.member(*disk)?;
        if let Some(object) = objects::by_path(pool.catalogue.reading(), *disk, path)? {
            let item = ToHold { path: path.clone(), object, watched: None };
            // What is left was changed under its new name: both stay, and are told as two files of one name.
            held::take(pool, member, vec![item])?.let_go(&**member.writable()?)?;
        }
    }
    Ok(())
}
