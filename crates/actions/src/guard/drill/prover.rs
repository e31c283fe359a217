//! One disk that is taken to be lost: its contents are put together cell by cell in memory, and checked.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use rusqlite::Connection;

use sieve_core::fate::{Fate, Recovered};
use sieve_core::units::{ByteLength, CellIndex, DiskId, ObjectId, VersionId};

use crate::disks::rebuild::jobs::{Assembly, Job, assemblies, jobs, outcome};
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_disk::Result;
use sieve_pool::pool::Pool;
use sieve_rows::stream::gather::{CellTaker, Gatherer};
use sieve_rows::stream::solve::RowSink;
use sieve_rows::window::{Snapshot, SnapshotLane};

pub(super) struct Prover {
    disk: DiskId,
    lane: usize,
    jobs: Vec<Job>,
    gatherer: Gatherer<Proofs>,
}

/// What came out right.
struct Proofs {
    assemblies: BTreeMap<VersionId, Assembly>,
    /// Cells of each content that came out right.
    good: BTreeMap<VersionId, Cells>,
    /// A connection of its own: rows come in on the thread that computes them.
    reading: Connection,
}

impl CellTaker for Proofs {
    fn record(&mut self, version: VersionId) -> Result<Option<Arc<VersionRow>>> {
        match self.assemblies.contains_key(&version) {
            true => versions::get(&self.reading, version).map(|row| Some(Arc::new(row))),
            false => Ok(None),
        }
    }

    fn take(&mut self, row: &VersionRow, cell: u64, _bytes: &[u8]) -> Result<()> {
        self.good.entry(row.id).or_default().insert(cell);
        Ok(())
    }

    fn take_back(&mut self, version: VersionId, cell: u64) {
        if let Some(good) = self.good.get_mut(&version) {
            good.remove(cell);
        }
    }
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
        let proofs = Proofs {
            assemblies: assemblies(pool, disk, &jobs, newest_replica)?,
            good: BTreeMap::new(),
            reading: sieve_catalogue::open_reading(pool.catalogue.path())?,
        };
        Ok(Self { disk, lane, jobs, gatherer: Gatherer::new(lane, proofs) })
    }

    pub(super) const fn disk(&self) -> DiskId {
        self.disk
    }

    /// Who takes the rows of the disk.
    pub(super) fn sink(&mut self) -> &mut dyn RowSink {
        &mut self.gatherer
    }

    /// The cells of parity over which something of the disk lies.
    pub(super) fn cells(&self, snapshot: &Snapshot) -> Vec<CellIndex> {
        let Some(SnapshotLane { map: lane, .. }) = snapshot.lanes.get(self.lane) else { return Vec::new() };
        let (geometry, assemblies) = (snapshot.geometry, &self.gatherer.taker.assemblies);
        let wanted = lane.iter().filter(|piece| assemblies.contains_key(&piece.value.version));
        wanted.flat_map(|piece| geometry.cells(piece.rows)).collect()
    }

    /// Checks the cells that are nothing but holes, and settles how much of each content came out right.
    pub(super) fn settle(&mut self) -> Result<()> {
        let contents: Vec<VersionId> = self.gatherer.taker.assemblies.keys().copied().collect();
        for version in contents {
            let row = versions::get(&self.gatherer.taker.reading, version)?;
            self.gatherer.take_holes(&row, 0..row.sum.cells.len() as u64)?;
            let proofs = &mut self.gatherer.taker;
            let good = proofs.good.get(&version).map_or(0, Cells::count);
            let state = match good {
                _ if good == row.sum.cells.len() as u64 => Recovered::Whole,
                0 => Recovered::Nothing,
                _ => Recovered::Pieces,
            };
            proofs.assemblies.get_mut(&version).expect("it is one of them").state = Some(state);
        }
        Ok(())
    }

    /// What became of each object that was looked at: object, size, fate.
    pub(super) fn outcomes(&self) -> impl Iterator<Item = (ObjectId, ByteLength, Fate)> {
        let assemblies = &self.gatherer.taker.assemblies;
        self.jobs.iter().map(move |job| (job.object, job.size, outcome(job, assemblies).0))
    }
}

/// Whether an object belongs to a sample of that share: the same ones every time.
fn is_drawn(object: ObjectId, share: f64) -> bool {
    let hash = blake3::hash(&object.get().to_le_bytes());
    let number = u32::from_le_bytes(hash.as_bytes()[..4].try_into().expect("a hash has four bytes"));
    f64::from(number) < share * f64::from(u32::MAX)
}
