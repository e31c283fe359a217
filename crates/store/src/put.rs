//! Putting files in: copied, synced, verified, and only then given their names.

use std::collections::{HashMap, HashSet};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::Serialize;
use sieve_core::checksum::{ContentHasher, ContentSum};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::placement::Placer;
use sieve_core::units::{ByteLength, DiskId, GRANULE, ObjectId};

use crate::catalogue::{self, objects, versions};
use crate::content::{self, READ_STEP};
use crate::disk::{Attributes, Disk, EntryKind, ReadFile, RealDisk, Stat, WriteFile};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::event::{Event, Observer, Unit};
use crate::fate::Count;
use crate::held::{self, ToHold};
use crate::journal;
use crate::label::Role;
use crate::member::Member;
use crate::pool::Pool;
use crate::scan;
use crate::workspace::Workspace;
use crate::writer::ShortWriter;

/// So many files are recorded in the catalogue at once.
const BATCH: usize = 128;

/// What is put where.
pub struct PutPlan {
    sources: Vec<RealDisk>,
    items: Vec<Item>,
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// What is left alone, in words.
    pub skipped: Vec<String>,
    /// Files that are there already and are replaced; what they were is held.
    pub replaced: u64,
}

struct Item {
    source: usize,
    from: RelPath,
    target: RelPath,
    stat: Stat,
    /// The member it goes to, by its position in the pool.
    member: usize,
    /// Another name of a file that is put as well.
    link_of: Option<RelPath>,
    /// It takes the place of this file on that member.
    replaces: Option<usize>,
}

/// What was put.
#[derive(Debug, Default, Serialize)]
pub struct PutReport {
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// What was left alone, in words.
    pub skipped: Vec<String>,
    /// Files that were replaced.
    pub replaced: u64,
}

/// Finds every source file a disk, before anything is copied.
///
/// # Errors
/// When a source does not exist, a name is taken (and `replace` is not set), or something fits on no disk.
pub fn plan(
    pool: &Pool,
    volume: &str,
    sources: &[PathBuf],
    folder: &RelPath,
    replace: bool,
) -> Result<PutPlan> {
    let spec = pool.volume(Some(volume))?;
    let targets: Vec<usize> = (0..pool.members.len())
        .filter(|i| {
            let member = &pool.members[*i];
            member.row.volume == spec.name && member.row.role == Role::Data && member.writable().is_ok()
        })
        .collect();
    if targets.is_empty() {
        let message = format!("no data disk of {volume} takes files now");
        return Err(Error::new(Kind::Safety, "put.no-disk", message).remedy("zinc-sieve status"));
    }
    let mut free = Vec::new();
    for index in &targets {
        let member = &pool.members[*index];
        if member.spec.as_ref().is_some_and(|s| s.capacity.is_some()) {
            scan::scan(pool, member)?; // what was copied to it directly counts against its capacity
        }
        free.push(member.free_bytes(&pool.catalogue)?);
    }
    let mut planner = Planner {
        pool,
        volume: spec.name.clone(),
        targets,
        placer: Placer::new(spec.placement, free),
        replace,
        plan: PutPlan {
            sources: Vec::new(),
            items: Vec::new(),
            by_disk: Vec::new(),
            skipped: Vec::new(),
            replaced: 0,
        },
        links: HashMap::new(),
        targets_seen: HashSet::new(),
        too_large: Vec::new(),
        taken: Vec::new(),
    };
    for source in sources {
        planner.source(source, folder)?;
    }
    planner.finish()
}

struct Planner<'a> {
    pool: &'a Pool,
    volume: String,
    targets: Vec<usize>,
    placer: Placer,
    replace: bool,
    plan: PutPlan,
    links: HashMap<(u64, u64), (usize, RelPath)>,
    targets_seen: HashSet<RelPath>,
    too_large: Vec<String>,
    taken: Vec<String>,
}

