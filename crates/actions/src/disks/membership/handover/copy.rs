//! Copying everything of a disk to another, and catching up with what changes meanwhile.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_core::checksum::ContentSum;
use sieve_core::count::Count;
use sieve_core::fate::Standing;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{DiskId, ObjectId};
use sieve_disk::copying;
use sieve_disk::copying::CHANGED;
use sieve_disk::durable;
use sieve_disk::event::Observer;
use sieve_disk::workspace::Workspace;
use sieve_disk::{Attributes, Disk, EntryKind, Kind, Result, Stamp, Stat, WriteFile};
use sieve_pool::held;
use sieve_pool::looks::looks_of;
use sieve_pool::pool::Pool;

use super::spare::Spare;

/// So many files become durable in one wait.
const BATCH: usize = 128;

/// A file whose copy is whole and has its names.
#[derive(Clone)]
pub(super) struct There {
    /// How the source looked.
    source: Stamp,
    names: Vec<RelPath>,
    /// How the copy looks.
    pub(super) stat: Stat,
}

/// The two disks, and what was copied so far.
pub(super) struct Copier<'a> {
    pool: &'a Pool,
    id: DiskId,
    from: Arc<dyn Disk>,
    to: Arc<dyn Disk>,
    observer: &'a dyn Observer,
    pub(super) there: HashMap<ObjectId, There>,
    pub(super) copied: Count,
    /// What came from parity, since the disk does not give it any more: path, why.
    pub(super) from_parity: Vec<(String, String)>,
    /// What cannot be read, or is not what was checksummed, and does not come back: path, why.
    pub(super) unreadable: Vec<(String, String)>,
    /// It was asked to stop.
    pub(super) stopped: bool,
    spare: Spare<'a>,
}

/// What is to be copied.
struct Task {
    object: ObjectRow,
    names: Vec<RelPath>,
    attributes: Attributes,
    known: Option<VersionRow>,
}

/// A copy that has no name yet.
struct Fresh {
    task: Task,
    temporary: RelPath,
    file: Box<dyn WriteFile>,
    sum: ContentSum,
}

impl<'a> Copier<'a> {
    pub(super) fn new(
        pool: &'a Pool,
        id: DiskId,
        to: &Arc<dyn Disk>,
        observer: &'a dyn Observer,
    ) -> Result<Self> {
        Ok(Self {
            pool,
            id,
            from: Arc::clone(pool.member(id)?.writable()?),
            to: Arc::clone(to),
            observer,
            there: HashMap::new(),
            copied: Count::default(),
            from_parity: Vec::new(),
            unreadable: Vec::new(),
            stopped: false,
            spare: Spare::new(pool, id),
        })
    }

    /// The disk that hands over.
    pub(super) const fn disk(&self) -> DiskId {
        self.id
    }

