//! The table of a parity image: a log of frames, one a checkpoint. docs/formats.md has it byte for byte.

use std::collections::{BTreeMap, HashMap};

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CheckpointId, ParityIndex};
use uuid::Uuid;

use super::index::{EntryAt, Index, Located};
use sieve_disk::durable;
use sieve_disk::{Disk, ReadFile, WriteFile, full_path};
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
/// So much of a table is read or written at once;
const STEP: usize = 64 << 10;
/// and so much where single entries are looked up: their neighbours are wanted next, most often.
const PAGE_BYTES: usize = 4096;
/// A table is compacted when it has doubled: 128 MB are the most that an image has when it is made, and with larger disks since
/// it grows beyond that.
const LARGEST: u64 = 4 << 30;

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
#[derive(Default)]
pub(super) struct Table {
    pub(super) entries: Index,
    pub(super) logged: usize,
    /// There are frames that the catalogue does not know: they are dropped before anything is added.
    pub(super) has_strangers: bool,
    /// Its file, for the checksums: it stays what it was read as, whoever writes the table anew meanwhile.
    pub(super) log: Option<Log>,
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

fn frame_header(checkpoint: CheckpointId, count: usize) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(FRAME_HEADER);
    bytes.extend_from_slice(FRAME_MAGIC);
    bytes.extend_from_slice(&u32::try_from(count).unwrap_or(u32::MAX).to_le_bytes());
    bytes.extend_from_slice(&checkpoint.get().to_le_bytes());
    bytes.resize(FRAME_HEADER, 0);
    bytes
}

fn put_entry(bytes: &mut Vec<u8>, cell: u32, entry: &Entry) {
    bytes.extend_from_slice(&cell.to_le_bytes());
    bytes.extend_from_slice(&entry.slot.to_le_bytes());
    bytes.extend_from_slice(&entry.checkpoint.get().to_le_bytes());
    bytes.extend_from_slice(&entry.sum);
}

fn entry_of(raw: &[u8]) -> Option<(u32, Entry)> {
    let entry = Entry {
        slot: u32_at(raw, 4)?,
        checkpoint: CheckpointId::new(u64_at(raw, 8)?),
        sum: *raw.get(16..)?.first_chunk()?,
    };
    Some((u32_at(raw, 0)?, entry))
}

/// A frame: what a checkpoint changed.
pub(super) fn frame(checkpoint: CheckpointId, entries: &BTreeMap<u32, Entry>) -> Vec<u8> {
    let mut bytes = frame_header(checkpoint, entries.len());
    entries.iter().for_each(|(cell, entry)| put_entry(&mut bytes, *cell, entry));
    let sum = blake3::hash(&bytes);
    bytes.extend_from_slice(&sum.as_bytes()[..SUM]);
    bytes
}

/// Of an entry that the file does not have yet: nothing is read of it.
pub(super) const NOT_YET: EntryAt = EntryAt::BEYOND;

/// Where the entry of that position is of a frame that begins at `frame`.
pub(super) fn entry_in(frame: u64, position: usize) -> Option<EntryAt> {
    EntryAt::of_offset(frame + (FRAME_HEADER + position * ENTRY) as u64)
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(*bytes.get(at..)?.first_chunk()?))
}

/// The file of a table, read piece by piece: that of the largest image is larger than it is to be in memory.
pub(super) struct Log {
    file: Box<dyn ReadFile>,
    /// What was read last, and where it begins.
    at_hand: Vec<u8>,
    start: u64,
}

/// A frame that is whole and undamaged: what one checkpoint changed.
struct Frame {
    checkpoint: CheckpointId,
    start: u64,
    count: usize,
}

impl Frame {
    const fn end(&self) -> u64 {
        self.start + (FRAME_HEADER + self.count * ENTRY + SUM) as u64
    }
}

impl Log {
    pub(super) fn open(disk: &dyn Disk) -> Result<Self> {
        Ok(Self { file: disk.open(&path())?, at_hand: Vec::new(), start: 0 })
    }

