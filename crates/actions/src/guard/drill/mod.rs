//! Proving a prediction: what lost disks held is reconstructed from the survivors alone and compared with its
//! checksums. Nothing is written to any disk.

mod prover;

use crate::disks::rebuild::streaming::amounts;
use sieve_pool::progress::Meter;
use sieve_rows::stream::solve::{Serves, Solving};
use std::collections::HashSet;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::checksum::ContentHasher;
use sieve_core::fate::Fate;
use sieve_core::forecast::Forecast;
use sieve_core::units::{ByteLength, CellIndex, DiskId, ObjectId};

use prover::Prover;
use sieve_catalogue::label::Role;
use sieve_catalogue::proofs;
use sieve_catalogue::proofs::Proof;
use sieve_catalogue::{objects, versions};
use sieve_core::count::Totals;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::damage;
use sieve_pool::fate;
use sieve_pool::fate::VolumeModel;
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_pool::scan::doubts::resolve_doubts;
use sieve_pool::traffic::Traffic;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

/// A file that came out otherwise than was predicted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Surprise {
    /// The disk.
    pub disk: String,
    /// Its path, or where it is held.
    pub path: String,
    /// What was predicted.
    pub predicted: Fate,
    /// What came out.
    pub obtained: Fate,
}

/// How a drill ended.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Report {
    /// The disks that were taken to be lost.
    pub lost: Vec<String>,
    /// What was predicted for the files that were looked at.
    pub predicted: Totals,
    /// What came out.
    pub obtained: Totals,
    /// Files that came out otherwise.
    pub surprises: Vec<Surprise>,
    /// Cells of parity on lost parity disks that were computed and are as they lie there.
    pub parity_cells: u64,
    /// Cells of them that were computed, and lie there otherwise.
    pub parity_cells_wrong: u64,
    /// Cells of them that cannot be computed, since something in their rows is lost as well.
    pub parity_cells_lost: u64,
    /// Damage that was met on survivors, in words.
    pub damage: Vec<String>,
    /// Bytes read, by disk.
    pub read_bytes: Amounts,
    /// The share of the files that was looked at, where it was not all.
    #[serde(rename = "sample_share")]
    pub sample: Option<f64>,
    /// It was asked to stop before its end: nothing is proven, and nothing contradicted.
    pub stopped: bool,
}

impl Report {
    /// Files that were looked at.
    pub fn files(&self) -> u64 {
        Fate::ALL.iter().map(|fate| self.predicted.of(*fate).files).sum()
    }

    /// Whether everything was looked at, read, and came out as predicted.
    pub fn is_proven(&self) -> bool {
        let read = self.read_bytes.total();
        let has_content = self.predicted.rebuilt.bytes.plus(self.predicted.older.bytes) > ByteLength::ZERO;
        self.is_as_predicted() && self.sample.is_none() && (read > ByteLength::ZERO || !has_content)
    }

    /// Whether there was nothing to look at, and nothing contradicted.
    pub fn has_nothing_to_prove(&self) -> bool {
        let is_quiet = self.surprises.is_empty() && self.parity_cells_wrong == 0 && !self.stopped;
        is_quiet && self.files() == 0 && self.parity_cells == 0
    }

    /// Whether what was looked at came out as predicted.
    pub fn is_as_predicted(&self) -> bool {
        !self.stopped
            && self.surprises.is_empty()
            && self.parity_cells_wrong == 0
            && (self.files() > 0 || self.parity_cells > 0)
    }
}

/// What a drill reads, and how long that takes.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DrillForecast {
    /// Bytes read at most, by disk.
    pub read_bytes: Amounts,
    /// How long.
    pub duration: Forecast,
}

/// Forecasts a drill: every survivor is read as far as the disks that are taken to be lost reach.
///
/// # Errors
/// When the disks are of different volumes, or what the database says.
pub fn forecast(pool: &Pool, names: &[String]) -> Result<DrillForecast> {
    let (volume, lost) = volume_of(pool, names)?;
    let used = |id: &DiskId| pool.member(*id)?.used_bytes(&pool.catalogue);
    let reach = lost.iter().map(used).collect::<Result<Vec<_>>>()?.into_iter().max().unwrap_or_default();
    let mut read_bytes = Amounts::new();
    for member in pool.members.iter().filter(|m| m.row.volume == volume && m.state.is_usable()) {
        // A parity disk that is taken to be lost is there, and is compared with.
        if !lost.contains(&member.row.id) || member.row.role == Role::Parity {
            read_bytes.set(&member.row.name, used(&member.row.id)?.min(reach));
        }
    }
    let duration = forecast_pass(pool, &read_bytes)?;
    Ok(DrillForecast { read_bytes, duration })
}

