//! Finding out what lies on the disks, and what changed since the catalogue was last brought up to date.

mod apply;
mod compare;
mod walk;

pub use compare::DiskChanges;

use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

use crate::error::Result;
use crate::member::Member;
use crate::pool::Pool;

/// What a scan of one disk found.
#[derive(Clone, Debug, Default, Serialize)]
pub struct ScanReport {
    /// The disk.
    pub disk: String,
    /// Files there are (names; held ones not counted).
    pub files: u64,
    /// Files that were known before.
    pub known: u64,
    /// New files.
    pub new: u64,
    /// Files whose content changed, or may have.
    pub changed: u64,
    /// Files whose names changed.
    pub renamed: u64,
    /// Names that are gone.
    pub gone: u64,
    /// Files that had content and are empty now.
    pub emptied: u64,
    /// Bytes of new and changed files.
    pub changed_bytes: ByteLength,
    /// What was left alone, in words: special files, other filesystems, folders that cannot be read.
    pub left_alone: Vec<String>,
}

/// Scans a member and brings the catalogue up to date.
///
/// # Crash safety
/// The catalogue takes all that was found in one transaction. Nothing on the disk changes.
///
/// # Errors
/// What the disk or the database says: a folder that cannot be read ends the scan, since its files must not
/// look as if they were gone.
pub fn scan(pool: &Pool, member: &Member) -> Result<ScanReport> {
    let disk = member.usable()?;
    let leave_out = pool
        .spec
        .volumes
        .iter()
        .find(|v| v.name == member.row.volume)
        .map(|v| v.leave_out.clone())
        .unwrap_or_default();
    let changes = compare::compare(&pool.catalogue, member.row.id, &**disk, &leave_out)?;
    apply::apply(pool, member, &**disk, changes)
}

/// Counts the ordinary files on a disk that is no member yet, and their bytes.
///
/// # Errors
/// What the disk says.
pub fn count(disk: &dyn crate::disk::Disk) -> Result<(u64, ByteLength)> {
    let mut walk = walk::Walk::begin(disk, &[])?;
    let (mut files, mut bytes) = (0, ByteLength::ZERO);
    while let Some(found) = walk.next()? {
        if found.stat.kind == crate::disk::EntryKind::File {
            files += 1;
            bytes = bytes.plus(found.stat.size);
        }
    }
    Ok((files, bytes))
}

/// Whether a name is one of a held file.
pub(crate) fn is_held(path: &RelPath) -> bool {
    path.is_within(&crate::member::held_folder())
}
