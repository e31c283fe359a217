//! One pass over the survivors: every row of the lost disks is computed and goes where it belongs.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use sieve_core::amounts::Amounts;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, CellIndex, DiskId, ParityIndex, VersionId};

use super::copies;
use super::finish;
use super::first;
use super::jobs::{self, Assembly};
use super::plan::{Options, Prepared, RebuildReport, Target};
use super::streaming;
use super::target::DataTarget;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_core::count::Totals;
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::workspace::Workspace;
use sieve_pool::images::{image_limits, load_snapshot, open_images, open_part};
use sieve_pool::pool::Pool;
use sieve_pool::traffic::Traffic;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

pub(super) fn execute(
    pool: &mut Pool,
    prepared: &Prepared,
    options: &Options,
    observer: &dyn Observer,
) -> Result<RebuildReport> {
    let lost: Vec<DiskId> = prepared.targets.iter().map(|t| t.row.id).collect();
    pool.expect_long()?;
    for target in &prepared.targets {
        target.new.refuse_unfit()?;
    }
    let traffic = Traffic::begin(pool);
    begin(pool, &prepared.targets)?;
    let snapshot = load_snapshot(pool, &prepared.plan.volume)?;
    let mut pass = Pass::open(pool, prepared, &snapshot, &lost)?;
    pass.data.iter_mut().for_each(|target| target.salvages = options.salvage);
    match pass.bring_early(prepared, &snapshot, &lost, &options.first, observer) {
        // The pass notices as well, and ends as one that was stopped.
        Err(error) if error.is_stop() => {}
        early => early?,
    }
    pass.run(&snapshot, &lost, observer)?;
    let Pass { mut data, mut parity, damage, parity_cells, parity_cells_left, stopped, .. } = pass;
    let old = prepared.targets.iter().filter_map(|target| pool.spec.disk(&target.row.name).cloned());
    let mut report = RebuildReport {
        was: old.collect(),
        predicted: prepared.plan.predicted,
        // Files on the survivors stay as they are; those of the lost disks are counted as they come back.
        obtained: Totals { untouched: prepared.plan.predicted.untouched, ..Totals::default() },
        not_back: Vec::new(),
        salvaged: Vec::new(),
        damage,
        parity_cells,
        parity_cells_left,
        stopped,
        read_bytes: Amounts::new(),
        written_bytes: Amounts::new(),
    };
    for target in &mut data {
        finish::publish(pool, target, &mut report)?;
    }
    parity.iter_mut().try_for_each(|image| image.finish_copy(&snapshot.expected))?;
    if stopped {
        data.into_iter().try_for_each(|target| target.workspace.finish())?;
        return Ok(report);
    }
    finish::commit(pool, &prepared.targets, &data, &parity)?;
    data.into_iter().try_for_each(|target| target.workspace.finish())?;
    (report.read_bytes, report.written_bytes) = traffic.since(pool);
    for target in &prepared.targets {
        let (read, written) = target.new.disk.flow().totals();
        report.read_bytes.set(&target.row.name, ByteLength::new(read));
        report.written_bytes.set(&target.row.name, ByteLength::new(written));
    }
    finish::conclude(pool, &prepared.targets, &report)?;
    Ok(report)
}

/// Writes the intents down, then the labels of the new disks.
fn begin(pool: &Pool, targets: &[Target]) -> Result<()> {
    pool.catalogue.transaction(|t| {
        let is_one = |disk: &DiskId| targets.iter().any(|target| target.row.id == *disk);
        intents::remove_where(t, |i| matches!(i, Intent::Rebuild { disk, .. } if is_one(disk)))?;
        for target in targets {
            let intent = Intent::Rebuild {
                disk: target.row.id,
                successor: target.successor,
                onto: target.new.at.clone(),
            };
            intents::insert(t, &intent)?;
        }
        Ok(())
    })?;
    for target in targets {
        let successor = DiskRow { uuid: target.successor, ..target.row.clone() };
        let filesystem = (!target.new.simulated).then(|| target.new.filesystem.id.clone());
        label::write(&*target.new.disk, &successor.label(&pool.identity, filesystem))?;
    }
    Ok(())
}

fn open_data(
    pool: &Pool,
    target: &Target,
    snapshot: &Snapshot,
    newest_replica: u32,
    copies: &super::plan::Copies,
) -> Result<DataTarget> {
    let jobs = jobs::jobs(pool, target.row.id)?;
    let mut assemblies = jobs::assemblies(pool, target.row.id, &jobs, newest_replica)?;
    for job in jobs.iter().filter(|job| copies.contains_key(&job.object)) {
        // In no lane, but a run before may have copied it.
        let Some(version) = job.version else { continue };
        assemblies.entry(version).or_insert_with(|| Assembly {
            size: job.size,
            lost: Vec::new(),
            state: None,
        });
    }
    let finished = finish::finished_before(pool, &*target.new.disk, &jobs, &mut assemblies)?;
    let lane = snapshot.lanes.iter().position(|l| l.disk == target.row.id).unwrap_or(usize::MAX);
    Ok(DataTarget {
        disk_id: target.row.id,
        disk: Arc::clone(&target.new.disk),
        jobs,
        assemblies,
        finished,
        shared: BTreeSet::new(),
        held: BTreeSet::new(),
        newest_replica,
        salvages: false,
        holes: BTreeMap::new(),
        workspace: Workspace::begin(&target.new.disk, pool.machine.random())?,
        open: None,
        lane,
        only: None,
    })
}