impl Planner<'_> {
    fn source(&mut self, source: &Path, folder: &RelPath) -> Result<()> {
        let absolute = std::path::absolute(source).map_err(|e| Error::io("put.source", source, e))?;
        let whole = match source.file_name() {
            Some(_) => absolute,
            None => source.canonicalize().map_err(|e| Error::io("put.source", source, e))?,
        };
        let parent = whole.parent().unwrap_or(Path::new("/"));
        let open = RealDisk::open(parent)?;
        let name = whole.file_name().map(OsStrExt::as_bytes).unwrap_or_default();
        let from = RelPath::new(name).map_err(|e| bad_name(source, &e.to_string()))?;
        let Some(stat) = open.stat(&from)? else {
            let message = format!("{}: there is no such file or folder", source.display());
            return Err(Error::new(Kind::Usage, "put.source", message));
        };
        for member in &self.pool.members {
            let inside = member.disk.as_ref().is_some_and(|d| whole.starts_with(d.root()));
            if inside {
                let message =
                    format!("{} lies on disk {}, a member of this pool", source.display(), member.row.name);
                return Err(Error::new(Kind::Usage, "put.member", message)
                    .remedy("files on a member belong to its volume already"));
            }
        }
        self.plan.sources.push(open);
        let target = from.below(folder);
        self.entry(&from, &target, stat)
    }

    fn entry(&mut self, from: &RelPath, target: &RelPath, stat: Stat) -> Result<()> {
        let source = self.plan.sources.len() - 1;
        match stat.kind {
            EntryKind::Special => {
                let place = crate::disk::full_path(&self.plan.sources[source], from);
                self.plan.skipped.push(format!("{}: a socket, device or pipe", place.display()));
                Ok(())
            }
            EntryKind::Folder => self.folder(from, target, stat),
            EntryKind::File | EntryKind::Symlink => {
                let needed = self.needed(source, from, &stat)?;
                self.file(source, from, target, stat, needed);
                Ok(())
            }
        }
    }

    fn folder(&mut self, from: &RelPath, target: &RelPath, stat: Stat) -> Result<()> {
        let source = self.plan.sources.len() - 1;
        let mut names = self.plan.sources[source].list(from)?;
        names.sort_unstable();
        let member = self.targets[0];
        let item = Item {
            source,
            from: from.clone(),
            target: target.clone(),
            stat,
            member,
            link_of: None,
            replaces: None,
        };
        let position = self.plan.items.len();
        self.plan.items.push(item);
        for name in names {
            let place = crate::disk::full_path(&self.plan.sources[source], from);
            let below = from.join(&name).map_err(|e| bad_name(&place, &e.to_string()))?;
            let Some(stat) = self.plan.sources[source].stat(&below)? else { continue };
            let to = target.join(&name).map_err(|e| bad_name(&place, &e.to_string()))?;
            self.entry(&below, &to, stat)?;
        }
        // A folder lies where its first file goes; an empty one on the emptiest disk.
        let first = self.plan.items.get(position + 1).map(|i| i.member);
        let emptiest = || self.placer.clone().place(ByteLength::ZERO).map(|d| self.targets[d]);
        if let Some(member) = first.or_else(emptiest) {
            self.plan.items[position].member = member;
        }
        Ok(())
    }

    /// Whether a member has something of that name, as it says itself or, when it is away, the catalogue does.
    fn has(&self, member: &Member, target: &RelPath) -> bool {
        match member.usable() {
            Ok(disk) => disk.stat(target).is_ok_and(|s| s.is_some()),
            Err(_) => {
                let known = objects::by_path(self.pool.catalogue.reading(), member.row.id, target);
                known.is_ok_and(|object| object.is_some())
            }
        }
    }

    /// What the copy of a file will take: its holes stay holes.
    fn needed(&self, source: usize, from: &RelPath, stat: &Stat) -> Result<ByteLength> {
        if stat.kind != EntryKind::File || stat.allocated >= stat.size {
            return Ok(stat.size);
        }
        let ranges = self.plan.sources[source].open(from)?.data_ranges()?;
        Ok(ByteLength::new(ranges.iter().map(|r| r.length() * GRANULE).sum()))
    }

    fn file(&mut self, source: usize, from: &RelPath, target: &RelPath, stat: Stat, needed: ByteLength) {
        if !self.targets_seen.insert(target.clone()) {
            return self.taken.push(format!("{target} (two sources have this name)"));
        }
        let existing = self.targets.iter().position(|i| self.has(&self.pool.members[*i], target));
        let elsewhere = self.pool.members_of(&self.volume, Role::Data).find(|m| self.has(m, target));
        if (existing.is_some() && !self.replace) || (existing.is_none() && elsewhere.is_some()) {
            let disk = elsewhere.map_or("", |m| m.row.name.as_str());
            return self.taken.push(format!("{target} (on {disk})"));
        }
        let key = (stat.device, stat.inode);
        let linked =
            (stat.links > 1 && stat.kind == EntryKind::File).then(|| self.links.get(&key).cloned()).flatten();
        let (place, link_of) = match (&linked, existing) {
            (Some((place, first)), None) => (Some(*place), Some(first.clone())),
            (_, Some(there)) => {
                let fits = self.placer.place_on(there, needed);
                (if fits { Some(there) } else { self.placer.place(needed) }, None)
            }
            (None, None) => (self.placer.place(needed), None),
        };
        let Some(place) = place else {
            let largest = self.placer.largest_free();
            return self
                .too_large
                .push(format!("{target} ({needed}; the most that is free on one disk is {largest})"));
        };
        if stat.links > 1 && linked.is_none() && stat.kind == EntryKind::File {
            self.links.insert(key, (place, target.clone()));
        }
        self.plan.replaced += u64::from(existing.is_some());
        self.plan.items.push(Item {
            source,
            from: from.clone(),
            target: target.clone(),
            stat,
            member: self.targets[place],
            link_of,
            replaces: existing.map(|there| self.targets[there]),
        });
    }

    fn finish(mut self) -> Result<PutPlan> {
        if !self.taken.is_empty() {
            let message = format!("these names are taken: {}", shortened(&self.taken));
            return Err(Error::new(Kind::Conflict, "put.exists", message).remedy(
                "put them elsewhere, or add --replace: what is there now is held until the next sync",
            ));
        }
        if !self.too_large.is_empty() {
            let message =
                format!("nothing was copied, because this fits on no disk: {}", shortened(&self.too_large));
            return Err(Error::new(Kind::Conflict, "put.no-room", message)
                .remedy("make room, put less at once, or add a disk"));
        }
        for index in &self.targets {
            let mut count = Count::default();
            let here =
                self.plan.items.iter().filter(|i| i.member == *index && i.stat.kind != EntryKind::Folder);
            here.for_each(|i| count.add(if i.link_of.is_some() { ByteLength::ZERO } else { i.stat.size }));
            self.plan.by_disk.push((self.pool.members[*index].row.name.clone(), count));
        }
        Ok(self.plan)
    }
}

