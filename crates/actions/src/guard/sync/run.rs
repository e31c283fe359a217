//! The careful way: parity cell by cell, with what cannot be read computed from the old parity where that allows it.

use super::places::places_of;
use std::collections::{BTreeMap, BTreeSet};

use sieve_core::fate::Standing;
use sieve_core::pool::VolumeSpec;
use sieve_core::sync::WindowPlan;
use sieve_core::units::{CellIndex, DiskId, ParityIndex, VersionId};

use super::checkpoint;
use super::gather::Unread;
use super::recorded::Recorded;
use super::report::{Options, SyncReport, parity_full};
use super::volume::{self, VolumeSync, invalid_cells};
use sieve_catalogue::objects;
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_pool::damage;
use sieve_pool::images::open_images;
use sieve_pool::pool::Pool;
use sieve_rows::content::{CellProblem, Contents};
use sieve_rows::image::ParityImage;
use sieve_rows::stream::cells_in_a_batch;
use sieve_rows::window::{LaneWindow, ReadProblem, read_lane};

/// A new content that cannot be had as it was checksummed, and whether its bytes are damaged.
type Abandoned = BTreeMap<(DiskId, VersionId), bool>;

/// Brings the parity of a volume up to its target; contents that fail on the way are left out, and what a
/// checkpoint took of them already is computed anew without them.
pub(super) fn run(
    pool: &Pool,
    spec: &VolumeSpec,
    options: &Options,
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<()> {
    loop {
        let mut images = open_images(pool, &spec.name, &[])?;
        let mut sync = volume::load(pool, spec, Some(&images), Unread::None, options)?;
        let also = invalid_cells(pool, &sync.snapshot, &images)?;
        let windows = sync.work(pool, &also, options.preference()).windows;
        if !windows.is_empty() {
            let total = windows.len() as u64;
            observer.event(Event::Stage { name: "computing the rest", total, unit: Unit::Cells });
        }
        let mut pass = Pass {
            pool,
            volume: &spec.name,
            images: &mut images,
            abandoned: Abandoned::new(),
            report,
            rows_left: 0,
        };
        pass.windows(&mut sync, &windows, observer)?;
        let (abandoned, rows_left) = (pass.abandoned, pass.rows_left);
        if abandoned.is_empty() || report.stopped {
            set_aside(pool, &abandoned, report)?;
            report.rows_left += rows_left;
            return Ok(());
        }
        set_aside(pool, &abandoned, report)?;
    }
}

/// Contents that turned out not to be what was checksummed are not to be synced now.
fn set_aside(pool: &Pool, abandoned: &Abandoned, report: &mut SyncReport) -> Result<()> {
    pool.catalogue.transaction(|t| {
        for ((disk, version), damaged) in abandoned {
            let Some(object) = objects::by_version(t, *disk, *version)? else { continue };
            // Damage never gets a fresh checksum by itself; a change does, at the next sync.
            let standing = if *damaged { Standing::Suspect } else { Standing::Touched };
            objects::set_version(t, object.id, Some(*version), standing, object.older)?;
            let place = places_of(pool, *disk, &object)?;
            if *damaged { report.suspect.extend(place) } else { report.left_for_next.extend(place) }
        }
        Ok(())
    })
}

struct Pass<'a> {
    pool: &'a Pool,
    volume: &'a str,
    images: &'a mut Vec<ParityImage>,
    abandoned: Abandoned,
    report: &'a mut SyncReport,
    rows_left: u64,
}

