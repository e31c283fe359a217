//! Folders and symlinks that follow the files: where files leave a disk, they come on the disks that stay.

use std::sync::Arc;

use sieve_catalogue::label::Role;
use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::Result;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk, EntryKind, Stat};
use sieve_pool::follow::replicas_follow;
use sieve_pool::held;
use sieve_pool::looks::looks_of;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

use super::settle::{NANOSECONDS_A_DAY, age_of};

/// Which of them follow.
#[derive(Clone, Copy)]
pub(crate) struct Wanted<'a> {
    /// The disks that they leave.
    pub(crate) from: &'a [DiskId],
    /// Those as well that somebody may just have made, or that the pool file names: the disks are to be empty.
    pub(crate) everything: bool,
}

/// Folders and symlinks of disks that files leave, as they were before anything moved.
pub(crate) struct Folders<'a> {
    volume: &'a VolumeSpec,
    wanted: Wanted<'a>,
    nodes: Vec<(DiskId, RelPath, NodeRow)>,
}

impl<'a> Folders<'a> {
    pub(crate) fn look(
        pool: &Pool,
        volume: &'a VolumeSpec,
        wanted: Wanted<'a>,
        is_asked: impl Fn(&RelPath) -> bool,
    ) -> Result<Self> {
        let mut nodes = Vec::new();
        for disk in wanted.from {
            nodes::for_each(pool.catalogue.reading(), *disk, |path, node| {
                if is_asked(&path) {
                    nodes.push((*disk, path, node));
                }
                Ok(())
            })?;
        }
        Ok(Self { volume, nodes, wanted })
    }

    /// The data disks that they may come on.
    fn homes<'p>(&'p self, pool: &'p Pool) -> impl Iterator<Item = &'p Member> {
        let from = self.wanted.from;
        pool.members_of(&self.volume.name, Role::Data).filter(move |member| !from.contains(&member.row.id))
    }

    fn of_kind(&self, kind: EntryKind) -> impl DoubleEndedIterator<Item = &(DiskId, RelPath, NodeRow)> {
        self.nodes.iter().filter(move |(_, _, node)| node.kind == kind)
    }

    /// The data disk that has the folder around something already, else the emptiest.
    fn home_of(&self, pool: &Pool, path: &RelPath) -> Result<Option<DiskId>> {
        let parent = path.parent().unwrap_or_default();
        let mut emptiest: Option<(ByteLength, DiskId)> = None;
        for member in self.homes(pool) {
            let Ok(disk) = member.writable() else { continue };
            if !parent.is_root() && disk.stat(&parent)?.is_some() {
                return Ok(Some(member.row.id));
            }
            let free = member.free_bytes(&pool.catalogue)?;
            if emptiest.is_none_or(|(most, _)| free > most) {
                emptiest = Some((free, member.row.id));
            }
        }
        Ok(emptiest.map(|(_, member)| member))
    }