fn bad_name(path: &Path, why: &str) -> Error {
    Error::new(Kind::Usage, "put.name", format!("{}: {why}", path.display()))
}

fn shortened(names: &[String]) -> String {
    let shown = names.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
    if names.len() > 5 { format!("{shown}, and {} more", names.len() - 5) } else { shown }
}

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
    let total = plan.items.iter().map(|i| i.stat.size.exact()).sum();
    observer.event(Event::Stage { name: "copying", total, unit: Unit::Bytes });
    let mut put = Putter { pool, plan, observer, spaces: HashMap::new(), done: Vec::new() };
    let outcome = put.all();
    put.record()?;
    let spaces = std::mem::take(&mut put.spaces);
    spaces.into_values().try_for_each(Workspace::finish)?;
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
    spaces: HashMap<usize, Workspace>,
    done: Vec<Done>,
}

impl Putter<'_> {
    fn all(&mut self) -> Result<()> {
        for (index, item) in self.plan.items.iter().enumerate() {
            match item.stat.kind {
                EntryKind::Folder => {
                    durable::make_folders(&**self.member(item).writable()?, &item.target)?;
                }
                EntryKind::Symlink => self.symlink(item)?,
                _ => self.file(index, item)?,
            }
            if self.done.len() >= BATCH {
                self.record()?;
            }
        }
        // Folders get their times last, since every file in them moves those.
        for item in self.plan.items.iter().rev().filter(|i| i.stat.kind == EntryKind::Folder) {
            let source = &self.plan.sources[item.source];
            let attributes = Attributes::of(&item.stat, source.extended_attributes(&item.from)?);
            for member in self.pool.members.iter().filter(|m| m.row.volume == self.member(item).row.volume) {
                let Ok(disk) = member.writable() else { continue };
                if member.row.role == Role::Data && disk.stat(&item.target)?.is_some() {
                    disk.set_attributes(&item.target, &attributes)?;
                }
            }
        }
        Ok(())
    }

    fn member(&self, item: &Item) -> &Member {
        &self.pool.members[item.member]
    }

    fn symlink(&mut self, item: &Item) -> Result<()> {
        let disk = self.member(item).writable()?;
        if let Some(parent) = item.target.parent() {
            durable::make_folders(&**disk, &parent)?;
        }
        let target = self.plan.sources[item.source].read_link(&item.from)?;
        if let Some(there) = item.replaces {
            self.pool.members[there].writable()?.remove_file(&item.target)?;
        }
        disk.make_symlink(&target, &item.target)?;
        disk.set_attributes(&item.target, &Attributes::of(&item.stat, Vec::new()))?;
        durable::sync_parents(&**disk, [&item.target])
    }

    fn file(&mut self, index: usize, item: &Item) -> Result<()> {
        let disk = Arc::clone(self.member(item).writable()?);
        if let Some(parent) = item.target.parent() {
            durable::make_folders(&*disk, &parent)?;
        }
        if let Some(first) = &item.link_of {
            // The catalogue learns of the further name from the stat of the first.
            self.record()?;
            disk.link(first, &item.target)?;
            durable::sync_parents(&*disk, [&item.target])?;
            return self.record_link(item, first, &*disk);
        }
        if !self.spaces.contains_key(&item.member) {
            let space = Workspace::begin(&disk, self.pool.machine.random())?;
            self.spaces.insert(item.member, space);
        }
        let temporary = self.spaces.get_mut(&item.member).expect("just put there").next_path();
        let source = &self.plan.sources[item.source];
        let mut input = source.open(&item.from)?;
        let size = input.stat()?.size;
        let attributes = Attributes::of(&input.stat()?, source.extended_attributes(&item.from)?);
        let (sum, data) = copy_verified(&mut *input, size, &*disk, &temporary, &attributes, self.observer)?;
        let hold = self.publish(item, &disk, &temporary)?;
        let stat = disk.stat(&item.target)?.ok_or_else(|| {
            Error::new(
                Kind::Conflict,
                "file.vanished",
                format!("{}: somebody else took this file away", item.target),
            )
        })?;
        self.done.push(Done { item: index, stat, content: Some((sum, data)), attributes, hold });
        Ok(())
    }

    /// Gives the copy its name; what had the name before is held.
    fn publish(
        &mut self,
        item: &Item,
        disk: &Arc<dyn Disk>,
        temporary: &RelPath,
    ) -> Result<Option<objects::ObjectRow>> {
        let Some(there) = item.replaces else {
            durable::publish(&**disk, temporary, &item.target)?;
            return Ok(None);
        };
        let member = &self.pool.members[there];
        let old = member.writable()?;
        let known = objects::by_path(self.pool.catalogue.reading(), member.row.id, &item.target)?;
        let Some(object) = known else {
            scan::scan(self.pool, member)?; // it was copied there directly: it has to be known to be held
            return match objects::by_path(self.pool.catalogue.reading(), member.row.id, &item.target)? {
                Some(_) => self.publish(item, disk, temporary),
                None => durable::publish(&**disk, temporary, &item.target).map(|()| None),
            };
        };
        let to_hold = ToHold { path: item.target.clone(), object: object.clone() };
        if there == item.member {
            let holding = held::begin(self.pool, member, vec![to_hold], true)?;
            durable::publish_over(&**disk, temporary, &item.target)?;
            holding.finish(&**old)?;
            return Ok(Some(object));
        }
        // On another disk the new one appears first: for a moment there are two, never none.
        durable::publish(&**disk, temporary, &item.target)?;
        held::begin(self.pool, member, vec![to_hold], false)?.finish(&**old)?;
        Ok(None)
    }

    fn record_link(&self, item: &Item, first: &RelPath, disk: &dyn Disk) -> Result<()> {
        let member = self.member(item);
        let object = objects::by_path(self.pool.catalogue.reading(), member.row.id, first)?;
        let (Some(object), Some(stat)) = (object, disk.stat(&item.target)?) else { return Ok(()) };
        self.pool.catalogue.transaction(|t| {
            objects::set_name(t, member.row.id, &item.target, object.id)?;
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
                record_file(t, self.member(item).row.id, &item.target, file)?;
            }
            Ok(())
        })
    }
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