/// Reconstructs what the disks of these names hold, without reading them, and compares.
///
/// With `sample` only that share of the files (from 0 to 1) is looked at: a quick look, and no proof.
///
/// # Errors
/// When the disks are of different volumes, another long writer is at work, or what the database says. What a disk
/// says is part of the report.
pub fn drill(pool: &Pool, names: &[String], sample: Option<f64>, observer: &dyn Observer) -> Result<Report> {
    let (volume, lost) = volume_of(pool, names)?;
    pool.expect_long()?;
    scan::scan_all(pool, |member| member.row.volume == volume, observer)?;
    for member in pool.members_of(&volume, Role::Data).filter(|m| m.state.is_usable()) {
        if !lost.contains(&member.row.id) {
            resolve_doubts(pool, member, observer)?;
        }
    }
    let model = fate::load(pool, &volume)?;
    let (traffic, begun) = (Traffic::begin(pool), std::time::Instant::now());
    let snapshot = load_snapshot(pool, &volume)?;
    let mut pass = Pass::open(pool, &model, &snapshot, &volume, &lost, sample)?;
    pass.run(&snapshot, &lost, observer)?;
    let mut report = match pass.report.stopped {
        true => pass.report,
        false => pass.conclude(&model, &lost)?,
    };
    report.lost = names.to_vec();
    report.sample = sample;
    report.read_bytes = traffic.since(pool).0;
    if report.is_proven() {
        let proof = Proof {
            lost: names.to_vec(),
            at: pool.machine.now(),
            files: report.files(),
            parity_cells: report.parity_cells,
        };
        pool.catalogue.transaction(|t| proofs::keep(t, &proof))?;
    }
    pool.tell(
        Entry::new(Did::Drill)
            .ended(Ended::of(report.stopped, report.is_proven()))
            .took(begun.elapsed().as_secs_f64())
            .on(names)
            .moved((&report.read_bytes, &Amounts::new()))
            .detail(&report)?,
    )?;
    Ok(report)
}

fn volume_of(pool: &Pool, names: &[String]) -> Result<(String, Vec<DiskId>)> {
    let members = names.iter().map(|name| pool.member_named(name)).collect::<Result<Vec<_>>>()?;
    let Some(first) = members.first() else {
        return Err(Error::new(Kind::Usage, "drill.nothing-lost", "no disk was named")
            .remedy("name the disks that are to be taken as lost: zinc-sieve drill --lose NAME[,NAME…]"));
    };
    if members.iter().any(|m| m.row.volume != first.row.volume) {
        return Err(Error::new(Kind::Usage, "drill.volumes", "these disks are of different volumes")
            .remedy("drill one volume at a time"));
    }
    Ok((first.row.volume.clone(), members.iter().map(|m| m.row.id).collect()))
}

struct Pass<'a> {
    pool: &'a Pool,
    volume: &'a str,
    /// The parity images of the survivors.
    images: Vec<ParityImage>,
    /// The parity images that are taken to be lost, to compare with, where they are there.
    lost_images: Vec<ParityImage>,
    provers: Vec<Prover>,
    report: Report,
}

impl<'a> Pass<'a> {
    fn open(
        pool: &'a Pool,
        model: &VolumeModel,
        snapshot: &Snapshot,
        volume: &'a str,
        lost: &[DiskId],
        sample: Option<f64>,
    ) -> Result<Self> {
        let newest_replica = model.newest_replica(lost);
        let mut provers = Vec::new();
        for (position, lane) in snapshot.lanes.iter().enumerate().filter(|(_, l)| lost.contains(&l.disk)) {
            provers.push(Prover::open(pool, lane.disk, position, newest_replica, sample)?);
        }
        for cache in pool.members_of(volume, Role::Cache).filter(|m| lost.contains(&m.row.id)) {
            provers.push(Prover::open(pool, cache.row.id, usize::MAX, newest_replica, sample)?);
        }
        let parities: Vec<DiskId> = pool.members_of(volume, Role::Parity).map(|m| m.row.id).collect();
        let survivors: Vec<DiskId> = parities.into_iter().filter(|id| !lost.contains(id)).collect();
        Ok(Self {
            pool,
            volume,
            images: open_images(pool, volume, lost)?,
            lost_images: open_images(pool, volume, &survivors)?,
            provers,
            report: Report::default(),
        })
    }

