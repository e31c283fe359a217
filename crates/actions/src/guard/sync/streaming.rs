//! The usual way: everything is streamed, checksummed and computed in one pass, batch by batch; what is not as it
//! should be is left to the careful way.

use super::estimate::{no_room, place_of, read_of_lanes};
use std::collections::{BTreeSet, HashMap};

use sieve_core::amounts::Amounts;
use sieve_core::checksum::Subtree;
use sieve_core::code::Encoders;
use sieve_core::pool::VolumeSpec;
use sieve_core::sync::{Method, WindowPlan, Work};
use sieve_core::units::{ByteLength, CellIndex, ObjectId, VersionId};

use super::feed::{Feed, out_of_order};
use super::gather::Unread;
use super::recorded::Recorded;
use super::report::{Options, SyncReport, parity_full};
use super::volume::{self, VolumeSync, invalid_cells};
use super::{checkpoint, checksum, fill};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_pool::images::{cells_by_disk, open_images};
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::ParityImage;
use sieve_rows::stream::cells_in_a_batch;
use sieve_rows::stream::encode::ParityCoder;
use sieve_rows::stream::{Disks, Outcome, Trouble, lane_disks, parity_readers, stream};

/// How the pass ended.
#[derive(Debug, Default)]
pub(super) struct Streamed {
    /// Cells that the careful way has to look at.
    pub(super) left: bool,
    /// It was asked to stop: what was done is at a checkpoint.
    pub(super) stopped: bool,
}

