//! The usual way: the survivors are streamed, what the lost disks held is solved for step by step and goes where it
//! belongs. Cells that need more care are left to the careful way.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use sieve_core::code::{Decoder, Encoders};
use sieve_core::gf256::Kernel;
use sieve_core::lane::Rows;
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, ParityIndex, Slot};

use super::target::DataTarget;
use sieve_catalogue::label::Role;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::images::cells_by_disk;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::ParityImage;
use sieve_rows::stream::{
    Buffer, CellTask, Coder, Disks, LaneStep, Output, SnapshotFeed, lane_disks, parity_readers, stream,
};
use sieve_rows::window::Snapshot;

/// What is rebuilt, and from what.
pub(super) struct Work<'a> {
    pub(super) pool: &'a Pool,
    pub(super) snapshot: &'a Snapshot,
    /// The parity images that are there.
    pub(super) images: &'a [ParityImage],
    pub(super) lost: &'a [DiskId],
    pub(super) data: &'a mut [DataTarget],
    /// The parity images that are written anew.
    pub(super) parity: &'a mut [ParityImage],
}

/// Streams the cells; returns those that the careful way has to look at.
pub(super) fn run(
    work: Work<'_>,
    cells: &BTreeSet<CellIndex>,
    observer: &dyn Observer,
) -> Result<BTreeSet<CellIndex>> {
    let Work { pool, snapshot, images, lost, data, parity } = work;
    let lanes = lane_disks(pool, snapshot, lost);
    // Where an image lies on several disks and one of them is not there, the careful way uses the others.
    let images: Vec<&ParityImage> =
        images.iter().filter(|image| cells.iter().all(|cell| image.part_at(*cell).is_some())).collect();
    let present: Vec<bool> = lanes.iter().map(|lane| lane.disk.is_some()).collect();
    // Lanes of disks that are not there, and are not zero in the cell.
    let missing = |cell: CellIndex| -> Vec<usize> {
        let rows = snapshot.geometry.rows(cell);
        let holds = |lane: usize| snapshot.lanes[lane].map.overlapping(rows).next().is_some();
        (0..present.len()).filter(|lane| !present[*lane] && holds(*lane)).collect()
    };
    let (streamed, mut left): (Vec<CellIndex>, BTreeSet<CellIndex>) = {
        let can = |cell: &CellIndex| missing(*cell).len() <= images.len();
        (
            cells.iter().copied().filter(can).collect(),
            cells.iter().copied().filter(|cell| !can(cell)).collect(),
        )
    };
    let coder = Solver {
        snapshot,
        kernel: snapshot.kernel,
        read: images.iter().map(|image| image.index()).collect(),
        written: Encoders::new(snapshot.kernel, parity.iter().map(ParityImage::index).collect()),
        missing: streamed.iter().map(|cell| (*cell, missing(*cell))).collect(),
        decoders: HashMap::new(),
        data,
    };
    let readers = parity_readers(snapshot, images.iter().copied(), &streamed);
    let disks = Disks::of(pool, snapshot, lanes, readers, parity);
    let volume = snapshot.lanes.first().map(|lane| pool.member(lane.disk)).transpose()?;
    let volume = volume.map_or("", |member| &member.row.volume);
    let amounts = amounts(pool, volume, &streamed, snapshot, lost);
    let mut meter = Meter::begin(pool, observer, &amounts, streamed.len() as u64)?;
    let mut feed = SnapshotFeed::new(pool, snapshot);
    let outcome = stream(disks, pool.restraint().memory, coder, |feeder| {
        for cell in &streamed {
            if meter.is_stopped() {
                break;
            }
            feed.order(feeder, *cell, |lane| present[lane], true)?;
            meter.advance();
        }
        Ok(())
    })?;
    if !meter.is_stopped() {
        meter.learn()?;
    }
    left.extend(outcome.failed);
    Ok(left)
}

