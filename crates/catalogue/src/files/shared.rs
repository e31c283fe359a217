//! Paths that several disks of a volume have: copies, or files that contradict each other.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BinaryHeap, HashSet};

use rusqlite::{Connection, Rows};
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;
use sieve_disk::Result;

use crate::objects::path_of;
use crate::{disks, unsigned};

/// A path that several disks of a volume have.
pub struct SharedPath {
    /// The volume.
    pub volume: String,
    /// The path.
    pub path: RelPath,
    /// The disks.
    pub disks: Vec<String>,
    /// How many different contents there are under it, as far as is known.
    pub contents: u64,
}

/// Visits the paths that several disks of a volume have, until `visit` says that it has enough.
///
/// # Errors
/// What the database says.
pub fn for_each_path(c: &Connection, mut visit: impl FnMut(SharedPath) -> bool) -> Result<()> {
    let mut volumes: BTreeMap<String, Vec<DiskId>> = BTreeMap::new();
    for disk in disks::all(c)? {
        volumes.entry(disk.volume).or_default().push(disk.id);
    }
    // What is put aside has names of its own, but for names that another history brought.
    let mut statement = c.prepare("SELECT path FROM held")?;
    let held = statement.query_map([], |row| row.get(0))?;
    let held: HashSet<Vec<u8>> = held.collect::<rusqlite::Result<_>>()?;
    for (volume, disks) in volumes {
        let is_enough = for_each_meeting(c, &disks, |path| {
            if held.contains(path) {
                return Ok(true);
            }
            Ok(visit(shared_path(c, &volume, path)?))
        })?;
        if is_enough {
            break;
        }
    }
    Ok(())
}

/// Shows the paths to `meet` that several of these disks have, in their order, until it says that it has enough; tells
/// whether it did.
fn for_each_meeting(
    c: &Connection,
    disks: &[DiskId],
    mut meet: impl FnMut(&[u8]) -> Result<bool>,
) -> Result<bool> {
    let sql = "SELECT path FROM name WHERE disk = ?1 ORDER BY path";
    let mut statements = disks.iter().map(|_| c.prepare(sql)).collect::<rusqlite::Result<Vec<_>>>()?;
    let mut names = Vec::new();
    for (statement, disk) in statements.iter_mut().zip(disks) {
        names.push(statement.query([disk.get()])?);
    }
    let next = |names: &mut Rows<'_>| -> Result<Option<Vec<u8>>> {
        Ok(names.next()?.map(|row| row.get(0)).transpose()?)
    };
    let mut heads = BinaryHeap::new();
    for (position, names) in names.iter_mut().enumerate() {
        heads.extend(next(names)?.map(|path| Reverse((path, position))));
    }
    let mut last: Option<Vec<u8>> = None;
    let mut is_met = false;
    while let Some(Reverse((path, position))) = heads.pop() {
        let is_again = last.as_ref() == Some(&path);
        if is_again && !is_met && !meet(&path)? {
            return Ok(true);
        }
        is_met = is_again;
        last = Some(path);
        heads.extend(next(&mut names[position])?.map(|path| Reverse((path, position))));
    }
    Ok(false)
}

fn shared_path(c: &Connection, volume: &str, path: &[u8]) -> Result<SharedPath> {
    let (disks, contents): (String, i64) = c
        .prepare_cached(
            "SELECT group_concat(d.name, ' ' ORDER BY d.name),
                 COUNT(DISTINCT CASE WHEN o.standing = 0 AND v.id IS NOT NULL THEN hex(v.whole) ELSE o.id END)
             FROM disk d JOIN name n ON n.disk = d.id AND n.path = ?2 JOIN object o ON o.id = n.object
                 LEFT JOIN version v ON v.id = o.version
             WHERE d.volume = ?1",
        )?
        .query_row((volume, path), |row| Ok((row.get(0)?, row.get(1)?)))?;
    Ok(SharedPath {
        volume: volume.into(),
        path: path_of(path)?,
        disks: disks.split(' ').map(str::to_string).collect(),
        contents: unsigned(contents),
    })
}