/// Streams what is to be done for a volume.
pub(super) fn run(
    pool: &Pool,
    spec: &VolumeSpec,
    options: &Options,
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<Streamed> {
    let mut images = open_images(pool, &spec.name, &[])?;
    let mut sync = load(pool, spec, &images, options, observer, report)?;
    if report.stopped {
        return Ok(Streamed { stopped: true, ..Streamed::default() });
    }
    let mut streamed = fill_unchanged(pool, &sync, &mut images, observer, report)?;
    if streamed.stopped {
        return Ok(streamed);
    }
    let mut also = invalid_cells(pool, &sync.snapshot, &images)?;
    let changed = sync.changed_cells();
    also.retain(|cell| changed.contains(cell));
    let work = sync.work(pool, &also, options.preference());
    report.no_room.extend(no_room(pool, &sync)?);
    if work.windows.is_empty() {
        return Ok(streamed);
    }
    observer.event(Event::Stage {
        name: "computing parity",
        total: work.windows.len() as u64,
        unit: Unit::Cells,
    });
    let mut pass = Pass {
        pool,
        spec,
        meter: Meter::begin(
            pool,
            observer,
            &amounts(pool, &spec.name, &sync, &work)?,
            work.windows.len() as u64,
        )?,
        report,
        contents: Recorded::default(),
        begun: std::mem::take(&mut sync.begun),
        streamed: Streamed::default(),
    };
    pass.batches(&mut sync, &mut images, &work.windows)?;
    if !pass.streamed.stopped {
        pass.meter.learn()?;
    }
    streamed.left |= pass.streamed.left;
    streamed.stopped = pass.streamed.stopped;
    Ok(streamed)
}

/// Parity that is not valid, where nothing else changes: only the images that lack it are written.
fn fill_unchanged(
    pool: &Pool,
    sync: &VolumeSync,
    images: &mut [ParityImage],
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<Streamed> {
    let changed = sync.changed_cells();
    let mut streamed = Streamed::default();
    for image in images {
        let cells: Vec<CellIndex> =
            fill::invalid(pool, &sync.snapshot, image)?.difference(&changed).copied().collect();
        if cells.is_empty() {
            continue;
        }
        let filled = fill::fill(pool, &sync.snapshot, image, &cells, observer)?;
        report.cells += filled.cells;
        streamed.left |= filled.left;
        streamed.stopped |= filled.stopped;
        if streamed.stopped {
            break;
        }
    }
    Ok(streamed)
}

/// Loads the volume; contents that cannot be read in one pass are read before.
fn load(
    pool: &Pool,
    spec: &VolumeSpec,
    images: &[ParityImage],
    options: &Options,
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<VolumeSync> {
    let but = BTreeSet::new();
    let sync = volume::load(pool, spec, Some(images), Unread::New { but: &but }, options)?;
    let scattered = out_of_order(&sync);
    if scattered.is_empty() {
        return Ok(sync);
    }
    let mut by_lane: HashMap<usize, Vec<ObjectId>> = HashMap::new();
    for fresh in scattered.iter().filter_map(|version| sync.fresh.get(version)) {
        by_lane.entry(fresh.lane).or_default().push(fresh.object);
    }
    for (lane, ids) in by_lane {
        let member = pool.member(sync.snapshot.lanes[lane].disk)?;
        checksum::checksum_objects(pool, member, &ids, options, observer, report)?;
    }
    // What could not be read is still without a checksum, and is not tried again in this pass.
    let but: BTreeSet<ObjectId> =
        scattered.iter().filter_map(|version| sync.fresh.get(version)).map(|fresh| fresh.object).collect();
    volume::load(pool, spec, Some(images), Unread::New { but: &but }, options)
}

/// Bytes that are moved on each disk.
fn amounts(pool: &Pool, volume: &str, sync: &VolumeSync, work: &Work) -> Result<Amounts> {
    let mut amounts = Amounts::new();
    let bytes = read_of_lanes(pool, volume, sync, work)?;
    for (lane, bytes) in sync.snapshot.lanes.iter().zip(bytes) {
        amounts.set(&pool.member(lane.disk)?.row.name, bytes);
    }
    let (written, read) = work.cells();
    let cell_bytes = sync.snapshot.geometry.cell_bytes();
    for cells in [written, read] {
        for (member, count) in cells_by_disk(pool, volume, &cells) {
            amounts.add(&member.row.name, ByteLength::new(count * cell_bytes));
        }
    }
    Ok(amounts)
}

struct Pass<'a> {
    pool: &'a Pool,
    spec: &'a VolumeSpec,
    meter: Meter<'a>,
    report: &'a mut SyncReport,
    contents: Recorded,
    /// Contents that earlier batches, or an earlier sync, had read in part.
    begun: HashMap<VersionId, Vec<Subtree>>,
    streamed: Streamed,
}

impl Pass<'_> {
    fn batches(
        &mut self,
        sync: &mut VolumeSync,
        images: &mut [ParityImage],
        windows: &[WindowPlan],
    ) -> Result<()> {
        let most = cells_in_a_batch(sync.snapshot.geometry);
        let mut rest = windows;
        while !rest.is_empty() {
            let room = images.iter().map(ParityImage::room).min().unwrap_or(usize::MAX);
            if room == 0 {
                return Err(parity_full(&self.spec.name));
            }
            let (batch, later) = rest.split_at(most.min(room).min(rest.len()));
            let done = self.batch(sync, images, batch)?;
            if done < batch.len() {
                self.streamed.stopped = true;
                return Ok(());
            }
            rest = later;
        }
        Ok(())
    }

    /// One batch, up to its checkpoint; returns how many cells were ordered before it was to stop.
    fn batch(
        &mut self,
        sync: &mut VolumeSync,
        images: &mut [ParityImage],
        batch: &[WindowPlan],
    ) -> Result<usize> {
        let (mut ordered, has_parity) = (0, !images.is_empty());
        let outcome = {
            let begun = std::mem::take(&mut self.begun);
            let disks = self.disks(sync, images, batch, begun);
            let coder = ParityCoder {
                encoders: Encoders::new(
                    sync.snapshot.kernel,
                    disks.images.iter().map(ParityImage::index).collect(),
                ),
                slots: sync.snapshot.lanes.iter().map(|lane| lane.slot).collect(),
            };
            let memory = self.pool.restraint().memory;
            let mut feed = Feed::new(self.pool, sync, has_parity);
            let meter = &mut self.meter;
            stream(disks, memory, coder, |feeder| {
                for window in batch {
                    if meter.is_stopped() {
                        break;
                    }
                    feed.order(feeder, window)?;
                    ordered += 1;
                    meter.advance();
                }
                Ok(())
            })?
        };
        let good: Vec<CellIndex> = batch[..ordered]
            .iter()
            .map(|window| window.cell)
            .filter(|cell| !outcome.failed.contains(cell))
            .collect();
        for cell in &outcome.failed {
            self.streamed.left = true;
            images.iter_mut().for_each(|image| image.discard(*cell));
        }
        self.report.cells += good.len() as u64;
        self.checkpoint(sync, images, &good, outcome)?;
        Ok(ordered)
    }

    fn disks<'b>(
        &self,
        sync: &VolumeSync,
        images: &'b mut [ParityImage],
        batch: &[WindowPlan],
        begun: HashMap<VersionId, Vec<Subtree>>,
    ) -> Disks<'b> {
        let mut lanes = lane_disks(self.pool, &sync.snapshot, &[]);
        for (version, subtrees) in begun {
            let lane = sync.fresh.get(&version).map(|fresh| fresh.lane);
            if let Some(lane) = lane.and_then(|lane| lanes.get_mut(lane)) {
                lane.begun.insert(version, subtrees);
            }
        }
        let delta = batch.iter().filter(|window| window.method == Method::Delta).map(|window| window.cell);
        let readers = parity_readers(&sync.snapshot, &*images, &delta.collect::<Vec<_>>());
        Disks::of(self.pool, &sync.snapshot, lanes, readers, images)
    }

    fn checkpoint(
        &mut self,
        sync: &mut VolumeSync,
        images: &mut [ParityImage],
        good: &[CellIndex],
        mut outcome: Outcome,
    ) -> Result<()> {
        for lane in &mut outcome.lanes {
            self.contents.finished.append(&mut lane.finished);
            self.contents.paused.extend(lane.unfinished.drain());
            for (version, trouble) in lane.dropped.drain() {
                self.streamed.left = true;
                self.tell(sync, version, trouble)?;
            }
        }
        self.report.files_checksummed += self.contents.finished.len() as u64;
        checkpoint::take(self.pool, &self.spec.name, sync, images, good, &mut self.contents)?;
        self.begun = self.contents.next_batch();
        Ok(())
    }

    /// A new content that is not to be used: it waits for the next sync.
    fn tell(&mut self, sync: &VolumeSync, version: VersionId, trouble: Trouble) -> Result<()> {
        let Some(fresh) = sync.fresh.get(&version) else { return Ok(()) };
        match trouble {
            Trouble::Failed(error) => self.report.unreadable.push(error.to_string()),
            Trouble::Changed | Trouble::Damaged => {
                self.report.left_for_next.push(place_of(self.pool, sync, fresh)?);
            }
        }
        Ok(())
    }
}