/// Copies a file to an unfinished one, holes as holes, and reads it back.
///
/// # Errors
/// When the source changes on the way, the copy differs, or what a disk says.
fn copy_verified(
    input: &mut dyn ReadFile,
    size: ByteLength,
    disk: &dyn Disk,
    target: &RelPath,
    attributes: &Attributes,
    observer: &dyn Observer,
) -> Result<(ContentSum, Vec<Rows>)> {
    let data = input.data_ranges()?;
    let mut output = disk.create(target)?;
    output.set_length(size.exact())?;
    let sum = copy(input, &mut *output, size, &data, observer)?;
    disk.set_attributes(target, attributes)?;
    output.sync()?;
    let mut written = disk.open(target)?;
    if content::checksum(&mut *written, size, |_| {})?.as_ref() != Some(&sum) {
        let message = format!("{}: what was written reads back differently", disk.root().display());
        return Err(Error::new(Kind::Io, "put.verify", message).remedy("do not trust this disk: check it"));
    }
    Ok((sum, written.data_ranges()?))
}

fn copy(
    input: &mut dyn ReadFile,
    output: &mut dyn WriteFile,
    size: ByteLength,
    data: &[Rows],
    observer: &dyn Observer,
) -> Result<ContentSum> {
    let mut hasher = ContentHasher::new(size);
    let mut buffer = vec![0; READ_STEP];
    let mut offset = 0;
    loop {
        let count = input.read_at(&mut buffer, offset)?;
        if count == 0 {
            break;
        }
        hasher.update(&buffer[..count]);
        let end = offset + count as u64;
        let rows = Rows::new(offset / GRANULE, end.div_ceil(GRANULE));
        for part in data.iter().map(|d| d.intersection(rows)).filter(|p| !p.is_empty()) {
            let (from, to) = (part.start() * GRANULE, (part.end() * GRANULE).min(end));
            let at = |position: u64| usize::try_from(position - offset).expect("within the buffer");
            output.write_at(&buffer[at(from.max(offset))..at(to)], from.max(offset))?;
        }
        offset = end;
        observer.event(Event::Advanced { by: count as u64 });
    }
    hasher.finish().ok_or_else(|| {
        Error::new(Kind::Conflict, "put.changed", "a source file changed while it was copied")
            .remedy("put it again")
    })
}
