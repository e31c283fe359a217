//! Which files leave the cache, in which order, and where they go.

use std::collections::{BTreeSet, HashSet};

use sieve_core::landing::{Lander, Spot};
use sieve_core::path::RelPath;
use sieve_core::pool::{Landing, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId};

use super::plan::{CacheSpace, Options, PlannedMove, SettlePlan, Why};
use super::when::{NANOSECONDS_A_DAY, caches_of, why_in_use};
use super::{CachedFile, cached_files};
use crate::files::moves::{Destination, Leaving, LeftAlone, Move, Source};
use sieve_catalogue::label::Role;
use sieve_catalogue::{held_files, nodes, objects};
use sieve_disk::EntryKind;
use sieve_disk::Result;
use sieve_pool::grounds::Grounds;
use sieve_pool::member::Member;
use sieve_pool::pieces;
use sieve_pool::pool::Pool;

/// Plans what leaves the caches.
pub(super) fn plan(pool: &Pool, volume: &VolumeSpec, options: &Options, plan: &mut SettlePlan) -> Result<()> {
    let mut files = cached_files(pool, volume)?;
    files.retain(|file| options.everything || file.landing != Landing::Stay);
    files.sort_by(|a, b| (a.arrived(), &a.names).cmp(&(b.arrived(), &b.names)));
    let spaces = spaces(pool, volume)?;
    let grounds = Grounds::as_scanned(pool, volume)?;
    let mut planner = Planner {
        pool,
        volume,
        options,
        holds: holds_sources(pool, volume, options, &spaces),
        lander: grounds.lander(pool, volume, ByteLength::ZERO)?,
        grounds: &grounds,
        open: pool.machine.open_files(),
        pieced: pieces::files(pool, &volume.name)?.into_iter().map(|file| file.path).collect(),
        absent: HashSet::new(),
        spaces,
        plan,
    };
    planner.give_up_held()?;
    for file in &files {
        planner.file(file)?;
    }
    planner.plan.others = others(pool, volume, options)?;
    planner.finish()
}

fn spaces(pool: &Pool, volume: &VolumeSpec) -> Result<Vec<(DiskId, CacheSpace)>> {
    let reserve = super::cache_reserve(pool, volume)?;
    let mut spaces = Vec::new();
    for member in caches_of(pool, volume) {
        let free = member.free_bytes(&pool.catalogue)?;
        let disk = member.row.name.clone();
        let space = CacheSpace { disk, free, free_after: free, free_after_sync: free, reserve };
        spaces.push((member.row.id, space));
    }
    Ok(spaces)
}

/// Sources are held where parity will guard what was settled, while the space allows, and where it is not space that is
/// wanted.
fn holds_sources(
    pool: &Pool,
    volume: &VolumeSpec,
    options: &Options,
    spaces: &[(DiskId, CacheSpace)],
) -> bool {
    let has_parity = pool.members_of(&volume.name, Role::Parity).next().is_some();
    has_parity
        && options.until.is_none()
        && !options.everything
        && spaces.iter().all(|(_, space)| space.free >= space.reserve)
}

/// Symlinks on the caches, and folders with nothing in them.
fn others(pool: &Pool, volume: &VolumeSpec, options: &Options) -> Result<u64> {
    let mut count = 0;
    if options.until.is_some() || options.older_than.is_some() {
        return Ok(0);
    }
    for member in caches_of(pool, volume) {
        nodes::for_each(pool.catalogue.reading(), member.row.id, |path, node| {
            let is_wanted = (options.everything || volume.landing_of(&path) != Landing::Stay)
                && options.folder.as_ref().is_none_or(|folder| path.is_within(folder));
            count += u64::from(is_wanted && node.kind == EntryKind::Symlink);
            Ok(())
        })?;
    }
    Ok(count)
}

struct Planner<'a> {
    pool: &'a Pool,
    volume: &'a VolumeSpec,
    options: &'a Options,
    holds: bool,
    lander: Lander,
    grounds: &'a Grounds,
    /// What other processes have open.
    open: HashSet<(u64, u64)>,
    /// Files that lie in pieces on the disks.
    pieced: BTreeSet<RelPath>,
    /// Folders that are not on a data disk.
    absent: HashSet<(DiskId, RelPath)>,
    spaces: Vec<(DiskId, CacheSpace)>,
    plan: &'a mut SettlePlan,
}

impl<'a> Planner<'a> {
    /// What is wanted is free on every cache.
    fn is_reached(&self) -> bool {
        self.options.until.is_some_and(|until| self.spaces.iter().all(|(_, space)| space.free_after >= until))
    }

    fn space(&mut self, disk: DiskId) -> Option<&mut CacheSpace> {
        self.spaces.iter_mut().find(|(id, _)| *id == disk).map(|(_, space)| space)
    }

