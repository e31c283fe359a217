//! One disk that is taken to be lost: its contents are put together cell by cell in memory, and checked.

use std::collections::{BTreeMap, BTreeSet};

use rusqlite::Connection;

use sieve_core::checksum::cell_sum;
use sieve_core::fate::{Fate, Recovered};
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, ObjectId, VersionId};

use crate::disks::rebuild::jobs::{Assembly, Job, assemblies, jobs, outcome};
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_disk::Result;
use sieve_pool::pool::Pool;
use sieve_rows::stream::solve::RowSink;
use sieve_rows::window::{Snapshot, SnapshotLane};

/// A cell of a content while its granules come in.
struct Partial {
    bytes: Vec<u8>,
    /// Granules that came in, known or not.
    seen: u64,
    /// One of them is not known.
    spoiled: bool,
}

pub(super) struct Prover {
    disk: DiskId,
    lane: usize,
    jobs: Vec<Job>,
    assemblies: BTreeMap<VersionId, Assembly>,
    /// Cells of each content that came out right.
    good: BTreeMap<VersionId, Cells>,
    partial: BTreeMap<(VersionId, u64), Partial>,
    /// The record of the content used last, since its cells come one after another.
    at_hand: Option<VersionRow>,
    /// A connection of its own: rows come in on the thread that computes them.
    reading: Connection,
}

/// Some cells of a content: most contents have few.
#[derive(Default)]
struct Cells {
    first: u64,
    others: BTreeSet<u64>,
}

impl Cells {
    fn insert(&mut self, cell: u64) {
        if cell < 64 {
            self.first |= 1 << cell;
        } else {
            self.others.insert(cell);
        }
    }

    fn remove(&mut self, cell: u64) {
        if cell < 64 {
            self.first &= !(1 << cell);
        } else {
            self.others.remove(&cell);
        }
    }

    fn count(&self) -> u64 {
        u64::from(self.first.count_ones()) + self.others.len() as u64
    }
}

impl Prover {
    pub(super) fn open(
        pool: &Pool,
        disk: DiskId,
        lane: usize,
        newest_replica: u32,
        sample: Option<f64>,
    ) -> Result<Self> {
        let mut jobs = jobs(pool, disk)?;
        if let Some(share) = sample {
            jobs.retain(|job| is_drawn(job.object, share));
        }
        let assemblies = assemblies(pool, disk, &jobs, newest_replica)?;
        Ok(Self {
            disk,
            lane,
            jobs,
            assemblies,
            good: BTreeMap::new(),
            partial: BTreeMap::new(),
            at_hand: None,
            reading: sieve_catalogue::open_reading(pool.catalogue.path())?,
        })
    }

    pub(super) const fn disk(&self) -> DiskId {
        self.disk
    }

    /// The cells of parity over which something of the disk lies.
    pub(super) fn cells(&self, snapshot: &Snapshot) -> Vec<CellIndex> {
        let Some(SnapshotLane { map: lane, .. }) = snapshot.lanes.get(self.lane) else { return Vec::new() };
        let geometry = snapshot.geometry;
        let wanted = lane.iter().filter(|piece| self.assemblies.contains_key(&piece.value.version));
        wanted.flat_map(|piece| geometry.cells(piece.rows)).collect()
    }

    fn record(&mut self, version: VersionId) -> Result<&VersionRow> {
        if self.at_hand.as_ref().is_none_or(|row| row.id != version) {
            self.at_hand = Some(versions::get(&self.reading, version)?);
        }
        Ok(self.at_hand.as_ref().expect("it was just put there"))
    }