impl Pass<'_> {
    fn windows(
        &mut self,
        sync: &mut VolumeSync,
        windows: &[WindowPlan],
        observer: &dyn Observer,
    ) -> Result<()> {
        let mut contents = Contents::new(self.pool);
        let most = cells_in_a_batch(sync.snapshot.geometry);
        let mut done: Vec<CellIndex> = Vec::new();
        for window in windows {
            if observer.is_stopped() {
                self.report.stopped = true;
                break;
            }
            if done.len() >= most || self.images.iter().any(|image| image.room() == 0) {
                self.checkpoint(sync, &mut done)?;
            }
            if self.images.iter().any(|image| image.room() == 0) {
                return Err(parity_full(self.volume));
            }
            match self.target_lanes(sync, &mut contents, window.cell)? {
                Some(lanes) => {
                    self.write(sync, &lanes, window.cell)?;
                    done.push(window.cell);
                    self.report.cells += 1;
                }
                None => self.rows_left += 1,
            }
            observer.event(Event::Advanced { by: 1 });
        }
        self.checkpoint(sync, &mut done)
    }

    fn checkpoint(&mut self, sync: &mut VolumeSync, done: &mut Vec<CellIndex>) -> Result<()> {
        checkpoint::take(self.pool, self.volume, sync, self.images, done, &mut Recorded::default())?;
        done.clear();
        Ok(())
    }

    fn write(&mut self, sync: &VolumeSync, lanes: &[LaneWindow], cell: CellIndex) -> Result<()> {
        let indices: Vec<ParityIndex> = self.images.iter().map(ParityImage::index).collect();
        for (image, bytes) in self.images.iter_mut().zip(sync.snapshot.encode(&indices, lanes)) {
            image.write(cell, &bytes)?;
        }
        Ok(())
    }

    /// All lanes as they are to be over a cell; nothing when something in it can be neither read nor computed.
    fn target_lanes(
        &mut self,
        sync: &VolumeSync,
        contents: &mut Contents<'_>,
        cell: CellIndex,
    ) -> Result<Option<Vec<LaneWindow>>> {
        let rows = sync.snapshot.geometry.rows(cell);
        let mut problems = Vec::new();
        let mut lanes = Vec::new();
        for (lane, target) in sync.snapshot.lanes.iter().zip(&sync.target) {
            lanes.push(read_lane(contents, lane.disk, target, rows, &mut problems)?);
        }
        if problems.is_empty() {
            return Ok(Some(lanes));
        }
        damage::note(self.pool, &problems, &mut self.report.damage)?;
        if self.abandon_new(sync, &problems) {
            return Ok(None);
        }
        self.compute(sync, contents, cell, &mut lanes)?;
        let known = lanes.iter().all(|lane| lane.unknown.is_empty());
        Ok(known.then_some(lanes))
    }

    /// Takes what cannot be read from the old parity, where the snapshot has the same content in the same rows.
    fn compute(
        &mut self,
        sync: &VolumeSync,
        contents: &mut Contents<'_>,
        cell: CellIndex,
        lanes: &mut [LaneWindow],
    ) -> Result<()> {
        let images: Vec<&ParityImage> = self.images.iter().collect();
        let old = sync.snapshot.read(contents, &images, cell, &mut Vec::new())?;
        for (position, lane) in lanes.iter_mut().enumerate() {
            let (now, then) = (&sync.target[position], &sync.snapshot.lanes[position].map);
            for rows in std::mem::take(&mut lane.unknown) {
                let same = now.overlapping(rows).eq(then.overlapping(rows));
                let known = old.lanes[position].unknown.iter().all(|u| u.intersection(rows).is_empty());
                if same && known {
                    let at = |row: u64| {
                        usize::try_from((row - old.rows.start()) * sieve_core::units::GRANULE)
                            .expect("in memory")
                    };
                    let bytes = at(rows.start())..at(rows.end());
                    lane.bytes[bytes.clone()].copy_from_slice(&old.lanes[position].bytes[bytes]);
                } else {
                    lane.unknown.push(rows);
                }
            }
        }
        Ok(())
    }

    /// Contents that are not all in the snapshot yet are given up for this sync. True if there were any.
    fn abandon_new(&mut self, sync: &VolumeSync, problems: &[ReadProblem]) -> bool {
        let mut any = false;
        for found in problems {
            let lane = sync.snapshot.lanes.iter().position(|l| l.disk == found.disk);
            let is_new = lane.is_some_and(|lane| {
                let holds = |map: &sieve_core::lane::LaneMap| -> BTreeSet<(u64, u64)> {
                    map.iter()
                        .filter(|i| i.value.version == found.version)
                        .map(|i| (i.rows.start(), i.rows.end()))
                        .collect()
                };
                holds(&sync.snapshot.lanes[lane].map) != holds(&sync.target[lane])
            });
            if is_new {
                let damaged = matches!(found.problem, CellProblem::Damaged(_));
                *self.abandoned.entry((found.disk, found.version)).or_default() |= damaged;
                any = true;
            }
        }
        any
    }
}
