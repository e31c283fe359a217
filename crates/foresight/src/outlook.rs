//! What a loss is worked out for: the volumes of a pool that exists, or a pool on paper.

use sieve_core::amounts::Amounts;
use sieve_core::fate::{Cost, DiskIndex, DiskSet, Exposures, Stakes};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::pool::PoolSpec;
use sieve_core::units::{DiskId, VersionId};

use super::after::{Step, after};
use super::look::{self, Look, Looked};
use super::stakes::{RiskMember, RiskVolume};
use sieve_actions::guard::sync;
use sieve_catalogue::label::Role;
use sieve_catalogue::versions;
use sieve_disk::event::{Event, Observer, Silent, Unit};
use sieve_disk::{Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::fate::{Evaluation, FileFate, VolumeModel, load};
use sieve_pool::member::usable_bytes;
use sieve_pool::pool::Pool;

/// A disk that is missing now, and when it was last scanned.
#[derive(Clone, Debug)]
pub struct Missing {
    /// Its name.
    pub name: String,
    /// When it was last scanned, nanoseconds since 1970.
    pub scanned_at: Option<i64>,
}

/// What is done with a file of a certain path, and its rows.
pub type AtPath<'a> = dyn FnMut(FileFate<'_>, Vec<Rows>) -> Result<()> + 'a;

/// A pool, real or on paper, whose fate can be asked for.
pub trait Outlook {
    /// When what it follows from was last looked at, where that was not now; nanoseconds since 1970.
    fn as_of(&self) -> Option<i64> {
        None
    }

    /// What its file says.
    fn spec(&self) -> &PoolSpec;

    /// The disks that are there and may be lost.
    fn disk_names(&self) -> Vec<String>;

    /// The disks that are missing now: they are lost in any case.
    fn missing(&self) -> Vec<Missing>;

    /// Takes it that a step was done first; says in words what has to be known about that.
    ///
    /// # Errors
    /// When the step cannot be done.
    fn after(&mut self, step: &Step) -> Result<Vec<String>>;

    /// Works out the fates when the disks of these names are lost, besides those missing now.
    ///
    /// # Errors
    /// When there is no such disk.
    fn lose(&mut self, names: &[String], with_reasons: bool) -> Result<()>;

    /// Calls `visit` with every file and its fate under the loss that was last worked out.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    fn for_each_file(&self, visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>) -> Result<()>;

    /// Calls `visit` with the file of that path on each disk that has one, and the rows that it has in its lane.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    fn files_at(&self, path: &RelPath, visit: &mut AtPath<'_>) -> Result<()>;

    /// The BLAKE3 of a whole content, where one is known.
    ///
    /// # Errors
    /// What the database says.
    fn checksum(&self, content: VersionId) -> Result<Option<[u8; 32]>>;

    /// The volumes as the risk is worked out for them.
    ///
    /// # Errors
    /// What a disk or the database says.
    fn risk_volumes(&self) -> Result<Vec<RiskVolume>>;

    /// What any set of up to `most` disks costs.
    ///
    /// # Errors
    /// What the database says.
    fn costs(&self, most: usize) -> Result<Costs>;
}

/// What sets of disks cost.
pub struct Costs {
    /// The disks that sets are chosen from.
    pub names: Vec<String>,
    /// For each volume what is at stake, and which of its disks each of `names` is.
    pub(crate) volumes: Vec<(Stakes, Vec<Option<DiskIndex>>)>,
}

impl Costs {
    /// What the loss of these disks costs, as positions in `names`.
    pub fn of(&self, set: &[usize]) -> Cost {
        let cost = |(stakes, indices): &(Stakes, Vec<Option<DiskIndex>>)| {
            let lost: DiskSet = set.iter().filter_map(|p| indices[*p]).collect();
            stakes.cost(&lost)
        };
        self.volumes.iter().map(cost).fold(Cost::default(), Cost::plus)
    }
}

fn days_between(from: i64, to: i64) -> f64 {
    to.saturating_sub(from).max(0) as f64 / 86_400e9
}

/// A pool that exists.
pub struct PoolOutlook<'a> {
    /// The pool.
    pub pool: &'a Pool,
    /// Its volumes, each with the loss that was last worked out.
    pub volumes: Vec<(VolumeModel, Evaluation)>,
    missing: Vec<DiskId>,
    /// When the files on the disks were last looked at, where that was not now; nanoseconds since 1970.
    pub as_of: Option<i64>,
}

impl<'a> PoolOutlook<'a> {
    /// Looks at what is there, and loads all volumes.
    ///
    /// # Errors
    /// What a disk or the database says.
    pub fn open(pool: &'a Pool, how: Look, observer: &dyn Observer) -> Result<Self> {
        let as_of = match look::look(pool, how, observer)? {
            Looked::Now(_) => None,
            Looked::Before(at) => Some(at),
        };
        observer.event(Event::Stage { name: "working out what survives", total: 0, unit: Unit::Files });
        let mut volumes = Vec::new();
        for volume in pool.volumes() {
            let model = load(pool, &volume.name)?;
            let evaluation = model.evaluate(&[]);
            volumes.push((model, evaluation));
        }
        let missing = pool.members.iter().filter(|m| !m.state.is_usable()).map(|m| m.row.id).collect();
        Ok(Self { pool, volumes, missing, as_of })
    }

