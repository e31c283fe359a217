//! Finding every source file a disk, before anything is copied.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;

use sieve_core::landing::{Lander, Spot};
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, GRANULE};

use super::source::{Origin, Source, bad_name};
use super::{Item, PutPlan};
use sieve_catalogue::objects;
use sieve_core::count::Count;
use sieve_disk::copying;
use sieve_disk::{EntryKind, ReadFile, Stat};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::grounds::{Grounds, keeps_reserve};
use sieve_pool::member::Member;
use sieve_pool::pieces;
use sieve_pool::pieces::PiecedFile;
use sieve_pool::pool::Pool;

/// The code of the error for names that are taken.
pub const NAMES_TAKEN: &str = "put.exists";

/// Where something goes, and how.
pub struct Wanted<'a> {
    /// The volume.
    pub volume: &'a VolumeSpec,
    /// The folder of it.
    pub folder: &'a RelPath,
    /// What has a name already is replaced.
    pub replace: bool,
    /// The members that may take it.
    pub grounds: Grounds,
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
    let volume = &pool.volume(Some(volume))?;
    let origins = sources.iter().map(|place| Origin::outside(pool, place)).collect::<Result<Vec<_>>>()?;
    plan_origins(pool, Wanted { volume, folder, replace, grounds: Grounds::open(pool, volume)? }, origins)
}

/// As [`plan`], from anywhere.
///
/// # Errors
/// As [`plan`].
pub fn plan_origins(pool: &Pool, wanted: Wanted<'_>, origins: Vec<Origin>) -> Result<PutPlan> {
    let Wanted { volume, folder, replace, grounds } = wanted;
    // The reserve is for the largest file, and that may be among these: looked for before the first of them is placed.
    let coming = if keeps_reserve(volume) { largest_of(&origins)? } else { ByteLength::ZERO };
    let mut planner = Planner {
        pool,
        volume: volume.name.clone(),
        lander: grounds.lander(pool, volume, coming)?,
        targets: grounds.members,
        replace,
        plan: PutPlan {
            sources: Vec::new(),
            folder: folder.clone(),
            items: Vec::new(),
            by_disk: Vec::new(),
            skipped: Vec::new(),
            replaced: 0,
            there_already: 0,
        },
        links: HashMap::new(),
        pieced: pieces::files(pool, &volume.name)?
            .into_iter()
            .map(|file| (file.path.clone(), file))
            .collect(),
        seen: have_twins(&origins).then(HashSet::new),
        too_large: Vec::new(),
        taken: Vec::new(),
    };
    for origin in origins {
        planner.origin(origin)?;
    }
    planner.finish()
}

/// The largest file in the sources.
fn largest_of(origins: &[Origin]) -> Result<ByteLength> {
    let mut largest = ByteLength::ZERO;
    for Origin { source, path } in origins {
        let mut waiting = vec![path.clone()];
        while let Some(path) = waiting.pop() {
            match source.stat(&path)? {
                Some(stat) if stat.kind == EntryKind::File => largest = largest.max(stat.size),
                Some(stat) if stat.kind == EntryKind::Folder => {
                    waiting.extend(source.list(&path)?.iter().filter_map(|name| path.join(name).ok()));
                }
                _ => {}
            }
        }
    }
    Ok(largest)
}

/// Only sources of one name can bring two things of one name.
fn have_twins(origins: &[Origin]) -> bool {
    let mut names: Vec<_> = origins.iter().map(|origin| &origin.path).collect();
    names.sort_unstable();
    names.windows(2).any(|pair| pair[1].is_within(pair[0]))
}

struct Planner<'a> {
    pool: &'a Pool,
    volume: String,
    /// The members that take files, by their positions in the pool.
    targets: Vec<usize>,
    lander: Lander,
    replace: bool,
    plan: PutPlan,
    /// Files with several names, by device and inode: where they go and the first name.
    links: HashMap<(u64, u64), (Spot, RelPath)>,
    /// Files that lie in pieces.
    pieced: HashMap<RelPath, PiecedFile>,
    /// The paths so far, where one could come twice.
    seen: Option<HashSet<RelPath>>,
    too_large: Vec<String>,
    taken: Vec<String>,
}