    /// Takes one part of a cell, `part` of the content, with its bytes; checks the cell when it is complete.
    fn part(
        &mut self,
        (version, cell): (VersionId, u64),
        part: Rows,
        bytes: &[u8],
        is_known: bool,
    ) -> Result<()> {
        let row = self.record(version)?;
        let (_, length) = row.cell_span(cell);
        let whole = Rows::at(cell * row.cell_granules(), row.cell_granules());
        let expected_granules: u64 = row.data.iter().map(|d| d.intersection(whole).length()).sum();
        let partial = self.partial.entry((version, cell)).or_insert_with(|| Partial {
            bytes: vec![0; usize::try_from(length).unwrap_or(0)],
            seen: 0,
            spoiled: false,
        });
        partial.seen += part.length();
        partial.spoiled |= !is_known;
        if !is_known && let Some(good) = self.good.get_mut(&version) {
            // It came out right from bytes that turned out not to be what was checksummed: that counts for nothing (I3).
            good.remove(cell);
        }
        let start = in_memory(part.start() - whole.start());
        let end = (start + bytes.len()).min(partial.bytes.len());
        partial.bytes[start..end].copy_from_slice(&bytes[..end - start]);
        if partial.seen < expected_granules {
            return Ok(());
        }
        // What does not come out right stays: the same rows may come again, looked at with care.
        let Some(whole) = self.partial.remove(&(version, cell)) else { return Ok(()) };
        if !whole.spoiled && !self.check(version, cell, &whole.bytes)? {
            self.partial.insert((version, cell), whole);
        }
        Ok(())
    }

    fn check(&mut self, version: VersionId, cell: u64, bytes: &[u8]) -> Result<bool> {
        let row = self.record(version)?;
        let expected = usize::try_from(cell).ok().and_then(|index| row.sum.cells.get(index));
        let is_right = expected == Some(&cell_sum(row.sum.size, cell, bytes));
        if is_right {
            self.good.entry(version).or_default().insert(cell);
        }
        Ok(is_right)
    }

    /// Checks the cells that are nothing but holes, and settles how much of each content came out right.
    pub(super) fn settle(&mut self) -> Result<()> {
        let contents: Vec<VersionId> = self.assemblies.keys().copied().collect();
        for version in contents {
            let row = self.record(version)?.clone();
            for cell in 0..row.sum.cells.len() as u64 {
                let whole = Rows::at(cell * row.cell_granules(), row.cell_granules());
                if row.data.iter().all(|d| d.intersection(whole).is_empty()) {
                    let zeros = vec![0; usize::try_from(row.cell_span(cell).1).unwrap_or(0)];
                    self.check(version, cell, &zeros)?;
                }
            }
            let good = self.good.get(&version).map_or(0, Cells::count);
            let state = match good {
                _ if good == row.sum.cells.len() as u64 => Recovered::Whole,
                0 => Recovered::Nothing,
                _ => Recovered::Pieces,
            };
            self.assemblies.get_mut(&version).expect("it is one of them").state = Some(state);
        }
        Ok(())
    }

    /// What became of each object that was looked at: object, size, fate.
    pub(super) fn outcomes(&self) -> impl Iterator<Item = (ObjectId, ByteLength, Fate)> {
        self.jobs.iter().map(|job| (job.object, job.size, outcome(job, &self.assemblies).0))
    }
}

impl RowSink for Prover {
    fn lane(&self) -> usize {
        self.lane
    }

    fn take_rows(&mut self, map: &LaneMap, rows: Rows, bytes: &[u8], unknown: &[Rows]) -> Result<()> {
        for piece in map.overlapping(rows) {
            let version = piece.value.version;
            if !self.assemblies.contains_key(&version) {
                continue;
            }
            let size = self.record(version)?.cell_granules();
            let content = Rows::at(piece.value.offset, piece.rows.length());
            for cell in content.start() / size..content.end().div_ceil(size) {
                let part = Rows::at(cell * size, size).intersection(content);
                let place = Rows::at(piece.rows.start() + (part.start() - content.start()), part.length());
                let is_known = unknown.iter().all(|unknown| unknown.intersection(place).is_empty());
                let of_place = in_memory(place.start() - rows.start())..in_memory(place.end() - rows.start());
                self.part((version, cell), part, &bytes[of_place], is_known)?;
            }
        }
        Ok(())
    }
}

fn in_memory(granules: u64) -> usize {
    usize::try_from(granules * GRANULE).expect("a cell is in memory")
}

/// Whether an object belongs to a sample of that share: the same ones every time.
fn is_drawn(object: ObjectId, share: f64) -> bool {
    let hash = blake3::hash(&object.get().to_le_bytes());
    let number = u32::from_le_bytes(hash.as_bytes()[..4].try_into().expect("a hash has four bytes"));
    f64::from(number) < share * f64::from(u32::MAX)
}