    /// One round: copies what is new or was changed since the last, takes away what went. Whether anything was.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub(super) fn round(&mut self) -> Result<bool> {
        self.unreadable.clear();
        let tasks = self.tasks()?;
        let mut space = Workspace::begin(&self.to, self.pool.machine.random())?;
        let mut left = tasks.into_iter().peekable();
        let mut changed = self.take_away()?;
        while left.peek().is_some() && !self.stopped {
            let batch: Vec<Task> = left.by_ref().take(BATCH).collect();
            changed |= self.batch(batch, &mut space)?;
        }
        space.finish()?;
        Ok(changed)
    }

    /// What differs from what was copied, as the last scan knew it.
    fn tasks(&self) -> Result<Vec<Task>> {
        let reading = self.pool.catalogue.reading();
        let mut wanted: Vec<ObjectRow> = Vec::new();
        let mut seen = BTreeSet::new();
        objects::for_each_name(reading, self.id, |_, object| {
            if seen.insert(object.id) {
                wanted.push(object);
            }
            Ok(())
        })?;
        let mut tasks = Vec::new();
        for object in wanted {
            let names = objects::names(reading, object.id)?;
            let is_there = self
                .there
                .get(&object.id)
                .is_some_and(|there| there.source == stamp(&object) && there.names == names);
            if is_there || names.is_empty() {
                continue;
            }
            let mut known = None;
            if let Some(version) = object.version.filter(|_| object.standing == Standing::Same) {
                let version = versions::get(reading, version)?;
                known = (!version.unfinished).then_some(version);
            }
            let attributes = objects::attributes(reading, object.id)?;
            tasks.push(Task { object, names, attributes, known });
        }
        Ok(tasks)
    }

    /// What went from the old disk, or has other names now, goes from the new one: it is copied anew under those.
    fn take_away(&mut self) -> Result<bool> {
        let reading = self.pool.catalogue.reading();
        let mut gone = Vec::new();
        for (id, there) in &self.there {
            let now = objects::get(reading, *id)?;
            let is_same = now.is_some_and(|object| stamp(&object) == there.source)
                && objects::names(reading, *id)? == there.names;
            if !is_same {
                gone.push(*id);
            }
        }
        for id in &gone {
            let Some(there) = self.there.remove(id) else { continue };
            for name in &there.names {
                // Ours alone: nobody else writes to a disk that is no member yet.
                if self.to.stat(name)?.is_some_and(|stat| stat.inode == there.stat.inode) {
                    self.to.remove_file(name)?;
                }
            }
        }
        Ok(!gone.is_empty())
    }

    fn batch(&mut self, tasks: Vec<Task>, space: &mut Workspace) -> Result<bool> {
        let mut fresh = Vec::new();
        let mut changed = false;
        for task in tasks {
            if self.observer.is_stopped() {
                self.stopped = true;
                break;
            }
            if self.is_there_already(&task)? {
                changed = true;
                continue;
            }
            match self.copy(task, space.next_path()) {
                Ok(Some(copy)) => fresh.push(copy),
                Ok(None) => {}
                Err(error) if error.is_stop() => self.stopped = true,
                Err(error) => return Err(error),
            }
        }
        if fresh.len() > durable::ONE_BY_ONE {
            self.to.sync_all()?;
        } else {
            fresh.iter_mut().try_for_each(|copy| copy.file.sync())?;
        }
        let mut folders: Vec<RelPath> = Vec::new();
        for copy in fresh {
            if let Some(names) = self.name(copy)? {
                changed = true;
                folders.extend(names);
            }
        }
        durable::sync_parents(&*self.to, folders.iter())?;
        Ok(changed)
    }

    /// Whether an interrupted handover brought it: whole, by its checksum. What it brought otherwise goes.
    fn is_there_already(&mut self, task: &Task) -> Result<bool> {
        let mut stats = Vec::new();
        for name in &task.names {
            stats.extend(self.to.stat(name)?);
        }
        let is_like = |stat: &Stat| {
            stat.kind == EntryKind::File && (stat.size, stat.mtime) == (task.object.size, task.object.mtime)
        };
        let is_one = stats.iter().all(|stat| is_like(stat) && stat.inode == stats[0].inode);
        if let Some(known) = task.known.as_ref().filter(|_| stats.len() == task.names.len() && is_one) {
            let mut file = self.to.open(&task.names[0])?;
            let heed = |_: u64| sieve_disk::event::heed(self.observer);
            if copying::checksum(&mut *file, task.object.size, heed)?.as_ref() == Some(&known.sum) {
                self.note(task, stats[0]);
                return Ok(true);
            }
        }
        for name in &task.names {
            if self.to.stat(name)?.is_some() {
                self.to.remove_file(name)?;
            }
        }
        Ok(false)
    }

    /// Copies one file; none where it cannot be had as it is to be.
    fn copy(&mut self, task: Task, temporary: RelPath) -> Result<Option<Fresh>> {
        // It has come since the plan looked at whose the files are.
        if !self.to.may_give_to(task.attributes.uid) {
            self.unreadable.push((task.names[0].to_string(), held::IS_OF_ANOTHER.into()));
            return Ok(None);
        }
        let opened = self.from.open(&task.names[0]).and_then(|mut source| {
            let stat = source.stat()?;
            if !task.object.matches(&stat) {
                return Ok(None);
            }
            let (size, to) = (task.object.size, &*self.to);
            let copied =
                copying::copy_hashed(&mut *source, size, to, &temporary, &task.attributes, self.observer)?;
            copying::refuse_changed(&stat, &source.stat()?)?;
            Ok(Some(copied))
        });
        match opened {
            Ok(Some((file, sum))) => {
                if task.known.as_ref().is_none_or(|known| known.sum == sum) {
                    return Ok(Some(Fresh { task, temporary, file, sum }));
                }
                drop(file);
                self.spared(task, temporary, "its content is not what was checksummed".into())
            }
            // It is another one by now, and the next round sees it.
            Ok(None) => Ok(None),
            Err(error) if error.code == CHANGED || error.io_kind() == Some(std::io::ErrorKind::NotFound) => {
                self.discard(&temporary)?;
                Ok(None)
            }
            // What the old disk does not give any more may come from parity; what the new one does not take ends it.
            Err(error)
                if error.kind == Kind::Io
                    && error.message.starts_with(&format!("{}/", self.from.root().display())) =>
            {
                self.spared(task, temporary, error.to_string())
            }
            Err(error) => {
                self.discard(&temporary)?;
                Err(error)
            }
        }
    }

    /// The file from parity, where it has it; else it is told why it cannot be had.
    fn spared(&mut self, task: Task, temporary: RelPath, why: String) -> Result<Option<Fresh>> {
        self.discard(&temporary)?;
        let path = task.names[0].to_string();
        let onto = (&*self.to, &temporary, &task.attributes);
        let known = task.known.as_ref();
        let brought = known.map(|row| self.spare.bring(row, onto, self.observer)).transpose()?.flatten();
        match (brought, known) {
            (Some(file), Some(row)) => {
                let sum = row.sum.clone();
                self.from_parity.push((path, why));
                Ok(Some(Fresh { task, temporary, file, sum }))
            }
            _ => {
                self.unreadable.push((path, why));
                Ok(None)
            }
        }
    }

    fn discard(&self, temporary: &RelPath) -> Result<()> {
        if self.to.stat(temporary)?.is_some() { self.to.remove_file(temporary) } else { Ok(()) }
    }

    /// Reads the durable copy back, and gives it its names; none where the source is another one by now.
    fn name(&mut self, copy: Fresh) -> Result<Option<Vec<RelPath>>> {
        let Fresh { task, temporary, mut file, sum } = copy;
        copying::read_back(&*self.to, &mut *file, &sum, self.observer)?;
        drop(file);
        if self.from.stat(&task.names[0])?.is_none_or(|stat| !task.object.matches(&stat)) {
            self.discard(&temporary)?;
            return Ok(None);
        }
        let (first, further) = task.names.split_first().expect("a file has a name");
        for name in &task.names {
            if let Some(parent) = name.parent().filter(|parent| !parent.is_root()) {
                durable::make_folders(&*self.to, &parent, |folder| looks_of(&*self.from, folder))?;
            }
        }
        self.to.rename(&temporary, first)?;
        further.iter().try_for_each(|name| self.to.link(first, name))?;
        let stat = self.to.stat(first)?.expect("it was named just now, on a disk that nobody else writes to");
        self.note(&task, stat);
        Ok(Some(task.names))
    }

    fn note(&mut self, task: &Task, stat: Stat) {
        self.copied.add(task.object.size);
        self.there
            .insert(task.object.id, There { source: stamp(&task.object), names: task.names.clone(), stat });
    }

    /// Folders and symlinks, and the times of folders at the end: what comes into one moves its time.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub(super) fn nodes(&self) -> Result<Vec<(RelPath, NodeRow)>> {
        let mut all: Vec<(RelPath, NodeRow)> = Vec::new();
        nodes::for_each(self.pool.catalogue.reading(), self.id, |path, node| {
            all.push((path, node));
            Ok(())
        })?;
        for (path, node) in &all {
            match (node.kind, &node.target) {
                (EntryKind::Folder, _) => {
                    durable::make_folders(&*self.to, path, |folder| looks_of(&*self.from, folder))?;
                }
                (EntryKind::Symlink, Some(target)) if self.to.stat(path)?.is_none() => {
                    if let Some(parent) = path.parent().filter(|parent| !parent.is_root()) {
                        durable::make_folders(&*self.to, &parent, |folder| looks_of(&*self.from, folder))?;
                    }
                    self.to.make_symlink(target, path)?;
                    self.to.set_attributes(path, &node.attributes)?;
                }
                _ => {}
            }
        }
        for (path, node) in all.iter().rev().filter(|(_, node)| node.kind == EntryKind::Folder) {
            self.to.set_time(path, node.attributes.mtime)?;
        }
        self.held_names()?;
        self.to.sync_all()?;
        let mut rows = Vec::new();
        for (path, node) in all {
            if let Some(stat) = self.to.stat(&path)?.filter(|stat| stat.kind == node.kind) {
                rows.push((path, NodeRow { ctime: stat.ctime, ..node }));
            }
        }
        Ok(rows)
    }

    /// What is held says itself on the disk what it was.
    fn held_names(&self) -> Result<()> {
        let place = OurPlace::HeldNames.path();
        if self.from.stat(&place)?.is_none() {
            return Ok(());
        }
        let text = sieve_disk::read_small(&*self.from, &place, 1 << 30)?;
        durable::write_file(&*self.to, &place, &text)
    }
}

fn stamp(object: &ObjectRow) -> Stamp {
    Stamp { inode: object.inode, size: object.size, mtime: object.mtime, ctime: object.ctime }
}
