//! The table of a parity image: a log of frames, one a checkpoint. docs/formats.md has it byte for byte.

use std::collections::BTreeMap;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{CheckpointId, ParityIndex};
use uuid::Uuid;

use sieve_disk::durable;
use sieve_disk::{Disk, full_path, read_small};
use sieve_disk::{Error, Kind, Result};

/// The code of the error for tables of newer formats.
pub(super) const NEWER: &str = "parity.newer";

const MAGIC: &[u8; 8] = b"ZSPARITY";
const FORMAT: u32 = 1;
const HEADER: usize = 64;
const FRAME_HEADER: usize = 24;
const FRAME_MAGIC: &[u8; 4] = b"ZSFR";
const ENTRY: usize = 32;
const SUM: usize = 16;
/// A table holds at most 128 MB when compacted, and is compacted when it has doubled.
const LARGEST: u64 = 512 << 20;

/// Where one cell lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The slot in the segment files.
    pub slot: u32,
    /// The checkpoint that it is of.
    pub checkpoint: CheckpointId,
    /// The first 128 bits of the BLAKE3 of the cell.
    pub sum: [u8; 16],
}

/// What a table says, and how many entries its log has.
#[derive(Debug, Default)]
pub(super) struct Table {
    pub(super) entries: BTreeMap<u32, Entry>,
    pub(super) logged: usize,
    /// There are frames that the catalogue does not know: they are dropped before anything is added.
    pub(super) has_strangers: bool,
}

pub(super) fn path() -> RelPath {
    OurPlace::ParityTable.path()
}

fn header(pool: Uuid, index: ParityIndex, geometry: CellGeometry) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(HEADER);
    bytes.extend_from_slice(MAGIC);
    bytes.extend_from_slice(&FORMAT.to_le_bytes());
    bytes.extend_from_slice(&u32::from(index.get()).to_le_bytes());
    bytes.extend_from_slice(&geometry.cell_bytes().to_le_bytes());
    bytes.extend_from_slice(pool.as_bytes());
    bytes.resize(HEADER - SUM, 0);
    let sum = blake3::hash(&bytes);
    bytes.extend_from_slice(&sum.as_bytes()[..SUM]);
    bytes
}

/// A frame: what a checkpoint changed.
pub(super) fn frame(checkpoint: CheckpointId, entries: &BTreeMap<u32, Entry>) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(FRAME_HEADER + entries.len() * ENTRY + SUM);
    bytes.extend_from_slice(FRAME_MAGIC);
    bytes.extend_from_slice(&u32::try_from(entries.len()).unwrap_or(u32::MAX).to_le_bytes());
    bytes.extend_from_slice(&checkpoint.get().to_le_bytes());
    bytes.resize(FRAME_HEADER, 0);
    for (cell, entry) in entries {
        bytes.extend_from_slice(&cell.to_le_bytes());
        bytes.extend_from_slice(&entry.slot.to_le_bytes());
        bytes.extend_from_slice(&entry.checkpoint.get().to_le_bytes());
        bytes.extend_from_slice(&entry.sum);
    }
    let sum = blake3::hash(&bytes);
    bytes.extend_from_slice(&sum.as_bytes()[..SUM]);
    bytes
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

/// A frame of the log: what one checkpoint changed, by cell.
#[derive(Debug)]
struct Frame {
    checkpoint: CheckpointId,
    entries: Vec<(u32, Entry)>,
}

/// Cuts the first whole and undamaged frame off; nothing when there is none (the log ends, or a write of its
/// end was cut short).
fn split_frame(bytes: &[u8]) -> Option<(Frame, &[u8])> {
    if bytes.get(..4)? != FRAME_MAGIC {
        return None;
    }
    let count = u32_at(bytes, 4)? as usize;
    let end = FRAME_HEADER.checked_add(count.checked_mul(ENTRY)?)?;
    let sum = bytes.get(end..end.checked_add(SUM)?)?;
    if blake3::hash(&bytes[..end]).as_bytes()[..SUM] != *sum {
        return None;
    }
    let entries = bytes[FRAME_HEADER..end].as_chunks::<ENTRY>().0.iter().map(|raw| {
        let entry = Entry {
            slot: u32_at(raw, 4)?,
            checkpoint: CheckpointId::new(u64_at(raw, 8)?),
            sum: *raw[16..].first_chunk()?,
        };
        Some((u32_at(raw, 0)?, entry))
    });
    let frame =
        Frame { checkpoint: CheckpointId::new(u64_at(bytes, 8)?), entries: entries.collect::<Option<_>>()? };
    Some((frame, &bytes[end + SUM..]))
}