    /// Bytes of the file; nothing beyond its end. At least as many as `ahead` are read at once.
    fn bytes(&mut self, at: u64, length: usize, ahead: usize) -> Result<Option<&[u8]>> {
        let end = self.start + self.at_hand.len() as u64;
        if at < self.start || at + length as u64 > end {
            self.at_hand.resize(length.max(ahead), 0);
            let read = self.file.read_at(&mut self.at_hand, at);
            self.at_hand.truncate(*read.as_ref().unwrap_or(&0));
            self.start = at;
            read?;
        }
        let from = usize::try_from(at - self.start).expect("it is at hand");
        Ok(self.at_hand.get(from..from + length))
    }

    /// The frame at a place; nothing when there is none (the log ends, or a write of its end was cut short).
    fn frame(&mut self, start: u64) -> Result<Option<Frame>> {
        let Some(header) = self.bytes(start, FRAME_HEADER, FRAME_HEADER)? else { return Ok(None) };
        let (Some(count), Some(checkpoint)) = (u32_at(header, 4), u64_at(header, 8)) else { return Ok(None) };
        if header.get(..4) != Some(FRAME_MAGIC) {
            return Ok(None);
        }
        let frame = Frame { checkpoint: CheckpointId::new(checkpoint), start, count: count as usize };
        let (mut hasher, mut at, end) = (blake3::Hasher::new(), start, frame.end() - SUM as u64);
        while at < end {
            let length = usize::try_from(end - at).unwrap_or(usize::MAX).min(STEP);
            let Some(bytes) = self.bytes(at, length, STEP)? else { return Ok(None) };
            hasher.update(bytes);
            at += length as u64;
        }
        let sum = self.bytes(end, SUM, SUM)?;
        Ok(sum.is_some_and(|sum| hasher.finalize().as_bytes()[..SUM] == *sum).then_some(frame))
    }

    /// The entry at a place, as long as the file has it there.
    fn entry(&mut self, at: EntryAt, ahead: usize) -> Result<Option<(u32, Entry)>> {
        Ok(self.bytes(at.offset(), ENTRY, ahead)?.and_then(entry_of))
    }

    /// The checksum of a cell; nothing where the file does not say what was read of it before.
    pub(super) fn sum(&mut self, cell: u32, located: Located) -> Result<Option<[u8; SUM]>> {
        let found = self.entry(located.at, PAGE_BYTES)?;
        let is_it = |(number, entry): &(u32, Entry)| {
            (*number, entry.slot, entry.checkpoint) == (cell, located.slot, located.checkpoint)
        };
        Ok(found.filter(is_it).map(|(_, entry)| entry.sum))
    }
}

