//! The members of a volume that take files now, and how much is free on each.

use sieve_catalogue::contents;
use std::collections::HashMap;

use sieve_core::landing::{Ground, Lander};
use sieve_core::path::RelPath;
use sieve_core::placement::Placement;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::ByteLength;

use crate::member::Member;
use crate::pool::Pool;
use crate::scan;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_disk::event::Silent;
use sieve_disk::{Error, Kind, Result};

/// Files that came within so many days tell how large the next ones will be.
const RECENT_DAYS: i64 = 30;
const DAY: i64 = 86_400_000_000_000;

/// The members that take files: data disks, then caches.
pub struct Grounds {
    /// Their positions among the pool's members.
    pub members: Vec<usize>,
    grounds: Vec<Ground>,
}

impl Grounds {
    /// Finds them. What was copied to a disk of limited capacity directly counts as well: it is looked for first, where that is
    /// short; else what the last scan knew counts, and what the filesystem says is free.
    ///
    /// # Errors
    /// When no data disk takes files; what a disk or the database says.
    pub fn open(pool: &Pool, volume: &VolumeSpec) -> Result<Self> {
        if scan::is_short(pool)? {
            scan::scan_all(pool, |member| takes_files(member, volume) && is_limited(member), &Silent)?;
        }
        Self::as_scanned(pool, volume)
    }

    /// As [`Self::open`], where the disks that are limited were just scanned.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn as_scanned(pool: &Pool, volume: &VolumeSpec) -> Result<Self> {
        let mut found = Self { members: Vec::new(), grounds: Vec::new() };
        for (position, member) in pool.members.iter().enumerate() {
            if !takes_files(member, volume) {
                continue;
            }
            found.members.push(position);
            found.grounds.push(Ground {
                name: member.row.name.clone(),
                is_cache: member.row.role == Role::Cache,
                total: member.usable_bytes().unwrap_or_default(),
                free: member.free_bytes(&pool.catalogue)?,
            });
        }
        if found.grounds.iter().all(|ground| ground.is_cache) {
            let message = format!("no data disk of {} takes files now", volume.name);
            return Err(Error::new(Kind::Safety, "put.no-disk", message).remedy("zinc-sieve status"));
        }
        Ok(found)
    }

    /// Without the caches: what comes is to stay where it comes.
    #[must_use]
    pub fn without_caches(self) -> Self {
        self.only(|ground| !ground.is_cache)
    }

    /// One disk of them alone.
    #[must_use]
    pub fn only_on(self, disk: &str) -> Self {
        self.only(|ground| ground.name == disk)
    }

    fn only(self, wanted: impl Fn(&Ground) -> bool) -> Self {
        let (members, grounds) =
            self.members.into_iter().zip(self.grounds).filter(|(_, g)| wanted(g)).unzip();
        Self { members, grounds }
    }

    /// Who finds places on them; `coming` is the largest file that is known to come.
    ///
    /// # Errors
    /// What the database says.
    pub fn lander(&self, pool: &Pool, volume: &VolumeSpec, coming: ByteLength) -> Result<Lander> {
        let largest = largest_recent(pool, volume)?.max(coming);
        let mut lander = Lander::new(volume, &self.grounds, largest);
        if volume.placement == Placement::KeepTogether {
            for (folder, disk) in self.homes(pool)? {
                lander.placer().settle_home(&folder, disk);
            }
        }
        Ok(lander)
    }

    /// For each folder the disk that has the most of it.
    fn homes(&self, pool: &Pool) -> Result<Vec<(RelPath, usize)>> {
        let mut most: HashMap<RelPath, (ByteLength, usize)> = HashMap::new();
        for (ground, position) in self.members.iter().enumerate().filter(|(g, _)| !self.grounds[*g].is_cache)
        {
            let mut here: HashMap<RelPath, ByteLength> = HashMap::new();
            let id = pool.members[*position].row.id;
            objects::for_each_name(pool.catalogue.reading(), id, |path, object| {
                let bytes = here.entry(path.parent().unwrap_or_default()).or_default();
                *bytes = bytes.plus(object.size);
                Ok(())
            })?;
            for (folder, bytes) in here {
                let home = most.entry(folder).or_insert((bytes, ground));
                if bytes > home.0 {
                    *home = (bytes, ground);
                }
            }
        }
        Ok(most.into_iter().map(|(folder, (_, disk))| (folder, disk)).collect())
    }
}

fn takes_files(member: &Member, volume: &VolumeSpec) -> bool {
    member.row.volume == volume.name && member.row.role.holds_files() && member.writable().is_ok()
}

/// Whether what is free on a disk follows from what lies on it.
pub fn is_limited(member: &Member) -> bool {
    member.spec.as_ref().is_some_and(|spec| spec.capacity.is_some())
}

/// Whether a volume keeps room free on its quick disks, so that it matters how large the next file is.
pub fn keeps_reserve(volume: &VolumeSpec) -> bool {
    volume.has_cache() || !volume.fast.is_empty()
}

/// The largest file of a volume that came of late.
///
/// # Errors
/// What the database says.
pub fn largest_recent(pool: &Pool, volume: &VolumeSpec) -> Result<ByteLength> {
    if !keeps_reserve(volume) {
        return Ok(ByteLength::ZERO);
    }
    let since = pool.machine.now().saturating_sub(RECENT_DAYS * DAY);
    contents::largest_since(pool.catalogue.reading(), &volume.name, since)
}
