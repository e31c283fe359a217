//! The disk that takes the place of another one. Where the pool file has an entry for it already, in no volume, that entry says
//! what it is (its serial number, its bay, what it cost), and goes: one disk has one entry.

use std::path::Path;

use sieve_catalogue::pool_file::Edit;
use sieve_core::pool::DiskSpec;
use sieve_core::units::ByteLength;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// The entry that the pool file has for the disk at a place.
pub(super) fn entry<'p>(pool: &'p Pool, at: &Path) -> Option<&'p DiskSpec> {
    pool.spec.disks.iter().find(|disk| {
        let is_there = disk.path.as_deref().is_some_and(|path| Path::new(path) == at);
        is_there && pool.spec.volume_of(&disk.name).is_none()
    })
}

/// What describes the new disk: its own entry, else that of the disk it takes over from.
pub(super) fn described<'p>(pool: &'p Pool, member: &'p Member, at: &Path) -> Option<&'p DiskSpec> {
    entry(pool, at).or(member.spec.as_ref())
}

/// What is known of a new disk, as the pool file says it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct About {
    /// Its serial number.
    pub serial: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// The bay that it is in.
    pub bay: Option<String>,
    /// The day it was bought.
    pub bought: Option<String>,
    /// What it cost.
    pub price: Option<String>,
}

impl About {
    fn notes(&self) -> Vec<(String, String)> {
        let all = [
            ("serial", &self.serial),
            ("model", &self.model),
            ("bay", &self.bay),
            ("bought", &self.bought),
            ("price", &self.price),
        ];
        all.into_iter().filter_map(|(key, text)| Some((key.to_string(), text.clone()?))).collect()
    }
}

/// The changes of the pool file. The serial number of a disk that left would have somebody pull the wrong one.
pub(super) fn edits(
    pool: &Pool,
    name: &str,
    at: &str,
    capacity: Option<ByteLength>,
    about: &About,
) -> Vec<Edit> {
    let disk = || name.to_string();
    let by = entry(pool, Path::new(at)).map(|entry| entry.name.clone());
    let forgets = by.is_none();
    let mut edits: Vec<Edit> = by.map(|by| Edit::Succeed { disk: disk(), by }).into_iter().collect();
    // A disk of no volume that was in that bay was pulled out of it.
    let is_pulled = |spec: &&DiskSpec| {
        spec.bay.is_some()
            && spec.bay == about.bay
            && spec.name != name
            && pool.spec.volume_of(&spec.name).is_none()
    };
    let pulled = pool.spec.disks.iter().filter(is_pulled).filter(|spec| spec.path.as_deref() != Some(at));
    edits.extend(pulled.map(|spec| Edit::NoBay { disk: spec.name.clone() }));
    edits.push(Edit::About { disk: disk(), forgets, notes: about.notes() });
    edits.push(Edit::Path { disk: disk(), path: at.into() });
    edits.extend(capacity.map(|bytes| Edit::Capacity { disk: disk(), bytes: bytes.exact() }));
    edits
}