    fn risk_members(&self, volume: &VolumeModel) -> Result<Vec<RiskMember>> {
        let member = |id: &DiskId| self.pool.member(*id);
        let mut members = Vec::new();
        for id in &volume.disks {
            let lost = member(id)?;
            let reach = lost.used_bytes(&self.pool.catalogue)?;
            let mut amounts = Amounts::new();
            for other in &volume.disks {
                let used = member(other)?.used_bytes(&self.pool.catalogue)?;
                amounts.set(&member(other)?.row.name, used.min(reach));
            }
            let is_data = lost.row.role == Role::Data;
            members.push(RiskMember {
                name: lost.row.name.clone(),
                spec: lost.spec.clone().unwrap_or_default(),
                capacity: usable_bytes(lost.spec.as_ref(), lost.filesystem.as_ref()).unwrap_or(reach),
                free: if is_data { Some(lost.free_bytes(&self.pool.catalogue)?) } else { None },
                rebuild_hours: forecast_pass(self.pool, &amounts)?.likely.hours(),
            });
        }
        Ok(members)
    }

    /// Hours that disks are busy with a sync, as one would be planned; none where it would stop and ask.
    fn sync_hours(&self, volume: &VolumeModel) -> Result<Option<f64>> {
        match sync::plan(self.pool, &sync::Options::default(), &Silent) {
            Ok(plan) => Ok(Some(plan.forecast.likely.hours() * volume.disks.len() as f64)),
            Err(error) if matches!(error.kind, Kind::Safety | Kind::Conflict) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn there(&self) -> impl Iterator<Item = (DiskId, &str)> {
        let members = self.pool.members.iter().filter(|m| !self.missing.contains(&m.row.id));
        members.map(|m| (m.row.id, m.row.name.as_str()))
    }
}

impl Outlook for PoolOutlook<'_> {
    fn as_of(&self) -> Option<i64> {
        self.as_of
    }

    fn spec(&self) -> &PoolSpec {
        &self.pool.spec
    }

    fn disk_names(&self) -> Vec<String> {
        self.there().map(|(_, name)| name.to_string()).collect()
    }

    fn missing(&self) -> Vec<Missing> {
        let gone = self.pool.members.iter().filter(|m| self.missing.contains(&m.row.id));
        gone.map(|m| Missing { name: m.row.name.clone(), scanned_at: m.row.scanned_at }).collect()
    }

    fn after(&mut self, step: &Step) -> Result<Vec<String>> {
        let mut notes = Vec::new();
        for (model, _) in &mut self.volumes {
            notes.extend(after(model, self.pool, step)?);
        }
        if let Step::Replace { disk, .. } = step {
            let replaced = self.pool.member_named(disk)?.row.id;
            self.missing.retain(|id| *id != replaced);
        }
        Ok(notes)
    }

    fn lose(&mut self, names: &[String], with_reasons: bool) -> Result<()> {
        let named = names
            .iter()
            .map(|name| Ok(self.pool.member_named(name)?.row.id))
            .collect::<Result<Vec<DiskId>>>()?;
        for (model, evaluation) in &mut self.volumes {
            *evaluation =
                if with_reasons { model.evaluate_with_reasons(&named) } else { model.evaluate(&named) };
        }
        Ok(())
    }

    fn for_each_file(&self, visit: &mut dyn FnMut(FileFate<'_>) -> Result<()>) -> Result<()> {
        self.volumes
            .iter()
            .try_for_each(|(model, evaluation)| model.for_each_file(self.pool, evaluation, &mut *visit))
    }

    fn files_at(&self, path: &RelPath, visit: &mut AtPath<'_>) -> Result<()> {
        self.volumes
            .iter()
            .try_for_each(|(model, evaluation)| model.files_at(self.pool, evaluation, path, &mut *visit))
    }

    fn checksum(&self, content: VersionId) -> Result<Option<[u8; 32]>> {
        let version = versions::get(self.pool.catalogue.reading(), content)?;
        Ok((!version.unfinished).then_some(version.sum.whole))
    }

    fn risk_volumes(&self) -> Result<Vec<RiskVolume>> {
        let now = self.pool.machine.now();
        let days_since = |at: Option<i64>| at.map(|at| days_between(at, now));
        let age = days_since(self.pool.catalogue.synced_at()?);
        let seen = days_since(self.pool.catalogue.first_synced_at()?);
        let mut volumes = Vec::new();
        for (volume, _) in &self.volumes {
            let mut synced = volume.clone();
            // With a disk missing there is no sync: then what is guarded now is all there is.
            let can_sync = self.missing.is_empty() && age.is_some();
            if can_sync {
                after(&mut synced, self.pool, &Step::Sync)?;
            }
            volumes.push(RiskVolume {
                name: volume.volume.clone(),
                now: volume.model.clone(),
                synced: synced.model,
                missing: volume.missing.clone(),
                names: volume.name_counts(self.pool)?,
                seen,
                disks: self.risk_members(volume)?,
                sync_hours: if self.missing.is_empty() { self.sync_hours(volume)? } else { None },
            });
        }
        Ok(volumes)
    }

    fn costs(&self, most: usize) -> Result<Costs> {
        let mut costs = Costs { names: self.disk_names(), volumes: Vec::new() };
        for (volume, _) in &self.volumes {
            let names = volume.name_counts(self.pool)?;
            let stakes = Exposures::new(&volume.model, &volume.missing, most)
                .stakes(&volume.model, |position| names[position]);
            let indices = self.there().map(|(id, _)| volume.index(id)).collect();
            costs.volumes.push((stakes, indices));
        }
        Ok(costs)
    }
}
