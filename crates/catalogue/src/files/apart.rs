//! Files of mirrored volumes whose copies went separate ways: until they are the same again, none of them is the newest.

use std::collections::BTreeSet;

use rusqlite::Connection;
use sieve_core::path::RelPath;

use crate::objects::path_of;
use sieve_disk::Result;

/// All of a volume.
///
/// # Errors
/// What the database says.
pub fn all(c: &Connection, volume: &str) -> Result<BTreeSet<RelPath>> {
    let mut statement = c.prepare_cached("SELECT path FROM apart WHERE volume = ?1")?;
    let mut rows = statement.query([volume])?;
    let mut found = BTreeSet::new();
    while let Some(row) = rows.next()? {
        found.insert(path_of(&row.get::<_, Vec<u8>>(0)?)?);
    }
    Ok(found)
}

/// Notes which ones there are now.
///
/// # Errors
/// What the database says.
pub fn set(c: &Connection, volume: &str, paths: &[RelPath]) -> Result<()> {
    c.execute("DELETE FROM apart WHERE volume = ?1", [volume])?;
    let mut statement = c.prepare_cached("INSERT INTO apart VALUES (?1, ?2)")?;
    for path in paths {
        statement.execute((volume, path.tree_key()))?;
    }
    Ok(())
}