    /// The pass that a rebuild makes, with rows that are checked instead of written.
    fn run(&mut self, snapshot: &Snapshot, lost: &[DiskId], observer: &dyn Observer) -> Result<()> {
        let mut cells: Vec<CellIndex> = self.provers.iter().flat_map(|p| p.cells(snapshot)).collect();
        if !self.lost_images.is_empty() {
            cells.extend(snapshot.cells());
        }
        cells.sort_unstable();
        cells.dedup();
        observer.event(Event::Stage { name: "reconstructing", total: cells.len() as u64, unit: Unit::Cells });
        let amounts = amounts(self.pool, self.volume, &cells, snapshot, lost);
        let mut meter = Meter::begin(self.pool, observer, &amounts, cells.len() as u64)?;
        let survivors = self.images.iter().map(|image| (image, Serves::ToSolve));
        let compared = self.lost_images.iter().map(|image| (image, Serves::ToCompare));
        let solving = Solving {
            places: self.pool,
            snapshot,
            read: survivors.chain(compared).collect(),
            lost,
            sinks: self.provers.iter_mut().map(Prover::sink).collect(),
            written: &mut [],
            memory: self.pool.restraint().memory,
        };
        let report = &mut self.report;
        let completed = solving
            .complete(&cells, &mut meter, &mut |met| damage::note(self.pool, met, &mut report.damage))?;
        report.parity_cells = completed.compared.values().sum();
        report.parity_cells_wrong = completed.differ;
        report.parity_cells_lost = completed.unknown;
        report.stopped = completed.stopped;
        Ok(())
    }

    /// Compares what came out with what was predicted, file by file.
    fn conclude(mut self, model: &VolumeModel, lost: &[DiskId]) -> Result<Report> {
        let predicted = model.evaluate(lost).fates;
        self.provers.iter_mut().try_for_each(Prover::settle)?;
        let proven: HashSet<usize> = self
            .provers
            .iter()
            .flat_map(Prover::outcomes)
            .filter(|(.., fate)| fate.is_whole())
            .filter_map(|(object, ..)| model.object_index(object))
            .collect();
        for prover in &self.provers {
            let disk = self.pool.member(prover.disk())?.row.name.clone();
            for (object, size, obtained) in prover.outcomes() {
                let Some(position) = model.object_index(object) else { continue };
                let predicted = predicted[position];
                let obtained = match obtained.is_whole() {
                    // From a copy that parity brings back, or from one on a survivor.
                    false if model.other_copies(position).any(|other| proven.contains(&other)) => {
                        Fate::Rebuilt
                    }
                    false if is_elsewhere(self.pool, model, position, object, lost)? => Fate::Rebuilt,
                    _ => obtained,
                };
                self.report.predicted.add(predicted, size);
                self.report.obtained.add(obtained, size);
                if predicted != obtained {
                    let names = objects::names(self.pool.catalogue.reading(), object)?;
                    let path = names.first().map_or_else(|| format!("object {object}"), ToString::to_string);
                    self.report.surprises.push(Surprise { disk: disk.clone(), path, predicted, obtained });
                }
            }
        }
        Ok(self.report)
    }
}

/// Whether another copy of an object's present content is on a survivor, and is what its checksum says.
fn is_elsewhere(
    pool: &Pool,
    model: &VolumeModel,
    position: usize,
    object: ObjectId,
    lost: &[DiskId],
) -> Result<bool> {
    let Some(elsewhere) = model.copy_elsewhere(pool, position, lost)? else { return Ok(false) };
    let version = objects::get(pool.catalogue.reading(), object)?.and_then(|object| object.version);
    let Some(version) = version else { return Ok(false) };
    let expected = versions::get(pool.catalogue.reading(), version)?.sum;
    let mut hasher = ContentHasher::new(expected.size);
    elsewhere.read(pool, |bytes| {
        hasher.update(bytes);
        Ok(())
    })?;
    Ok(hasher.finish() == Some(expected))
}
