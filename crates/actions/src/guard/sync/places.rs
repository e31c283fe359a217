//! Where contents lie, in words.

use sieve_catalogue::objects;
use sieve_core::units::{DiskId, VersionId};
use sieve_disk::Result;
use sieve_disk::full_path;
use sieve_pool::pool::Pool;

pub(super) fn places_of(pool: &Pool, disk: DiskId, object: &objects::ObjectRow) -> Result<Vec<String>> {
    let member = pool.member(disk)?;
    let real = member.usable()?;
    let names = objects::names(pool.catalogue.reading(), object.id)?;
    Ok(names.iter().map(|name| full_path(&**real, name).display().to_string()).collect())
}

pub(super) fn places(pool: &Pool, versions: &[VersionId]) -> Result<Vec<String>> {
    let mut found = Vec::new();
    for version in versions {
        let row = sieve_catalogue::versions::get(pool.catalogue.reading(), *version)?;
        if let Some(object) = objects::by_version(pool.catalogue.reading(), row.disk, *version)? {
            found.extend(places_of(pool, row.disk, &object)?);
        }
    }
    Ok(found)
}
