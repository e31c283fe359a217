//! What waits on the caches of a volume.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::pool::{Landing, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId, ObjectId};

use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::count::Count;
use sieve_disk::Result;
use sieve_pool::pool::Pool;

/// A file on the caches, with the copies that there are of it.
#[derive(Clone, Debug)]
pub(crate) struct CachedFile {
    /// Its names, all on the same disk.
    pub(crate) names: Vec<RelPath>,
    /// The objects of its copies, each on its cache.
    pub(crate) copies: Vec<(DiskId, ObjectRow)>,
    /// What its owner wants of its folder.
    pub(crate) landing: Landing,
}

impl CachedFile {
    /// The copy that is read.
    pub(crate) fn object(&self) -> &ObjectRow {
        &self.copies[0].1
    }

    /// Since when it is there: copying sets the modification time to that of its source, and never the change time.
    pub(crate) fn arrived(&self) -> i64 {
        self.object().ctime
    }
}

/// The files on the caches that are there, as they were last scanned.
///
/// # Errors
/// What the database says.
pub(crate) fn cached_files(pool: &Pool, volume: &VolumeSpec) -> Result<Vec<CachedFile>> {
    let mut files: Vec<CachedFile> = Vec::new();
    let mut by_path: HashMap<RelPath, usize> = HashMap::new();
    let members: Vec<_> =
        pool.members_of(&volume.name, Role::Cache).filter(|member| member.state.is_usable()).collect();
    for (number, member) in members.iter().enumerate() {
        let has_next = number + 1 < members.len();
        let mut here: HashMap<ObjectId, usize> = HashMap::new();
        objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
            if path.is_held() {
                return Ok(());
            }
            if let Some(position) = here.get(&object.id) {
                let file = &mut files[*position];
                if !file.names.contains(&path) {
                    file.names.push(path);
                }
                return Ok(());
            }
            let twin = by_path.get(&path).copied();
            let position = twin.unwrap_or(files.len());
            here.insert(object.id, position);
            match twin {
                Some(position) => files[position].copies.push((member.row.id, object)),
                None => {
                    if has_next {
                        by_path.insert(path.clone(), position);
                    }
                    let landing = volume.landing_of(&path);
                    let copies = vec![(member.row.id, object)];
                    files.push(CachedFile { names: vec![path], copies, landing });
                }
            }
            Ok(())
        })?;
    }
    Ok(files)
}

/// The caches of a volume at a glance.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CacheStatus {
    /// The volume.
    pub volume: String,
    /// What waits for its place on the disks.
    pub waits: Count,
    /// Since when the oldest of it does, nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub since: Option<i64>,
    /// What stays on the cache for good.
    pub stays: Count,
    /// What of both one dead cache disk would take, if it is the worst one.
    pub one_disk_takes: Count,
    /// What settled already, and is held until the next sync.
    pub held: Count,
    /// What is to stay free on each cache disk.
    #[serde(rename = "reserve_bytes")]
    pub reserve: ByteLength,
    /// The least that is free on one.
    #[serde(rename = "free_bytes")]
    pub free: ByteLength,
    /// When it settles next, if that is regular, nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub settles_next: Option<i64>,
}

/// Looks at the caches of every volume that has some, as they were last scanned.
///
/// # Errors
/// What the database says.
pub fn caches(pool: &Pool) -> Result<Vec<CacheStatus>> {
    let mut all = Vec::new();
    for volume in pool.volumes().into_iter().filter(VolumeSpec::has_cache) {
        all.push(cache_status(pool, &volume)?);
    }
    Ok(all)
}

fn cache_status(pool: &Pool, volume: &VolumeSpec) -> Result<CacheStatus> {
    let mut status = CacheStatus {
        volume: volume.name.clone(),
        waits: Count::default(),
        since: None,
        stays: Count::default(),
        one_disk_takes: Count::default(),
        held: Count::default(),
        reserve: super::cache_reserve(pool, volume)?,
        free: super::cache_free(pool, volume)?,
        settles_next: None,
    };
    let mut taken: HashMap<DiskId, Count> = HashMap::new();
    for file in cached_files(pool, volume)? {
        let size = file.object().size;
        if file.landing == Landing::Stay {
            status.stays.add(size);
        } else {
            status.waits.add(size);
            status.since = Some(status.since.map_or(file.arrived(), |since: i64| since.min(file.arrived())));
        }
        if let [(only, _)] = file.copies.as_slice() {
            taken.entry(*only).or_default().add(size);
        }
    }
    status.settles_next = super::when::settles_next(pool, volume, status.since)?;
    status.one_disk_takes = taken.into_values().max_by_key(|count| count.bytes).unwrap_or_default();
    for member in pool.members_of(&volume.name, Role::Cache) {
        let held = sieve_catalogue::held_files::all(pool.catalogue.reading(), member.row.id)?;
        for row in held {
            let object = objects::by_path(pool.catalogue.reading(), member.row.id, &row.path)?;
            status.held.add(object.map(|object| object.size).unwrap_or_default());
        }
    }
    Ok(status)
}