    fn is_on_disks(&self, pool: &Pool, path: &RelPath) -> Result<bool> {
        for member in self.homes(pool) {
            if let Ok(disk) = member.usable()
                && disk.stat(path)?.is_some()
            {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Symlinks are made anew on a data disk; when the replicas know them there, those on the caches go (L8).
    pub(crate) fn move_symlinks(&self, pool: &Pool) -> Result<u64> {
        let mut made = Vec::new();
        for (cache, path, node) in self.of_kind(EntryKind::Symlink) {
            let from = pool.member(*cache)?.writable()?;
            let Some(stat) = from.stat(path)?.filter(|s| s.kind == EntryKind::Symlink) else { continue };
            let goes_to = from.read_link(path)?;
            let is_there = match self.is_on_disks(pool, path)? {
                true => self.has_same_symlink(pool, path, &goes_to)?,
                false => self.make_symlink(pool, from, path, &goes_to, stat.mtime, node)?,
            };
            if is_there {
                made.push((*cache, path, goes_to));
            }
        }
        if !made.is_empty() {
            replicas_follow(pool)?;
        }
        let mut count = 0;
        for (cache, path, goes_to) in made {
            let from = pool.member(cache)?.writable()?;
            let is_it = |stat: &Stat, aside: &RelPath| {
                Ok(stat.kind == EntryKind::Symlink && from.read_link(aside)? == goes_to)
            };
            if held::discard(&**from, pool.machine.random(), path, is_it)? {
                forget_node(pool, cache, path)?;
                count += 1;
            }
        }
        Ok(count)
    }

    fn make_symlink(
        &self,
        pool: &Pool,
        from: &Arc<dyn Disk>,
        path: &RelPath,
        goes_to: &[u8],
        mtime: i64,
        node: &NodeRow,
    ) -> Result<bool> {
        let Some(home) = self.home_of(pool, path)? else { return Ok(false) };
        let disk = pool.member(home)?.writable()?;
        if let Some(parent) = path.parent() {
            durable::make_folders(&**disk, &parent, |folder| looks_of(&**from, folder))?;
        }
        let attributes = Attributes { mtime, ..node.attributes.clone() };
        disk.make_symlink(goes_to, path)?;
        disk.set_attributes(path, &attributes)?;
        durable::sync_parents(&**disk, [path])?;
        let Some(made) = disk.stat(path)?.filter(|stat| stat.kind == EntryKind::Symlink) else {
            return Ok(false);
        };
        let (kind, ctime, target) = (EntryKind::Symlink, made.ctime, Some(goes_to.to_vec()));
        let on_disk = NodeRow { kind, attributes, ctime, target, recorded: 0 };
        pool.catalogue.transaction(|t| nodes::set(t, home, path, &on_disk))?;
        Ok(true)
    }

    fn has_same_symlink(&self, pool: &Pool, path: &RelPath, target: &[u8]) -> Result<bool> {
        for member in self.homes(pool) {
            let Ok(disk) = member.usable() else { continue };
            let is_link = disk.stat(path)?.is_some_and(|s| s.kind == EntryKind::Symlink);
            if is_link && disk.read_link(path)? == target {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Folders come on the disks as they were on the cache, which gives up those that are empty now.
    pub(crate) fn follow(&self, pool: &Pool) -> Result<()> {
        let mut made = Vec::new();
        for (cache, path, _) in self.of_kind(EntryKind::Folder) {
            if !self.is_on_disks(pool, path)?
                && let Some(home) = self.home_of(pool, path)?
            {
                let (from, to) = (pool.member(*cache)?.usable()?, pool.member(home)?.writable()?);
                for folder in durable::make_folders(&**to, path, |folder| looks_of(&**from, folder))? {
                    made.push((home, folder));
                }
            }
        }
        // The innermost first: everything in a folder moves its times.
        for (cache, path, node) in self.of_kind(EntryKind::Folder).rev() {
            for (home, _) in made.iter().filter(|(_, folder)| folder == path) {
                pool.member(*home)?.writable()?.set_time(path, node.attributes.mtime)?;
            }
            let from = Arc::clone(pool.member(*cache)?.writable()?);
            if self.tidy(pool, &*from, path, node)? {
                forget_node(pool, *cache, path)?;
            }
        }
        Ok(())
    }

    /// An empty folder goes, and it is told, unless its owner named it or may just have made it to put something in.
    fn tidy(&self, pool: &Pool, disk: &dyn Disk, path: &RelPath, node: &NodeRow) -> Result<bool> {
        if disk.stat(path)?.is_none_or(|stat| stat.kind != EntryKind::Folder) {
            return Ok(false);
        }
        let age = age_of([node.attributes.mtime, node.ctime], pool.machine.now());
        let is_old = age >= self.volume.cache.settle_after * NANOSECONDS_A_DAY;
        let is_named = self.volume.folders.iter().any(|folder| folder.path.is_within(path));
        let may_go = self.wanted.everything || is_old && !is_named;
        if may_go && disk.list(path)?.is_empty() {
            disk.remove_folder(path)?;
            durable::sync_parents(disk, [path])?;
            return Ok(true);
        }
        disk.set_time(path, node.attributes.mtime)?;
        Ok(false)
    }
}

fn forget_node(pool: &Pool, disk: DiskId, path: &RelPath) -> Result<()> {
    pool.catalogue.transaction(|t| nodes::remove(t, disk, path))
}