    /// Copies that are held on a cache go first, the oldest first, where it is space that is wanted.
    fn give_up_held(&mut self) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        for member in caches_of(self.pool, self.volume) {
            let mut held = held_files::all(reading, member.row.id)?;
            held.sort_by_key(|row| row.since);
            for row in held {
                let object = objects::by_path(reading, member.row.id, &row.path)?;
                let size = object.as_ref().map(|object| object.size).unwrap_or_default();
                let until = self.options.until;
                let Some(space) = self.space(member.row.id) else { continue };
                let wanted = until.unwrap_or(space.reserve);
                space.free_after_sync = space.free_after_sync.plus(size);
                if space.free_after < wanted && !row.edited {
                    space.free_after = space.free_after.plus(size);
                    self.plan.given_up.add(size);
                    self.plan.to_give_up.push((member.row.id, row, object));
                }
            }
        }
        Ok(())
    }

    fn file(&mut self, file: &CachedFile) -> Result<()> {
        let path = &file.names[0];
        let is_asked = self.options.folder.as_ref().is_none_or(|folder| path.is_within(folder));
        let age = self.pool.machine.now().saturating_sub(file.arrived());
        let is_old = self.options.older_than.is_none_or(|days| age as f64 >= days * NANOSECONDS_A_DAY);
        if !is_asked || !is_old || self.is_reached() {
            return Ok(());
        }
        if let Some(why) = self.why_not(file)? {
            self.plan.left_alone.push(LeftAlone { path: path.to_string(), why });
            return Ok(());
        }
        let size = file.object().size;
        // Pieces have no further names, and where the caches are emptied for good none are made.
        let in_whole = file.names.len() > 1 || self.options.everything;
        let spot = match in_whole {
            true => self.lander.whole_on_disks(path, size),
            false => self.lander.on_disks(path, size),
        };
        match spot {
            Some(spot) => self.add(file, &spot),
            None => {
                let why =
                    if in_whole { "no disk has room for all of it" } else { "the disks have no room for it" };
                self.plan.left_alone.push(LeftAlone { path: path.to_string(), why: why.into() });
            }
        }
        Ok(())
    }

    /// Why a file that waits does not go now.
    fn why_not(&mut self, file: &CachedFile) -> Result<Option<String>> {
        for (disk, object) in &file.copies {
            if let Some(why) = why_in_use(self.pool, self.volume, (*disk, object), &self.open)? {
                return Ok(Some(why.into()));
            }
        }
        if let Some(name) = file.names.iter().find(|name| self.pieced.contains(*name)) {
            return Ok(Some(format!(
                "{name} is in pieces on the disks: remove one of the two, or rename it"
            )));
        }
        let pool = self.pool;
        for member in pool.members_of(&self.volume.name, Role::Data) {
            for name in &file.names {
                if self.is_on(member, name)? {
                    return Ok(Some(format!(
                        "the same name is on {}: remove one of the two, or rename it",
                        member.row.name
                    )));
                }
            }
        }
        Ok(None)
    }

    /// Whether a data disk has something of that name, as it says itself or, when it is away, the catalogue does.
    fn is_on(&mut self, member: &Member, name: &RelPath) -> Result<bool> {
        match member.usable() {
            Ok(disk) => {
                let folder = (member.row.id, name.parent().unwrap_or_default());
                if self.absent.contains(&folder) {
                    return Ok(false);
                }
                let is_there = disk.stat(name)?.is_some();
                if !is_there && disk.stat(&folder.1)?.is_none() {
                    self.absent.insert(folder);
                }
                Ok(is_there)
            }
            Err(_) => Ok(objects::by_path(self.pool.catalogue.reading(), member.row.id, name)?.is_some()),
        }
    }

    /// The disks that it goes to, and how much of it comes on each.
    fn shares(&self, spot: &Spot, size: ByteLength) -> Vec<(&'a Member, ByteLength)> {
        let member = |place: usize| &self.pool.members[self.grounds.members[place]];
        match spot {
            Spot::Whole(places) => places.iter().map(|place| (member(*place), size)).collect(),
            Spot::Pieces(pieces) => pieces.iter().map(|piece| (member(piece.disk), piece.length)).collect(),
        }
    }

    fn add(&mut self, file: &CachedFile, spot: &Spot) {
        let size = file.object().size;
        let to = self.shares(spot, size);
        let leaving = if self.holds { Leaving::Hold } else { Leaving::Go };
        let name =
            |disk: DiskId| self.pool.member(disk).map_or_else(|_| String::new(), |m| m.row.name.clone());
        self.plan.files.push(PlannedMove {
            key: file.names[0].tree_key(),
            path: file.names[0].to_string(),
            size_bytes: size,
            from: file.copies.iter().map(|(disk, _)| name(*disk)).collect(),
            to: to.iter().map(|(member, _)| member.row.name.clone()).collect(),
            why: Why::Waits,
            since: file.arrived(),
        });
        self.plan.moves.push(Move {
            from: file
                .copies
                .iter()
                .map(|(disk, object)| Source { disk: *disk, object: object.id, leaving })
                .collect(),
            to: match spot {
                Spot::Whole(_) => Destination::Whole(to.iter().map(|(member, _)| member.row.id).collect()),
                Spot::Pieces(_) => {
                    Destination::Pieces(to.iter().map(|(member, share)| (member.row.id, *share)).collect())
                }
            },
            size,
        });
        for (member, share) in to {
            self.plan.by_disk.entry(member.row.name.clone()).or_default().add(share);
            self.plan.written_bytes.add(&member.row.name, share);
        }
        for (disk, _) in &file.copies {
            self.plan.read_bytes.add(&name(*disk), size);
            let holds = self.holds;
            if let Some(space) = self.space(*disk) {
                space.free_after_sync = space.free_after_sync.plus(size);
                space.free_after = if holds { space.free_after } else { space.free_after.plus(size) };
            }
        }
    }

    fn finish(self) -> Result<()> {
        self.plan.holds = self.holds && !self.plan.moves.is_empty();
        self.plan.caches = self.spaces.into_iter().map(|(_, space)| space).collect();
        Ok(())
    }
}
