//! Of the copies of a mirrored volume the one that stays, and those that are one too many.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use sieve_catalogue::label::Role;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{contents, objects};
use sieve_core::checksum::ContentSum;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId, ObjectId};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

/// A file on one disk.
#[derive(Clone, Debug)]
pub(super) struct Copy {
    pub(super) disk: DiskId,
    pub(super) disk_name: String,
    pub(super) object: ObjectRow,
    /// What it holds, where that was recorded and it is as it was then.
    pub(super) sum: Option<ContentSum>,
}

impl Copy {
    /// Whether all are known to hold the same.
    pub(super) fn are_one(copies: &[Self]) -> bool {
        copies.iter().all(|copy| copy.sum.is_some() && copy.sum == copies[0].sum)
    }
}

/// A file that lies on more disks than it needs.
#[derive(Clone, Debug)]
pub(super) struct Surplus {
    pub(super) path: RelPath,
    pub(super) keep: Copy,
    pub(super) go: Vec<Copy>,
    /// The same for all names of one file, which follow each other.
    pub(super) group: usize,
}

/// The files of a volume on its data disks, as the last scan knew them.
///
/// # Errors
/// What the database says.
pub(super) fn by_path(pool: &Pool, volume: &VolumeSpec) -> Result<Vec<(RelPath, Vec<Copy>)>> {
    let reading = pool.catalogue.reading();
    let mut files: BTreeMap<RelPath, Vec<Copy>> = BTreeMap::new();
    for member in pool.members_of(&volume.name, Role::Data) {
        let mut found = Vec::new();
        objects::for_each_name(reading, member.row.id, |path, object| {
            if !path.is_ours() {
                found.push((path, object));
            }
            Ok(())
        })?;
        for (path, object) in found {
            let sum = contents::present(reading, &object)?;
            let (disk, disk_name) = (member.row.id, member.row.name.clone());
            files.entry(path).or_default().push(Copy { disk, disk_name, object, sum });
        }
    }
    Ok(files.into_iter().collect())
}

/// Chooses what stays, the largest files first, so that disks come out as evenly used as they can. All names of a file stay on
/// one disk, where one has them all: on several they would be files of their own.
///
/// # Errors
/// When the copies of a file are not known to be one.
pub(super) fn choose(pool: &Pool, files: Vec<(RelPath, Vec<Copy>)>) -> Result<Vec<Surplus>> {
    if let Some((path, _)) = files.iter().find(|(_, copies)| copies.len() > 1 && !Copy::are_one(copies)) {
        let message = format!("the copies of {path} are not in one version");
        return Err(Error::new(Kind::Conflict, "convert.apart", message)
            .remedy("zinc-sieve sync brings them together, and says which cannot be; then run this again"));
    }
    let mut kept: HashMap<DiskId, ByteLength> = HashMap::new();
    let (several, single): (Vec<_>, Vec<_>) =
        grouped(files).into_iter().partition(|names| names.iter().any(|(_, copies)| copies.len() > 1));
    single.iter().filter_map(|names| names.first()).for_each(|(_, copies)| add(&mut kept, &copies[0]));
    let mut several: Vec<Vec<(RelPath, Vec<Copy>)>> = several;
    several.sort_by_key(|names| std::cmp::Reverse(names[0].1[0].object.size));
    let mut surplus = Vec::new();
    for (group, names) in several.into_iter().enumerate() {
        let has = |disk: DiskId, copies: &[Copy]| copies.iter().any(|copy| copy.disk == disk);
        let with_all: Vec<DiskId> = names[0].1.iter().map(|copy| copy.disk).collect();
        let with_all: Vec<DiskId> =
            with_all.into_iter().filter(|disk| names.iter().all(|(_, copies)| has(*disk, copies))).collect();
        let common = emptiest(pool, &kept, &with_all);
        for (position, (path, mut copies)) in names.into_iter().enumerate() {
            let disks: Vec<DiskId> = copies.iter().map(|copy| copy.disk).collect();
            let stays = common.or_else(|| emptiest(pool, &kept, &disks));
            let keep = copies.remove(disks.iter().position(|disk| Some(*disk) == stays).unwrap_or_default());
            // One file, whatever it is called.
            if common.is_none() || position == 0 {
                add(&mut kept, &keep);
            }
            if !copies.is_empty() {
                surplus.push(Surplus { path, keep, go: copies, group });
            }
        }
    }
    Ok(surplus)
}

/// Of these disks the one that what stays fills the least.
fn emptiest(pool: &Pool, kept: &HashMap<DiskId, ByteLength>, disks: &[DiskId]) -> Option<DiskId> {
    let share = |disk: &DiskId| {
        let space = pool.member(*disk).ok().and_then(|member| member.usable_bytes()).unwrap_or_default();
        kept.get(disk).map_or(0.0, |used| used.exact() as f64 / space.exact().max(1) as f64)
    };
    disks.iter().copied().min_by(|a, b| share(a).total_cmp(&share(b)))
}

/// The files of a volume with all names of each together: names are of one file where they are on any disk.
fn grouped(files: Vec<(RelPath, Vec<Copy>)>) -> Vec<Vec<(RelPath, Vec<Copy>)>> {
    let mut group_of: HashMap<ObjectId, usize> = HashMap::new();
    let mut groups: Vec<Vec<(RelPath, Vec<Copy>)>> = Vec::new();
    for (path, copies) in files {
        let known: BTreeSet<usize> =
            copies.iter().filter_map(|copy| group_of.get(&copy.object.id).copied()).collect();
        let group = known.first().copied().unwrap_or_else(|| {
            groups.push(Vec::new());
            groups.len() - 1
        });
        // A name that is one with names of several groups makes them one.
        for other in known.into_iter().filter(|other| *other != group) {
            let names = std::mem::take(&mut groups[other]);
            names.iter().flat_map(|(_, copies)| copies).for_each(|copy| {
                group_of.insert(copy.object.id, group);
            });
            groups[group].extend(names);
        }
        copies.iter().for_each(|copy| {
            group_of.insert(copy.object.id, group);
        });
        groups[group].push((path, copies));
    }
    groups.retain(|names| !names.is_empty());
    groups
}

/// Pieces of about so many files, in which all names of a file are.
pub(super) fn batches(surplus: &[Surplus], size: usize) -> Vec<&[Surplus]> {
    let (mut batches, mut rest) = (Vec::new(), surplus);
    while !rest.is_empty() {
        let ends = |end: &usize| rest.get(*end).is_none_or(|next| next.group != rest[*end - 1].group);
        let end = (size.min(rest.len())..=rest.len()).find(ends).unwrap_or(rest.len());
        let (batch, left) = rest.split_at(end);
        batches.push(batch);
        rest = left;
    }
    batches
}

fn add(kept: &mut HashMap<DiskId, ByteLength>, copy: &Copy) {
    let used = kept.entry(copy.disk).or_default();
    *used = used.plus(copy.object.size);
}
