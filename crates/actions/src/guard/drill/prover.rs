//! One disk that is taken to be lost: its contents are put together cell by cell in memory, and checked.

use std::collections::BTreeMap;

use sieve_core::checksum::cell_sum;
use sieve_core::fate::{Fate, Recovered};
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, ObjectId, VersionId};

use crate::disks::rebuild::jobs::{Assembly, Job, assemblies, jobs, outcome};
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_disk::Result;
use sieve_pool::pool::Pool;
use sieve_rows::window::{Snapshot, SnapshotLane, Window};

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
    good: BTreeMap<VersionId, u64>,
    partial: BTreeMap<(VersionId, u64), Partial>,
    /// The record of the content used last, since its cells come one after another.
    at_hand: Option<VersionRow>,
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
        })
    }

    pub(super) const fn disk(&self) -> DiskId {
        self.disk
    }

    pub(super) const fn lane(&self) -> usize {
        self.lane
    }

    /// The cells of parity over which something of the disk lies.
    pub(super) fn cells(&self, snapshot: &Snapshot) -> Vec<CellIndex> {
        let Some(SnapshotLane { map: lane, .. }) = snapshot.lanes.get(self.lane) else { return Vec::new() };
        let geometry = snapshot.geometry;
        let wanted = lane.iter().filter(|piece| self.assemblies.contains_key(&piece.value.version));
        wanted.flat_map(|piece| geometry.cells(piece.rows)).collect()
    }

    /// Takes what a window has of this disk.
    pub(super) fn take(&mut self, pool: &Pool, lane: &LaneMap, window: &Window) -> Result<()> {
        for piece in lane.overlapping(window.rows) {
            let version = piece.value.version;
            if !self.assemblies.contains_key(&version) {
                continue;
            }
            let size = self.record(pool, version)?.cell_granules();
            let content = Rows::at(piece.value.offset, piece.rows.length());
            for cell in content.start() / size..content.end().div_ceil(size) {
                let part = Rows::at(cell * size, size).intersection(content);
                let place = Rows::at(piece.rows.start() + (part.start() - content.start()), part.length());
                self.part(pool, window, (version, cell), part, place)?;
            }
        }
        Ok(())
    }

    fn record(&mut self, pool: &Pool, version: VersionId) -> Result<&VersionRow> {
        if self.at_hand.as_ref().is_none_or(|row| row.id != version) {
            self.at_hand = Some(versions::get(pool.catalogue.reading(), version)?);
        }
        Ok(self.at_hand.as_ref().expect("it was just put there"))
    }

    /// Takes one part of a cell, `part` of the content at `place` in the lane; checks the cell when it is complete.
    fn part(
        &mut self,
        pool: &Pool,
        window: &Window,
        (version, cell): (VersionId, u64),
        part: Rows,
        place: Rows,
    ) -> Result<()> {
        let row = self.record(pool, version)?;
        let (_, length) = row.cell_span(cell);
        let whole = Rows::at(cell * row.cell_granules(), row.cell_granules());
        let expected_granules: u64 = row.data.iter().map(|d| d.intersection(whole).length()).sum();
        let Some(lane) = window.lanes.get(self.lane) else { return Ok(()) };
        let partial = self.partial.entry((version, cell)).or_insert_with(|| Partial {
            bytes: vec![0; usize::try_from(length).unwrap_or(0)],
            seen: 0,
            spoiled: false,
        });
        partial.seen += part.length();
        partial.spoiled |= lane.unknown.iter().any(|u| !u.intersection(place).is_empty());
        let at = |granules: u64| usize::try_from(granules * GRANULE).expect("a cell is in memory");
        let from =
            &lane.bytes[at(place.start() - window.rows.start())..at(place.end() - window.rows.start())];
        let start = at(part.start() - whole.start());
        let end = (start + from.len()).min(partial.bytes.len());
        partial.bytes[start..end].copy_from_slice(&from[..end - start]);
        if partial.seen < expected_granules {
            return Ok(());
        }
        if let Some(Partial { bytes, spoiled: false, .. }) = self.partial.remove(&(version, cell)) {
            self.check(pool, version, cell, &bytes)?;
        }
        Ok(())
    }

    fn check(&mut self, pool: &Pool, version: VersionId, cell: u64, bytes: &[u8]) -> Result<()> {
        let row = self.record(pool, version)?;
        let expected = usize::try_from(cell).ok().and_then(|index| row.sum.cells.get(index));
        let is_right = expected == Some(&cell_sum(row.sum.size, cell, bytes));
        *self.good.entry(version).or_default() += u64::from(is_right);
        Ok(())
    }

    /// Checks the cells that are nothing but holes, and settles how much of each content came out right.
    pub(super) fn settle(&mut self, pool: &Pool) -> Result<()> {
        let contents: Vec<VersionId> = self.assemblies.keys().copied().collect();
        for version in contents {
            let row = self.record(pool, version)?.clone();
            for cell in 0..row.sum.cells.len() as u64 {
                let whole = Rows::at(cell * row.cell_granules(), row.cell_granules());
                if row.data.iter().all(|d| d.intersection(whole).is_empty()) {
                    let zeros = vec![0; usize::try_from(row.cell_span(cell).1).unwrap_or(0)];
                    self.check(pool, version, cell, &zeros)?;
                }
            }
            let good = self.good.get(&version).copied().unwrap_or(0);
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

/// Whether an object belongs to a sample of that share: the same ones every time.
fn is_drawn(object: ObjectId, share: f64) -> bool {
    let hash = blake3::hash(&object.get().to_le_bytes());
    let number = u32::from_le_bytes(hash.as_bytes()[..4].try_into().expect("a hash has four bytes"));
    f64::from(number) < share * f64::from(u32::MAX)
}