impl Planner<'_> {
    fn origin(&mut self, Origin { source, path }: Origin) -> Result<()> {
        let Some(stat) = source.stat(&path)? else {
            let message = format!("{}: it is no longer there", source.shown(&path));
            return Err(Error::new(Kind::NotFound, "put.source", message));
        };
        self.plan.sources.push(source);
        self.entry(&path, &stat)
    }

    /// The source that is looked at now.
    fn current(&self) -> &dyn Source {
        &**self.plan.sources.last().expect("a source is opened before its entries are looked at")
    }

    fn add(&mut self, path: &RelPath, stat: &Stat, member: usize) -> &mut Item {
        let source = u32::try_from(self.plan.sources.len() - 1).expect("a command line has fewer sources");
        let item = Item {
            path: path.clone(),
            size: stat.size,
            kind: stat.kind,
            source,
            member: position(member),
            replaces: None,
            link_of: None,
            pieces: None,
        };
        self.plan.items.push(item);
        self.plan.items.last_mut().expect("it was just put there")
    }

    fn entry(&mut self, path: &RelPath, stat: &Stat) -> Result<()> {
        match stat.kind {
            EntryKind::Special => {
                let place = self.current().shown(path);
                self.plan.skipped.push(format!("{place}: a socket, device or pipe"));
                Ok(())
            }
            EntryKind::Folder => self.folder(path, stat),
            EntryKind::File | EntryKind::Symlink => {
                if self.is_there_already(path, stat)? {
                    self.plan.there_already += 1;
                    return Ok(());
                }
                let needed = self.needed(path, stat)?;
                self.file(path, stat, needed);
                Ok(())
            }
        }
    }

    fn folder(&mut self, path: &RelPath, stat: &Stat) -> Result<()> {
        let mut names = self.current().list(path)?;
        names.sort_unstable();
        let index = self.plan.items.len();
        self.add(path, stat, self.targets[0]);
        for name in names {
            let below =
                path.join(&name).map_err(|e| bad_name(&self.current().shown(path), &e.to_string()))?;
            let Some(stat) = self.current().stat(&below)? else { continue };
            self.entry(&below, &stat)?;
        }
        // A folder lies where its first file goes.
        let first = self.plan.items.get(index + 1).map(|i| i.member);
        let target = self.plan.target(path);
        let on_its_own = || self.lander.for_folder(&target).map(|d| position(self.targets[d]));
        if let Some(member) = first.or_else(on_its_own) {
            self.plan.items[index].member = member;
        }
        Ok(())
    }

    fn member_at(&self, target: usize) -> &Member {
        &self.pool.members[self.targets[target]]
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

    /// Whether the same is there under the name already, whole: then an earlier put was interrupted after it.
    fn is_there_already(&self, path: &RelPath, stat: &Stat) -> Result<bool> {
        if self.replace {
            return Ok(false);
        }
        let target = self.plan.target(path);
        let places: Vec<_> = self.pool.file_members(&self.volume).filter(|m| self.has(m, &target)).collect();
        let in_pieces = self.pieced.get(&target);
        match stat.kind {
            EntryKind::File => self.is_whole_there(path, stat, &places, in_pieces),
            EntryKind::Symlink => {
                let leads = self.current().read_link(path)?;
                for member in &places {
                    let Ok(disk) = member.usable() else { return Ok(false) };
                    let is_link = disk.stat(&target)?.is_some_and(|there| there.kind == EntryKind::Symlink);
                    if !is_link || disk.read_link(&target)? != leads {
                        return Ok(false);
                    }
                }
                Ok(!places.is_empty())
            }
            _ => Ok(false),
        }
    }

    /// Whether all that has the name has the same content.
    fn is_whole_there(
        &self,
        path: &RelPath,
        stat: &Stat,
        places: &[&Member],
        in_pieces: Option<&PiecedFile>,
    ) -> Result<bool> {
        let target = self.plan.target(path);
        let mut there = Vec::new();
        for member in places {
            let Ok(disk) = member.usable() else { return Ok(false) };
            let Some(other) = disk.stat(&target)? else { return Ok(false) };
            let is_file = other.kind == EntryKind::File;
            if !is_file || (stat.size, stat.mtime) != (other.size, other.mtime) {
                return Ok(false);
            }
            there.push(disk);
        }
        if there.is_empty() && in_pieces.is_none_or(|file| file.size != stat.size) {
            return Ok(false);
        }
        let Some(whole) = whole_of(&mut *self.current().open(path)?)? else { return Ok(false) };
        for disk in there {
            if whole_of(&mut *disk.open(&target)?)? != Some(whole) {
                return Ok(false);
            }
        }
        Ok(in_pieces.is_none_or(|file| file.whole == whole))
    }

    /// What the copy of a file will take: its holes stay holes.
    fn needed(&self, path: &RelPath, stat: &Stat) -> Result<ByteLength> {
        if stat.kind != EntryKind::File || stat.allocated >= stat.size {
            return Ok(stat.size);
        }
        let ranges = self.current().open(path)?.data_ranges()?;
        Ok(ByteLength::new(ranges.iter().map(|r| r.length() * GRANULE).sum()))
    }

    fn file(&mut self, path: &RelPath, stat: &Stat, needed: ByteLength) {
        let target = self.plan.target(path);
        if self.seen.as_mut().is_some_and(|seen| !seen.insert(path.clone())) {
            return self.taken.push(format!("{target} (two sources have this name)"));
        }
        let existing: Vec<usize> =
            (0..self.targets.len()).filter(|t| self.has(self.member_at(*t), &target)).collect();
        if self.pieced.contains_key(&target) {
            return self.taken.push(format!("{target} (in pieces on several disks: remove it first)"));
        }
        let elsewhere = self.pool.file_members(&self.volume).find(|m| self.has(m, &target));
        if (!existing.is_empty() && !self.replace) || (existing.is_empty() && elsewhere.is_some()) {
            let disk = elsewhere.map_or("", |m| m.row.name.as_str());
            return self.taken.push(format!("{target} (on {disk})"));
        }
        let has_links = stat.links > 1 && stat.kind == EntryKind::File;
        let key = (stat.device, stat.inode);
        let linked = has_links.then(|| self.links.get(&key).cloned()).flatten();
        let (spot, link_of) = match linked {
            Some((spot, first)) if existing.is_empty() => (Some(spot), Some(first)),
            _ if existing.is_empty() => (self.lander.land(&target, needed), None),
            _ => (self.in_place_of(&existing, &target, needed), None),
        };
        let Some(spot) = spot else {
            let largest = self.lander.placer().largest_free();
            return self
                .too_large
                .push(format!("{target} ({needed}; the most that is free on one disk is {largest})"));
        };
        // Names of one file in pieces would each need their own: such a file is put down once a name.
        if has_links && link_of.is_none() && matches!(spot, Spot::Whole(_)) {
            self.links.entry(key).or_insert_with(|| (spot.clone(), path.clone()));
        }
        self.plan.replaced += u64::from(!existing.is_empty());
        self.add_file(path, stat, &spot, &existing, link_of.as_ref());
    }

    /// What takes a name that is taken goes where the old one is, if it fits there.
    fn in_place_of(&mut self, existing: &[usize], target: &RelPath, needed: ByteLength) -> Option<Spot> {
        let fits = existing.iter().all(|there| self.lander.placer().place_on(*there, needed));
        if fits { Some(Spot::Whole(existing.to_vec())) } else { self.lander.land_whole(target, needed) }
    }

    /// One item a disk that something of the file goes to.
    fn add_file(
        &mut self,
        path: &RelPath,
        stat: &Stat,
        spot: &Spot,
        existing: &[usize],
        link_of: Option<&RelPath>,
    ) {
        let places = match spot {
            Spot::Whole(places) => places,
            Spot::Pieces(pieces) => {
                let parts = pieces.iter().map(|p| (position(self.targets[p.disk]), p.length)).collect();
                let first = pieces.first().map_or(0, |piece| self.targets[piece.disk]);
                self.add(path, stat, first).pieces = Some(parts);
                return;
            }
        };
        // Old copies that the new one has no place beside go with the first one.
        let mut leftover = existing.iter().copied().filter(|there| !places.contains(there));
        for place in places {
            let there = existing.contains(place).then_some(*place).or_else(|| leftover.next());
            let replaces = there.map(|there| position(self.targets[there]));
            let item = self.add(path, stat, self.targets[*place]);
            (item.link_of, item.replaces) = (link_of.map(|first| Box::new(first.clone())), replaces);
        }
    }

    fn finish(mut self) -> Result<PutPlan> {
        if !self.taken.is_empty() {
            let message = format!("these names are taken: {}", shortened(&self.taken));
            return Err(Error::new(Kind::Conflict, NAMES_TAKEN, message).remedy(
                "put them elsewhere, or add --replace: what is there now is held until the next sync",
            ));
        }
        if !self.too_large.is_empty() {
            let message =
                format!("nothing was copied, because this fits on no disk: {}", shortened(&self.too_large));
            return Err(Error::new(Kind::Conflict, "put.no-room", message)
                .remedy("make room, put less at once, or add a disk"));
        }
        self.refuse_beyond_limit()?;
        for index in &self.targets {
            let mut count = self.in_pieces_on(*index);
            let here = self.plan.items.iter().filter(|i| {
                usize::from(i.member) == *index && i.kind != EntryKind::Folder && i.pieces.is_none()
            });
            here.for_each(|i| count.add(if i.link_of.is_some() { ByteLength::ZERO } else { i.size }));
            self.plan.by_disk.push((self.pool.members[*index].row.name.clone(), count));
        }
        Ok(self.plan)
    }
}