/// Reads a table as far as the catalogue knows its checkpoints.
///
/// A frame of a checkpoint that never was committed (a crash, or another history) switches nothing; but what
/// it may have overwritten is no longer trusted.
///
/// # Errors
/// When the file is not the table of this image, or of a newer format.
pub(super) fn read(
    disk: &dyn Disk,
    expected: (Uuid, ParityIndex, CellGeometry),
    mut knows: impl FnMut(CheckpointId) -> Result<bool>,
) -> Result<Table> {
    if disk.stat(&path())?.is_none() {
        return Ok(Table::default());
    }
    let place = full_path(disk, &path());
    let corrupt = |why: &str| {
        Error::new(Kind::Corrupt, "parity.table", format!("{}: the parity table {why}", place.display()))
    };
    let bytes = read_small(disk, &path(), LARGEST)?;
    if bytes.get(..8) != Some(MAGIC) {
        return Err(corrupt("is none"));
    }
    let sum = bytes.get(HEADER - SUM..HEADER);
    let is_whole = sum.is_some_and(|sum| blake3::hash(&bytes[..HEADER - SUM]).as_bytes()[..SUM] == *sum);
    if is_whole && u32_at(&bytes, 8).is_none_or(|format| format > FORMAT) {
        let message = format!("{}: the parity table has a newer format", place.display());
        return Err(Error::new(Kind::Corrupt, NEWER, message).remedy("use a newer zinc-sieve"));
    }
    let (pool, index, geometry) = expected;
    if bytes.get(..HEADER) != Some(&header(pool, index, geometry)[..]) {
        return Err(corrupt("is damaged, or that of another image"));
    }
    let mut table = Table::default();
    let mut overwritten: Vec<u32> = Vec::new();
    let mut rest = &bytes[HEADER..];
    while let Some((frame, after)) = split_frame(rest) {
        rest = after;
        let is_base = frame.checkpoint.get() == 0;
        table.logged += frame.entries.len();
        let known = is_base || knows(frame.checkpoint)?;
        for (cell, entry) in frame.entries {
            if known && (!is_base || knows(entry.checkpoint)?) {
                table.entries.insert(cell, entry);
            } else {
                table.has_strangers = true;
                overwritten.push(entry.slot);
            }
        }
    }
    table.has_strangers |= !rest.is_empty();
    overwritten.sort_unstable();
    table.entries.retain(|_, entry| overwritten.binary_search(&entry.slot).is_err());
    Ok(table)
}

/// Writes the table anew, as one base frame (checkpoint 0: each entry carries its own).
///
/// # Crash safety
/// The old table stays whole until the new one is durable.
///
/// # Errors
/// What the disk says.
pub(super) fn rewrite(
    disk: &dyn Disk,
    expected: (Uuid, ParityIndex, CellGeometry),
    entries: &BTreeMap<u32, Entry>,
) -> Result<()> {
    let mut bytes = header(expected.0, expected.1, expected.2);
    bytes.extend_from_slice(&frame(CheckpointId::new(0), entries));
    durable::write_file(disk, &path(), &bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(slot: u32, checkpoint: u64) -> Entry {
        Entry { slot, checkpoint: CheckpointId::new(checkpoint), sum: [7; 16] }
    }

    #[test]
    fn frames_are_read_back_and_hostile_bytes_do_no_harm() {
        let entries = BTreeMap::from([(3, entry(9, 5)), (4, entry(1, 5))]);
        let bytes = frame(CheckpointId::new(5), &entries);
        let (frame, rest) = split_frame(&bytes).unwrap();
        assert_eq!(frame.checkpoint.get(), 5);
        assert_eq!((frame.entries.into_iter().collect::<BTreeMap<_, _>>(), rest), (entries, &[][..]));
        for cut in 0..bytes.len() {
            assert!(split_frame(&bytes[..cut]).is_none());
        }
        for at in 0..bytes.len() {
            let mut flipped = bytes.clone();
            flipped[at] ^= 0x10;
            assert!(split_frame(&flipped).is_none(), "a flipped bit at {at} goes unnoticed");
        }
    }
}