/// Bytes that are read of each survivor.
fn amounts(
    pool: &Pool,
    volume: &str,
    cells: &[CellIndex],
    snapshot: &Snapshot,
    lost: &[DiskId],
) -> BTreeMap<String, ByteLength> {
    let survives = |member: &Member| member.state.is_usable() && !lost.contains(&member.row.id);
    let mut amounts = BTreeMap::new();
    for member in pool.members_of(volume, Role::Data).filter(|member| survives(member)) {
        let lane = snapshot.lanes.iter().find(|lane| lane.disk == member.row.id);
        let rows = lane.map_or(0, |lane| lane.map.end());
        amounts.insert(member.row.name.clone(), ByteLength::new(rows * GRANULE));
    }
    for (member, count) in cells_by_disk(pool, volume, cells).filter(|(member, _)| survives(member)) {
        let bytes = count * snapshot.geometry.cell_bytes();
        amounts.insert(member.row.name.clone(), ByteLength::new(bytes));
    }
    amounts
}

/// Solves for the lanes that are missing, writes them where they belong, and encodes lost parities.
struct Solver<'a> {
    snapshot: &'a Snapshot,
    kernel: Kernel,
    read: Vec<ParityIndex>,
    written: Encoders,
    missing: HashMap<CellIndex, Vec<usize>>,
    decoders: HashMap<(Vec<Slot>, Vec<Slot>), Decoder>,
    data: &'a mut [DataTarget],
}

impl Solver<'_> {
    fn slot(&self, lane: usize) -> Slot {
        self.snapshot.lanes[lane].slot
    }
}

impl Coder for Solver<'_> {
    fn step(
        &mut self,
        task: &CellTask,
        step: usize,
        lanes: Vec<LaneStep>,
        parities: Vec<Buffer>,
        output: &mut Output,
    ) -> Result<()> {
        let known: Vec<(usize, &[u8])> = task
            .lanes
            .iter()
            .zip(&lanes)
            .filter_map(|(lane, step)| Some((*lane, &**step.now.as_ref()?)))
            .collect();
        let missing = self.missing.get(&task.cell).cloned().unwrap_or_default();
        let length = parities.first().map(|parity| parity.len()).or(known.first().map(|(_, b)| b.len()));
        let length = length.unwrap_or_else(|| output.step_bytes());
        let mut found = vec![vec![0; length]; missing.len()];
        let slots =
            |lanes: &mut dyn Iterator<Item = usize>| lanes.map(|lane| self.slot(lane)).collect::<Vec<_>>();
        let missing_slots = slots(&mut missing.iter().copied());
        let known_slots = slots(&mut known.iter().map(|(lane, _)| *lane));
        let contents: Vec<&[u8]> = known.iter().map(|(_, bytes)| *bytes).collect();
        if !missing.is_empty() {
            let (kernel, read) = (self.kernel, &self.read);
            let decoder = self
                .decoders
                .entry((missing_slots.clone(), known_slots.clone()))
                .or_insert_with_key(|(missing, known)| {
                    Decoder::new(kernel, missing, read, known)
                        .expect("cells with too few parities are not streamed")
                });
            let parities: Vec<&[u8]> = parities.iter().map(|parity| &**parity).collect();
            let mut targets: Vec<&mut [u8]> = found.iter_mut().map(Vec::as_mut_slice).collect();
            decoder.decode(&mut targets, &parities, &contents);
        }
        let cell = self.snapshot.geometry.rows(task.cell);
        let granules = length as u64 / GRANULE;
        let rows = Rows::at(cell.start() + step as u64 * granules, granules);
        for (lane, bytes) in missing.iter().zip(&found) {
            for target in self.data.iter_mut().filter(|target| target.lane() == *lane) {
                target.take_rows(&self.snapshot.lanes[*lane].map, rows, bytes, &[])?;
            }
        }
        if self.written.is_empty() {
            return Ok(());
        }
        let all_slots = [known_slots, missing_slots].concat();
        let all: Vec<&[u8]> = contents.into_iter().chain(found.iter().map(Vec::as_slice)).collect();
        let mut computed = output.lend();
        self.written
            .of(all_slots)
            .encode(&mut computed.iter_mut().map(|buffer| &mut **buffer).collect::<Vec<_>>(), &all);
        output.write(task.cell, step, computed)
    }
}