impl Planner<'_> {
    /// Pieces that go to a member.
    fn in_pieces_on(&self, member: usize) -> Count {
        let mut count = Count::default();
        let pieces = self.plan.items.iter().filter_map(|item| item.pieces.as_ref()).flat_map(|p| p.iter());
        pieces.filter(|(on, _)| usize::from(*on) == member).for_each(|(_, length)| count.add(*length));
        count
    }

    /// A volume may be meant to hold less than its disks could.
    fn refuse_beyond_limit(&self) -> Result<()> {
        let spec = self.pool.volume(Some(&self.volume))?;
        let Some((used, limit)) = self.pool.size_limit(&spec)? else { return Ok(()) };
        let files = self.plan.items.iter().filter(|i| i.kind == EntryKind::File && i.link_of.is_none());
        let coming: ByteLength = files.map(|item| item.size).sum();
        let beyond = used.plus(coming).minus(limit);
        if beyond == ByteLength::ZERO {
            return Ok(());
        }
        let message = format!(
            "nothing was copied: volume {} may hold {limit} and has {used}; this is {coming}, {beyond} too much",
            self.volume
        );
        Err(Error::new(Kind::Conflict, "put.limit", message)
            .remedy("raise `limit` of the volume in the pool file, or put less"))
    }
}

fn position(member: usize) -> u16 {
    u16::try_from(member).expect("a pool has fewer than 65,536 members")
}

/// The BLAKE3 of a file as it is read now.
fn whole_of(file: &mut dyn ReadFile) -> Result<Option<[u8; 32]>> {
    let size = file.stat()?.size;
    Ok(copying::checksum(file, size, |_| Ok(()))?.map(|sum| sum.whole))
}

fn shortened(names: &[String]) -> String {
    let shown = names.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
    if names.len() > 5 { format!("{shown}, and {} more", names.len() - 5) } else { shown }
}
