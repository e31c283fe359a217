//! Of the copies of a mirrored volume the one that stays, and those that are one too many.

use std::collections::{BTreeMap, HashMap};

use sieve_catalogue::label::Role;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{objects, versions};
use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::{ByteLength, DiskId, VersionId};
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
            let version: Option<VersionId> = object.version.filter(|_| object.standing == Standing::Same);
            let version = version.map(|version| versions::get(reading, version)).transpose()?;
            let sum = version.filter(|version| !version.unfinished).map(|version| version.sum);
            let (disk, disk_name) = (member.row.id, member.row.name.clone());
            files.entry(path).or_default().push(Copy { disk, disk_name, object, sum });
        }
    }
    Ok(files.into_iter().collect())
}

/// Chooses what stays, the largest files first, so that disks come out as evenly used as they can.
///
/// # Errors
/// When the copies of a file are not known to be one.
pub(super) fn choose(pool: &Pool, files: Vec<(RelPath, Vec<Copy>)>) -> Result<Vec<Surplus>> {
    let mut kept: HashMap<DiskId, ByteLength> = HashMap::new();
    let mut several: Vec<(RelPath, Vec<Copy>)> = Vec::new();
    for (path, copies) in files {
        if copies.len() == 1 {
            add(&mut kept, &copies[0]);
        } else if Copy::are_one(&copies) {
            several.push((path, copies));
        } else {
            let message = format!("the copies of {path} are not in one version");
            return Err(Error::new(Kind::Conflict, "convert.apart", message).remedy(
                "zinc-sieve sync brings them together, and says which cannot be; then run this again",
            ));
        }
    }
    several.sort_by_key(|(_, copies)| std::cmp::Reverse(copies[0].object.size));
    let mut surplus = Vec::new();
    for (path, mut copies) in several {
        let share = |copy: &Copy| {
            let space =
                pool.member(copy.disk).ok().and_then(|member| member.usable_bytes()).unwrap_or_default();
            kept.get(&copy.disk).map_or(0.0, |used| used.exact() as f64 / space.exact().max(1) as f64)
        };
        let emptiest = (0..copies.len()).min_by(|a, b| share(&copies[*a]).total_cmp(&share(&copies[*b])));
        let keep = copies.remove(emptiest.unwrap_or_default());
        add(&mut kept, &keep);
        surplus.push(Surplus { path, keep, go: copies });
    }
    Ok(surplus)
}

fn add(kept: &mut HashMap<DiskId, ByteLength>, copy: &Copy) {
    let used = kept.entry(copy.disk).or_default();
    *used = used.plus(copy.object.size);
}
