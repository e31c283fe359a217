//! One file from one place to another: copied, synced, read back.

use sieve_core::checksum::{ContentHasher, ContentSum};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, GRANULE};

use crate::content::{self, step_for};
use crate::disk::{Attributes, Disk, ReadFile, Stat, WriteFile};
use crate::error::{Error, Kind, Result};
use crate::event::{Observer, advance, heed};

/// The code of the error for a source that does not hold still.
pub(crate) const CHANGED: &str = "put.changed";

/// Copies a file to an unfinished one, holes as holes, and reads it back.
///
/// # Errors
/// When the source changes on the way, the copy differs, the observer wants no more, or what a disk says. The target is
/// left unfinished then.
pub(crate) fn copy_verified(
    input: &mut dyn ReadFile,
    size: ByteLength,
    disk: &dyn Disk,
    target: &RelPath,
    attributes: &Attributes,
    observer: &dyn Observer,
) -> Result<(ContentSum, Vec<Rows>)> {
    let before = input.stat()?;
    if before.size != size {
        return Err(changed());
    }
    let data = input.data_ranges()?;
    let mut output = disk.create(target)?;
    if data.last().is_none_or(|last| last.end() < size.granules()) {
        output.set_length(size.exact())?;
    }
    let sum = copy(input, &mut *output, size, &data, observer)?;
    refuse_changed(&before, &input.stat()?)?;
    output.set_attributes(attributes)?;
    output.sync()?;
    if content::checksum(&mut *output, size, |_| heed(observer))?.as_ref() != Some(&sum) {
        let message = format!("{}: what was written reads back differently", disk.root().display());
        return Err(Error::new(Kind::Io, "put.verify", message).remedy("do not trust this disk: check it"));
    }
    Ok((sum, output.data_ranges()?))
}

fn copy(
    input: &mut dyn ReadFile,
    output: &mut dyn WriteFile,
    size: ByteLength,
    data: &[Rows],
    observer: &dyn Observer,
) -> Result<ContentSum> {
    let mut hasher = ContentHasher::new(size);
    let mut buffer = vec![0; step_for(size)];
    let mut offset = 0;
    while offset < size.exact() {
        let count = input.read_at(&mut buffer, offset)?;
        if count == 0 {
            break;
        }
        hasher.update(&buffer[..count]);
        let end = offset + count as u64;
        let rows = Rows::new(offset / GRANULE, end.div_ceil(GRANULE));
        for part in data.iter().map(|d| d.intersection(rows)).filter(|p| !p.is_empty()) {
            let (from, to) = (part.start() * GRANULE, (part.end() * GRANULE).min(end));
            let at = |position: u64| usize::try_from(position - offset).expect("within the buffer");
            output.write_at(&buffer[at(from.max(offset))..at(to)], from.max(offset))?;
        }
        offset = end;
        advance(observer, count)?;
    }
    hasher.finish().ok_or_else(changed)
}

/// Half of one state and half of another is no copy of anything: whatever moved the times of a source refuses it.
pub(crate) fn refuse_changed(before: &Stat, after: &Stat) -> Result<()> {
    let stamp = |stat: &Stat| (stat.inode, stat.size, stat.mtime, stat.ctime);
    if stamp(before) == stamp(after) { Ok(()) } else { Err(changed()) }
}

pub(crate) fn changed() -> Error {
    Error::new(Kind::Conflict, CHANGED, "a source file changed while it was copied").remedy("put it again")
}
