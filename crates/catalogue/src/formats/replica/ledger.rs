//! What each member has of the catalogue, so that only what changed since has to follow. It is kept beside the catalogue;
//! where it is not there or not whole, whole copies are made.
//!
//! All numbers are little endian: magic, format (u32), page size (u32), the last number of an export (u32), disks (u32) and
//! pages (u32); for each disk its number in the catalogue (i64), the checkpoint (number u64, id u64) and the export (u32) that
//! it has; for each page its hash (16 bytes) and the export with which it last changed (u32). At the end the BLAKE3 of all.

use std::collections::BTreeMap;

use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{CheckpointId, DiskId};
use sieve_disk::{Disk, Result, durable};

use super::chain::Stamp;
use super::changes::{PageHash, State, hash_of};
use super::pages::Pages;

const MAGIC: &[u8; 16] = b"catalogue parts\n";
const FORMAT: u32 = 1;

#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Ledger {
    page_size: u32,
    /// The number of the last export.
    export: u32,
    /// What was put on each disk last, and by which export.
    disks: BTreeMap<i64, (Stamp, u32)>,
    /// How each page is, and by which export it was first seen so.
    pages: Vec<(PageHash, u32)>,
}

fn place() -> RelPath {
    OurPlace::Folder.with("catalogue.parts")
}

impl Ledger {
    pub(super) fn read(home: &dyn Disk) -> Self {
        let read = || -> Result<Option<Self>> {
            if home.stat(&place())?.is_none() {
                return Ok(None);
            }
            let mut file = home.open(&place())?;
            let mut bytes = Vec::new();
            sieve_disk::copying::for_each_part(&mut *file, 0, None, |part| {
                bytes.extend_from_slice(part);
                Ok(())
            })?;
            Ok(Self::decode(&bytes))
        };
        // It only saves work: without it everything is written whole.
        read().ok().flatten().unwrap_or_default()
    }

    pub(super) fn write(&self, home: &dyn Disk) -> Result<()> {
        durable::write_file(home, &place(), &self.encode())
    }

    /// Looks at the pages as they are now: from here on it knows which ones differ from what was put on each disk.
    pub(super) fn advance(&mut self, pages: &Pages) -> Result<()> {
        let page_size = u32::try_from(pages.size).unwrap_or(u32::MAX);
        if self.page_size != page_size || self.export == u32::MAX {
            *self = Self { page_size, ..Self::default() };
        }
        self.export += 1;
        self.pages.truncate(pages.count as usize);
        pages.for_each(|_| true, &mut |number, bytes| {
            let (index, now) = (number as usize - 1, hash_of(bytes));
            match self.pages.get_mut(index) {
                Some((hash, _)) if *hash == now => {}
                Some(page) => *page = (now, self.export),
                None => self.pages.push((now, self.export)),
            }
            Ok(())
        })
    }

    /// All of the catalogue in one hash.
    pub(super) fn state(&self) -> [u8; 32] {
        let mut state = State::default();
        self.pages.iter().for_each(|(hash, _)| state.add(hash));
        state.finish()
    }

    /// The checkpoint that was put on a disk, and the export that did so.
    pub(super) fn of(&self, disk: DiskId) -> Option<(Stamp, u32)> {
        self.disks.get(&disk.get()).copied()
    }

    pub(super) fn note(&mut self, disk: DiskId, stamp: Stamp) {
        self.disks.insert(disk.get(), (stamp, self.export));
    }

    /// Whether a page is another since that export.
    pub(super) fn changed_since(&self, export: u32, page: u32) -> bool {
        self.pages.get(page as usize - 1).is_none_or(|(_, changed)| *changed > export)
    }

    fn encode(&self) -> Vec<u8> {
        let mut bytes = MAGIC.to_vec();
        let counts = [self.disks.len(), self.pages.len()].map(|n| u32::try_from(n).expect("fewer than 2^32"));
        for number in [FORMAT, self.page_size, self.export].into_iter().chain(counts) {
            bytes.extend(number.to_le_bytes());
        }
        for (disk, (stamp, export)) in &self.disks {
            bytes.extend(disk.to_le_bytes());
            bytes.extend(stamp.number.to_le_bytes());
            bytes.extend(stamp.id.get().to_le_bytes());
            bytes.extend(export.to_le_bytes());
        }
        for (hash, export) in &self.pages {
            bytes.extend(hash);
            bytes.extend(export.to_le_bytes());
        }
        let hash = blake3::hash(&bytes);
        bytes.extend(hash.as_bytes());
        bytes
    }

    fn decode(bytes: &[u8]) -> Option<Self> {
        let (bytes, hash) = bytes.split_last_chunk::<32>()?;
        if blake3::hash(bytes).as_bytes() != hash {
            return None;
        }
        let mut rest = bytes.strip_prefix(MAGIC)?;
        let rest = &mut rest;
        let (format, page_size, export) = (four(rest)?, four(rest)?, four(rest)?);
        let (disks, pages) = (four(rest)?, four(rest)?);
        if format != FORMAT {
            return None;
        }
        let mut ledger = Self { page_size, export, ..Self::default() };
        for _ in 0..disks {
            let disk = eight(rest)?.cast_signed();
            let stamp = Stamp { number: eight(rest)?, id: CheckpointId::new(eight(rest)?) };
            ledger.disks.insert(disk, (stamp, four(rest)?));
        }
        for _ in 0..pages {
            ledger.pages.push((*take(rest)?, four(rest)?));
        }
        rest.is_empty().then_some(ledger)
    }
}

fn take<'a, const N: usize>(rest: &mut &'a [u8]) -> Option<&'a [u8; N]> {
    let (first, after) = rest.split_first_chunk()?;
    *rest = after;
    Some(first)
}

fn four(rest: &mut &[u8]) -> Option<u32> {
    take(rest).map(|bytes| u32::from_le_bytes(*bytes))
}

fn eight(rest: &mut &[u8]) -> Option<u64> {
    take(rest).map(|bytes| u64::from_le_bytes(*bytes))
}