/// Reads a table as far as the catalogue knows its checkpoints; `slots` are so many as the disk can hold.
///
/// A frame of a checkpoint that never was committed (a crash, or another history) switches nothing; but what
/// it may have overwritten is no longer trusted.
///
/// # Errors
/// When the file is not the table of this image, or of a newer format.
pub(super) fn read(
    disk: &dyn Disk,
    expected: (Uuid, ParityIndex, CellGeometry),
    slots: u64,
    mut knows: impl FnMut(CheckpointId) -> Result<bool>,
) -> Result<Table> {
    let Some(stat) = disk.stat(&path())? else { return Ok(Table::default()) };
    let mut log = Log::open(disk)?;
    check_header(disk, &mut log, stat.size, expected)?;
    let mut table = Table::default();
    let mut overwritten: Vec<u32> = Vec::new();
    // Each checkpoint is asked for once: there are few, beside the cells.
    let mut asked = HashMap::new();
    let mut is_known = |checkpoint: CheckpointId| match asked.get(&checkpoint) {
        Some(known) => Ok(*known),
        None => knows(checkpoint).inspect(|known| _ = asked.insert(checkpoint, *known)),
    };
    let mut at = HEADER as u64;
    while let Some(frame) = log.frame(at)? {
        at = frame.end();
        let is_base = frame.checkpoint.get() == 0;
        table.logged += frame.count;
        let known = is_base || is_known(frame.checkpoint)?;
        for position in 0..frame.count {
            let place = entry_in(frame.start, position);
            let found = place.map(|at| log.entry(at, STEP)).transpose()?.flatten();
            let (Some(at), Some((cell, entry))) = (place, found) else {
                return Err(corrupt(disk, "changed while it was read"));
            };
            if known && (!is_base || is_known(entry.checkpoint)?) {
                let located = Located { slot: entry.slot, checkpoint: entry.checkpoint, at };
                table.entries.insert(cell, located);
            } else {
                table.has_strangers = true;
                overwritten.push(entry.slot);
            }
            if table.entries.is_beyond(slots) {
                return Err(corrupt(disk, "names cells that cannot be there"));
            }
        }
    }
    table.has_strangers |= at < stat.size.exact();
    overwritten.sort_unstable();
    if !overwritten.is_empty() {
        table.entries.retain(|slot| overwritten.binary_search(&slot).is_err());
    }
    // Few entries are looked up again, each with its neighbours.
    log.at_hand = Vec::new();
    table.log = Some(log);
    Ok(table)
}

fn corrupt(disk: &dyn Disk, why: &str) -> Error {
    let place = full_path(disk, &path());
    Error::new(Kind::Corrupt, "parity.table", format!("{}: the parity table {why}", place.display()))
}

fn check_header(
    disk: &dyn Disk,
    log: &mut Log,
    size: ByteLength,
    (pool, index, geometry): (Uuid, ParityIndex, CellGeometry),
) -> Result<()> {
    if size.exact() > LARGEST {
        return Err(corrupt(disk, "is larger than that of any image"));
    }
    let bytes = log.bytes(0, HEADER, HEADER)?.unwrap_or_default().to_vec();
    if log.bytes(0, MAGIC.len(), MAGIC.len())? != Some(MAGIC) {
        return Err(corrupt(disk, "is none"));
    }
    let sum = bytes.get(HEADER - SUM..HEADER);
    let is_whole = sum.is_some_and(|sum| blake3::hash(&bytes[..HEADER - SUM]).as_bytes()[..SUM] == *sum);
    if is_whole && u32_at(&bytes, 8).is_none_or(|format| format > FORMAT) {
        let message = format!("{}: the parity table has a newer format", full_path(disk, &path()).display());
        return Err(Error::new(Kind::Corrupt, NEWER, message).remedy("use a newer zinc-sieve"));
    }
    if bytes != header(pool, index, geometry) {
        return Err(corrupt(disk, "is damaged, or that of another image"));
    }
    Ok(())
}

/// Writes the table anew, as one base frame (checkpoint 0: each entry carries its own). Checksums come from `fresh`, and for
/// all other cells from the old file.
///
/// # Crash safety
/// The old table stays whole until the new one is durable.
///
/// # Errors
/// What the disk says, or when the old file no longer has what was read of it.
pub(super) fn rewrite(
    disk: &dyn Disk,
    expected: (Uuid, ParityIndex, CellGeometry),
    entries: &mut Index,
    mut old: Option<&mut Log>,
    fresh: &BTreeMap<u32, Entry>,
) -> Result<Log> {
    durable::write_file_with(disk, &path(), |file| {
        let mut out = Writer { file, bytes: header(expected.0, expected.1, expected.2), at: 0 };
        out.flush()?;
        let mut hasher = blake3::Hasher::new();
        out.bytes = frame_header(CheckpointId::new(0), entries.len());
        for (cell, located) in entries.iter() {
            let old_sum = |old: Option<&mut Log>| old.map_or(Ok(None), |old| old.sum(cell, located));
            let sum = match fresh.get(&cell) {
                Some(entry) => Some(entry.sum),
                None => old_sum(old.as_deref_mut())?,
            };
            let sum = sum.ok_or_else(|| corrupt(disk, "is not what it was a moment ago"))?;
            put_entry(
                &mut out.bytes,
                cell,
                &Entry { slot: located.slot, checkpoint: located.checkpoint, sum },
            );
            if out.bytes.len() >= STEP {
                hasher.update(&out.bytes);
                out.flush()?;
            }
        }
        hasher.update(&out.bytes);
        out.bytes.extend_from_slice(&hasher.finalize().as_bytes()[..SUM]);
        out.flush()
    })?;
    entries.moved(|position| entry_in(HEADER as u64, position).expect("no image has so many cells"));
    Log::open(disk)
}

