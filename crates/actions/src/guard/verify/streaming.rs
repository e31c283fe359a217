//! The usual way: all lanes and parities are streamed and compared; what is not as it should be is left to the careful
//! way.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex};

use sieve_core::code::Encoders;
use sieve_core::units::{ByteLength, CellIndex, GRANULE, Slot};

use sieve_catalogue::label::Role;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::images::{cells_by_disk, open_images};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::ParityImage;
use sieve_rows::stream::{
    Buffer, CellTask, Coder, Disks, LaneStep, Output, SnapshotFeed, lane_disks, parity_readers, stream,
};
use sieve_rows::window::Snapshot;

/// What came of it.
pub(super) struct Compared {
    /// Cells whose contents and parities are as they should be.
    pub(super) good: u64,
    /// Cells that the careful way has to look at.
    pub(super) left: BTreeSet<CellIndex>,
    /// How many of the cells were looked at before it was to stop.
    pub(super) ordered: usize,
}

/// Compares cells of a snapshot with what the disks have.
pub(super) fn compare(
    pool: &Pool,
    volume: &str,
    snapshot: &Snapshot,
    cells: &[CellIndex],
    observer: &dyn Observer,
) -> Result<Compared> {
    let images = open_images(pool, volume, &[])?;
    let lanes = lane_disks(pool, snapshot, &[]);
    let present: Vec<bool> = lanes.iter().map(|lane| lane.disk.is_some()).collect();
    let disks = Disks::of(pool, snapshot, lanes, parity_readers(snapshot, &images, cells), &mut []);
    let wrong = Arc::new(Mutex::new(BTreeSet::new()));
    let coder = Comparer {
        encoders: Encoders::new(snapshot.kernel, images.iter().map(ParityImage::index).collect()),
        slots: snapshot.lanes.iter().map(|lane| lane.slot).collect(),
        computed: Vec::new(),
        wrong: Arc::clone(&wrong),
    };
    let mut feed = SnapshotFeed::new(pool, snapshot);
    let mut meter =
        Meter::begin(pool, observer, &amounts(pool, volume, cells, snapshot), cells.len() as u64)?;
    let mut ordered = 0;
    let mut absent = BTreeSet::new();
    let outcome = stream(disks, pool.restraint().memory, coder, |feeder| {
        for cell in cells {
            if meter.is_stopped() {
                break;
            }
            let rows = snapshot.geometry.rows(*cell);
            let is_absent =
                |lane: usize| !present[lane] && snapshot.lanes[lane].map.overlapping(rows).next().is_some();
            if (0..present.len()).any(is_absent) {
                absent.insert(*cell);
            }
            feed.order(feeder, *cell, |lane| present[lane], true)?;
            ordered += 1;
            meter.advance();
        }
        Ok(())
    })?;
    if !meter.is_stopped() {
        meter.learn()?;
    }
    let mut left = outcome.failed;
    left.append(&mut absent);
    left.extend(wrong.lock().unwrap_or_else(std::sync::PoisonError::into_inner).iter());
    let good = (ordered - left.len().min(ordered)) as u64;
    Ok(Compared { good, left, ordered })
}

/// Bytes that are read of each disk at most.
fn amounts(
    pool: &Pool,
    volume: &str,
    cells: &[CellIndex],
    snapshot: &Snapshot,
) -> BTreeMap<String, ByteLength> {
    let cell_bytes = snapshot.geometry.cell_bytes();
    let most = cells.len() as u64 * cell_bytes;
    let there = |member: &&Member| member.state.is_usable();
    let lane_end = |member: &Member| {
        let lane = snapshot.lanes.iter().find(|lane| lane.disk == member.row.id);
        lane.map_or(0, |lane| lane.map.end().saturating_mul(GRANULE))
    };
    let data = pool.members_of(volume, Role::Data).filter(there);
    let mut amounts: BTreeMap<String, ByteLength> =
        data.map(|member| (member.row.name.clone(), ByteLength::new(lane_end(member).min(most)))).collect();
    let parity = cells_by_disk(pool, volume, cells).filter(|(member, _)| there(member));
    amounts
        .extend(parity.map(|(member, count)| (member.row.name.clone(), ByteLength::new(count * cell_bytes))));
    amounts
}

/// Computes parity from the lanes and compares it with what was read.
struct Comparer {
    encoders: Encoders,
    slots: Vec<Slot>,
    computed: Vec<Vec<u8>>,
    wrong: Arc<Mutex<BTreeSet<CellIndex>>>,
}

impl Coder for Comparer {
    fn step(
        &mut self,
        task: &CellTask,
        _step: usize,
        lanes: Vec<LaneStep>,
        parities: Vec<Buffer>,
        _output: &mut Output,
    ) -> Result<()> {
        let read: Vec<(Slot, &[u8])> = task
            .lanes
            .iter()
            .zip(&lanes)
            .filter_map(|(lane, step)| Some((self.slots[*lane], &**step.now.as_ref()?)))
            .collect();
        let slots: Vec<Slot> = read.iter().map(|(slot, _)| *slot).collect();
        let contents: Vec<&[u8]> = read.iter().map(|(_, bytes)| *bytes).collect();
        let length = parities.first().map_or(0, |parity| parity.len());
        self.computed.resize_with(parities.len(), Vec::new);
        self.computed.iter_mut().for_each(|buffer| buffer.resize(length, 0));
        let encoder = self.encoders.of(slots);
        encoder.encode(&mut self.computed.iter_mut().map(Vec::as_mut_slice).collect::<Vec<_>>(), &contents);
        if self.computed.iter().zip(&parities).any(|(computed, read)| computed[..] != **read) {
            self.wrong.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(task.cell);
        }
        Ok(())
    }
}
