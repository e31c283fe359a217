//! Reading and copying whole files, a step at a time.

use sieve_core::checksum::{ContentHasher, ContentSum};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, GRANULE};

use crate::event::{Observer, advance, heed};
use crate::{Attributes, Disk, ReadFile, Stat, WriteFile};
use crate::{Error, Kind, Result};

/// How much is read at once.
pub const READ_STEP: usize = 1 << 18;

/// As much as is read at once of a file of that size.
pub(crate) fn step_for(size: ByteLength) -> usize {
    usize::try_from(size.exact()).unwrap_or(READ_STEP).min(READ_STEP)
}

/// The code of the error for a source that does not hold still.
pub const CHANGED: &str = "put.changed";

/// Copies a file to an unfinished one, holes as holes: what is written is neither durable nor read back yet.
///
/// # Errors
/// When the source changes on the way, the observer wants no more, or what a disk says. The target is left unfinished then.
pub fn copy_hashed(
    input: &mut dyn ReadFile,
    size: ByteLength,
    disk: &dyn Disk,
    target: &RelPath,
    attributes: &Attributes,
    observer: &dyn Observer,
) -> Result<(Box<dyn WriteFile>, ContentSum)> {
    let before = input.stat()?;
    if before.size != size {
        return Err(changed());
    }
    let data = input.data_ranges()?;
    let mut output = disk.create(target)?;
    if data.last().is_none_or(|last| last.end() < size.granules()) {
        output.set_length(size.exact())?;
    }
    let sum = copy_hashing(input, &mut *output, size, &data, observer)?;
    refuse_changed(&before, &input.stat()?)?;
    output.set_attributes(attributes)?;
    Ok((output, sum))
}

/// Reads a durable copy back, as far as the system does so from the medium, and compares; returns its granules that are no
/// holes.
///
/// # Errors
/// When it differs, the observer wants no more, or what the disk says.
pub fn read_back(
    disk: &dyn Disk,
    copy: &mut dyn WriteFile,
    sum: &ContentSum,
    observer: &dyn Observer,
) -> Result<Vec<Rows>> {
    // What is durable need not stay in memory: without it there, it comes from the disk.
    copy.let_go(0, 0);
    if checksum(copy, sum.size, |_| heed(observer))?.as_ref() != Some(sum) {
        let message = format!("{}: what was written reads back differently", disk.root().display());
        return Err(Error::new(Kind::Io, "put.verify", message).remedy("do not trust this disk: check it"));
    }
    copy.data_ranges()
}

fn copy_hashing(
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
pub fn refuse_changed(before: &Stat, after: &Stat) -> Result<()> {
    let stamp = |stat: &Stat| (stat.inode, stat.size, stat.mtime, stat.ctime);
    if stamp(before) == stamp(after) { Ok(()) } else { Err(changed()) }
}

/// The error for a source that changed while it was read.
pub fn changed() -> Error {
    Error::new(Kind::Conflict, CHANGED, "a source file changed while it was copied").remedy("put it again")
}

/// Copies all bytes of a file and makes the copy durable; `each` sees them on the way.
///
/// # Errors
/// What a disk says, and what `each` says.
pub fn copy(
    input: &mut dyn ReadFile,
    output: &mut dyn WriteFile,
    each: impl FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    copy_bytes(input, output, each)?;
    output.sync()
}

/// As [`copy`], but that nothing is durable yet.
///
/// # Errors
/// As there.
pub fn copy_bytes(
    input: &mut dyn ReadFile,
    output: &mut dyn WriteFile,
    mut each: impl FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    let mut buffer = vec![0; READ_STEP];
    let mut offset = 0;
    loop {
        let count = input.read_at(&mut buffer, offset)?;
        if count == 0 {
            return Ok(());
        }
        each(&buffer[..count])?;
        output.write_at(&buffer[..count], offset)?;
        offset += count as u64;
    }
}

/// Reads a file from an offset on, so many bytes of it or all, a step at a time.
///
/// # Errors
/// Those of `take`, what the disk says, and when it is shorter.
pub fn for_each_part(
    file: &mut dyn ReadFile,
    from: u64,
    length: Option<ByteLength>,
    mut take: impl FnMut(&[u8]) -> Result<()>,
) -> Result<()> {
    let mut buffer = vec![0; READ_STEP];
    let end = length.map(|length| from + length.exact());
    let mut offset = from;
    while end.is_none_or(|end| offset < end) {
        let left = end.map_or(READ_STEP as u64, |end| end - offset);
        let wanted = usize::try_from(left).unwrap_or(READ_STEP).min(READ_STEP);
        match (file.read_at(&mut buffer[..wanted], offset)?, end) {
            (0, None) => break,
            (0, Some(_)) => {
                return Err(Error::new(Kind::Corrupt, "file.short", "a file is shorter than it should be"));
            }
            (count, _) => {
                take(&buffer[..count])?;
                offset += count as u64;
            }
        }
    }
    Ok(())
}

/// Reads a whole file and computes its checksums; nothing when it has another length than expected.
///
/// # Errors
/// What the disk says, and what `read` says, who hears of every part that was read.
pub fn checksum(
    file: &mut dyn ReadFile,
    size: ByteLength,
    mut read: impl FnMut(u64) -> Result<()>,
) -> Result<Option<ContentSum>> {
    let mut hasher = ContentHasher::new(size);
    let mut buffer = vec![0; step_for(size)];
    let mut offset = 0;
    while offset < size.exact() {
        let count = file.read_at(&mut buffer, offset)?;
        if count == 0 {
            return Ok(None);
        }
        hasher.update(&buffer[..count]);
        offset += count as u64;
        read(count as u64)?;
    }
    let is_as_long = file.stat()?.size == size;
    Ok(hasher.finish().filter(|_| is_as_long))
}