fn open_parity(pool: &Pool, target: &Target, snapshot: &Snapshot) -> Result<ParityImage> {
    let spec = pool.spec.disk(&target.row.name);
    let has = target.row.parity_bytes;
    let limits = image_limits(spec, Some(&target.new.filesystem), has, snapshot.geometry);
    let part = open_part(pool, &target.row, &target.new.disk, limits, snapshot.geometry)?;
    Ok(ParityImage::new(ParityIndex::new(target.row.slot), vec![part]))
}

struct Pass<'a> {
    pool: &'a Pool,
    images: Vec<ParityImage>,
    data: Vec<DataTarget>,
    parity: Vec<ParityImage>,
    damage: Vec<String>,
    parity_cells: u64,
    parity_cells_left: u64,
    stopped: bool,
}

impl<'a> Pass<'a> {
    fn open(pool: &'a Pool, prepared: &Prepared, snapshot: &Snapshot, lost: &[DiskId]) -> Result<Self> {
        let mut pass = Self {
            pool,
            images: open_images(pool, &prepared.plan.volume, lost)?,
            data: Vec::new(),
            parity: Vec::new(),
            damage: Vec::new(),
            parity_cells: 0,
            parity_cells_left: 0,
            stopped: false,
        };
        for target in &prepared.targets {
            match target.row.role {
                Role::Data | Role::Cache => {
                    pass.data.push(open_data(
                        pool,
                        target,
                        snapshot,
                        prepared.newest_replica,
                        &prepared.copies,
                    )?);
                }
                Role::Parity => pass.parity.push(open_parity(pool, target, snapshot)?),
            }
        }
        Ok(pass)
    }

    /// What needs no pass, or is wanted before it.
    fn bring_early(
        &mut self,
        prepared: &Prepared,
        snapshot: &Snapshot,
        lost: &[DiskId],
        wanted: &[RelPath],
        observer: &dyn Observer,
    ) -> Result<()> {
        let parity = (snapshot, self.images.as_slice(), lost);
        for target in &mut self.data {
            if !prepared.copies.is_empty() {
                copies::bring(self.pool, &prepared.copies, parity, target, observer)?;
            }
            if !wanted.is_empty() {
                first::bring(self.pool, parity, target, wanted, &mut self.damage, observer)?;
            }
        }
        Ok(())
    }

    /// Passes every cell that holds something of the lost disks.
    fn run(&mut self, snapshot: &Snapshot, lost: &[DiskId], observer: &dyn Observer) -> Result<()> {
        let cells = self.cells(snapshot);
        observer.event(Event::Stage { name: "rebuilding", total: cells.len() as u64, unit: Unit::Cells });
        let work = streaming::Work {
            pool: self.pool,
            snapshot,
            images: &self.images,
            lost,
            data: &mut self.data,
            parity: &mut self.parity,
        };
        let completed = streaming::run(work, &cells, &mut self.damage, observer)?;
        self.parity_cells = completed.written;
        self.parity_cells_left = completed.unwritten;
        self.stopped = observer.is_stopped();
        if self.stopped {
            // What is in pieces now may come back whole later.
            self.data.iter_mut().for_each(|target| target.salvages = false);
        }
        self.close()
    }

    /// The cells to pass: all for a parity disk, those with something of a lost data disk else.
    fn cells(&self, snapshot: &Snapshot) -> BTreeSet<CellIndex> {
        let mut cells = BTreeSet::new();
        self.data.iter().for_each(|target| cells.extend(target.cells(snapshot)));
        if !self.parity.is_empty() {
            let belongs = |cell: &CellIndex| self.parity.iter().any(|image| image.part_at(*cell).is_some());
            cells.extend(snapshot.cells().filter(belongs));
        }
        cells
    }

    /// Everything was passed: checks what came together.
    fn close(&mut self) -> Result<()> {
        for target in &mut self.data {
            let open = target.assemblies.iter().filter(|(_, a)| a.state.is_none());
            let open: Vec<VersionId> = open.map(|(version, _)| *version).collect();
            for version in open {
                target.settle(self.pool, version)?;
            }
            target.note_sharing(self.pool)?;
        }
        Ok(())
    }
}
