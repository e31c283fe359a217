//! A damaged cell that is overwritten where its file lies, and what the next start does when that was cut off.

use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::GRANULE;
use sieve_disk::Result;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// A damaged cell, and what it is to be.
pub(super) struct Patch {
    pub(super) cell: u64,
    pub(super) offset: u64,
    pub(super) bytes: Vec<u8>,
    pub(super) kept: RelPath,
}

/// Writes the bytes over the damaged ones, after they and the intent are durable.
pub(super) fn mend_in_place(
    pool: &Pool,
    member: &Member,
    object: &ObjectRow,
    path: &RelPath,
    patch: &Patch,
) -> Result<()> {
    let disk = member.writable()?;
    let mut name = patch.kept.as_bytes().to_vec();
    name.extend_from_slice(b".good");
    let good = RelPath::new(name).expect("a valid path with a suffix is one");
    durable::write_file(&**disk, &good, &patch.bytes)?;
    let intent = Intent::Mend {
        disk: member.row.id,
        object: object.id,
        path: path.tree_key(),
        kept: patch.kept.tree_key(),
        offset: patch.offset,
    };
    let id = pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
    overwrite(&**disk, path, patch.offset, &patch.bytes, object)?;
    finish_in_place(pool, &**disk, object, path, &good, id)
}

fn overwrite(disk: &dyn Disk, path: &RelPath, offset: u64, bytes: &[u8], object: &ObjectRow) -> Result<()> {
    let mut file = disk.modify(path)?;
    file.write_at(bytes, offset)?;
    file.sync()?;
    if let Some(stat) = disk.stat(path)? {
        let attributes = Attributes { mtime: object.mtime, ..Attributes::of(&stat, Vec::new()) };
        disk.set_attributes(path, &attributes)?;
    }
    Ok(())
}

fn finish_in_place(
    pool: &Pool,
    disk: &dyn Disk,
    object: &ObjectRow,
    path: &RelPath,
    good: &RelPath,
    intent: i64,
) -> Result<()> {
    accept_stat(pool, disk, object, path)?;
    pool.catalogue.transaction(|t| intents::remove(t, intent))?;
    disk.remove_file(good)?;
    durable::sync_parents(disk, [good])
}

/// Our own writing moved the change time, and perhaps the inode; that alone raises no doubt.
fn accept_stat(pool: &Pool, disk: &dyn Disk, object: &ObjectRow, path: &RelPath) -> Result<()> {
    let Some(stat) = disk.stat(path)? else { return Ok(()) };
    pool.catalogue.transaction(|t| objects::set_stat(t, object.id, &stat, Standing::Same))
}

/// Finishes what a crash interrupted in place: every block of the cell must be one that was there, or one that was being
/// written; else somebody else wrote to the file, and it is left alone.
///
/// # Errors
/// What the disk or the database says.
pub(crate) fn recover(pool: &Pool, id: i64, intent: &Intent) -> Result<()> {
    let Intent::Mend { disk, object, path, kept, offset } = intent else { return Ok(()) };
    let member = pool.member(*disk)?;
    let Ok(real) = member.writable() else { return Ok(()) }; // kept for when the disk is back
    let (path, kept) = (objects::path_of(path)?, objects::path_of(kept)?);
    let mut name = kept.as_bytes().to_vec();
    name.extend_from_slice(b".good");
    let good = RelPath::new(name).expect("a valid path with a suffix is one");
    let object = objects::get(pool.catalogue.reading(), *object)?;
    if let (Some(object), Some(stat), true) = (object, real.stat(&path)?, real.stat(&good)?.is_some())
        && (stat.inode, stat.size) == (object.inode, object.size)
    {
        let (old, new) = (read_all(&**real, &kept)?, read_all(&**real, &good)?);
        let mut now = vec![0; new.len()];
        let length = real.open(&path)?.read_at(&mut now, *offset)?;
        let block = usize::try_from(GRANULE).expect("a granule is small");
        let blocks = now.chunks(block).zip(old.chunks(block).zip(new.chunks(block)));
        if length == new.len() && blocks.into_iter().all(|(now, (old, new))| now == old || now == new) {
            overwrite(&**real, &path, *offset, &new, &object)?;
            return finish_in_place(pool, &**real, &object, &path, &good, id);
        }
    }
    pool.catalogue.transaction(|t| intents::remove(t, id))
}

pub(super) fn read_all(disk: &dyn Disk, path: &RelPath) -> Result<Vec<u8>> {
    sieve_disk::read_small(disk, path, 2 << 30)
}