/// Bytes on their way to the end of a file.
struct Writer<'f> {
    file: &'f mut dyn WriteFile,
    bytes: Vec<u8>,
    at: u64,
}

impl Writer<'_> {
    fn flush(&mut self) -> Result<()> {
        self.file.write_at(&self.bytes, self.at)?;
        self.at += self.bytes.len() as u64;
        self.bytes.clear();
        Ok(())
    }
}

/// The bytes of a table with one base frame of these entries, handed on piece by piece.
#[cfg(test)]
pub(super) fn bytes_of(
    expected: (Uuid, ParityIndex, CellGeometry),
    entries: impl ExactSizeIterator<Item = (u32, Entry)>,
    mut write: impl FnMut(&[u8]),
) {
    write(&header(expected.0, expected.1, expected.2));
    let mut hasher = blake3::Hasher::new();
    let mut bytes = frame_header(CheckpointId::new(0), entries.len());
    for (cell, entry) in entries {
        put_entry(&mut bytes, cell, &entry);
        if bytes.len() >= STEP {
            hasher.update(&bytes);
            write(&bytes);
            bytes.clear();
        }
    }
    hasher.update(&bytes);
    write(&bytes);
    write(&hasher.finalize().as_bytes()[..SUM]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use sieve_disk::RealDisk;

    fn entry(slot: u32, checkpoint: u64) -> Entry {
        Entry { slot, checkpoint: CheckpointId::new(checkpoint), sum: [7; 16] }
    }

    #[test]
    fn frames_are_read_back_and_hostile_bytes_do_no_harm() {
        let folder = tempfile::tempdir().expect("a folder");
        let disk = RealDisk::open(folder.path()).expect("a disk");
        durable::make_own_folder(&disk, &OurPlace::Parity.path()).expect("a folder");
        let log_of = |bytes: &[u8]| {
            durable::write_file(&disk, &path(), bytes).expect("it is written");
            Log::open(&disk).expect("it is there")
        };
        let entries = BTreeMap::from([(3, entry(9, 5)), (4, entry(1, 5))]);
        let bytes = frame(CheckpointId::new(5), &entries);
        let mut log = log_of(&bytes);
        let found = log.frame(0).expect("it is read").expect("it is whole");
        assert_eq!((found.checkpoint.get(), found.end()), (5, bytes.len() as u64));
        for (position, (cell, entry)) in entries.iter().enumerate() {
            let at = entry_in(0, position).expect("it is near");
            assert_eq!(log.entry(at, ENTRY).expect("it is read"), Some((*cell, *entry)));
            let mut located = Located { slot: entry.slot, checkpoint: entry.checkpoint, at };
            assert_eq!(log.sum(*cell, located).expect("it is read"), Some(entry.sum));
            located.slot += 1;
            assert_eq!(log.sum(*cell, located).expect("it is read"), None, "the file says something else");
        }
        for cut in 0..bytes.len() {
            assert!(log_of(&bytes[..cut]).frame(0).expect("it is read").is_none());
        }
        for at in 0..bytes.len() {
            let mut flipped = bytes.clone();
            flipped[at] ^= 0x10;
            let found = log_of(&flipped).frame(0).expect("it is read");
            assert!(found.is_none(), "a flipped bit at {at} goes unnoticed");
        }
    }
}
