//! Files that go from one volume to another: copied and verified, guarded there by a sync, and only then taken away, so that no
//! file is guarded less at any moment than it is before and afterwards (L8).
//!
//! Nothing is written down of how far it came: a file is in the one volume, in both, or in the other, and running it again goes
//! on from what is found.

mod proof;
mod source;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_catalogue::{nodes, objects};
use sieve_core::count::Count;
use sieve_core::forecast::Forecast;
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::grounds::Grounds;
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;
use sieve_pool::{pieces, scan};

use super::moves::LeftAlone;
use super::put;
use super::put::{Origin, PlannedFile, PutPlan, PutReport, Source, Wanted};
use super::read::not_found;
use super::remove;
use crate::guard::sync;
use crate::guard::sync::SyncReport;
use proof::Proof;
use source::OfVolume;

const STOPPED: &str = "it was asked to stop, and the same move goes on from here";

/// What is to go where.
#[derive(Clone, Copy)]
pub struct Request<'a> {
    /// The volume that has it.
    pub from: &'a VolumeSpec,
    /// The volume that is to have it.
    pub to: &'a VolumeSpec,
    /// Files and folders.
    pub paths: &'a [RelPath],
    /// The data disk that it is to go to, where that is said.
    pub disk: Option<&'a str>,
}

/// What goes from one volume to another.
#[derive(Serialize, JsonSchema)]
pub struct TransferPlan {
    /// The volume that has it.
    pub from: String,
    /// The volume that is to have it.
    pub to: String,
    /// All files that are to be copied.
    pub files: Vec<PlannedFile>,
    /// Files and bytes, by the disk that they go to.
    #[serde(serialize_with = "sieve_core::pairs::by_name")]
    #[schemars(with = "std::collections::BTreeMap<String, Count>")]
    pub by_disk: Vec<(String, Count)>,
    /// Files that are there already, whole and the same: an earlier run was interrupted.
    pub there_already: u64,
    /// What stays where it is, in words.
    pub skipped: Vec<String>,
    /// How many disks may die there before a file is lost, when a sync has passed it.
    pub guard_after: usize,
    /// The same where it is.
    pub guard_before: usize,
    /// A sync guards it there before it is taken away here.
    pub syncs: bool,
    /// How long the copies take, without the sync.
    pub forecast: Option<Forecast>,
    #[serde(skip)]
    put: PutPlan,
    #[serde(skip)]
    paths: Vec<RelPath>,
}

impl TransferPlan {
    /// What matters of it.
    pub fn essence(&self) -> serde_json::Value {
        serde_json::json!([self.from, self.to, self.put.essence()])
    }
}

/// What went.
#[derive(Debug, Serialize, JsonSchema)]
pub struct TransferReport {
    /// What was copied.
    pub put: PutReport,
    /// The sync that guards it, where it came to that.
    pub sync: Option<SyncReport>,
    /// Files and bytes that were taken away, by the disk that had them.
    #[serde(serialize_with = "sieve_core::pairs::by_name")]
    #[schemars(with = "std::collections::BTreeMap<String, Count>")]
    pub taken_away: Vec<(String, Count)>,
    /// What is in the first volume still, and why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_alone: Vec<LeftAlone>,
    /// Why nothing was taken away, where it did not come to that.
    pub stays: Option<String>,
    /// It was asked to stop before its end.
    pub stopped: bool,
}

impl TransferReport {
    /// Whether all of it is in the other volume alone.
    pub fn is_whole(&self) -> bool {
        self.stays.is_none() && self.left_alone.is_empty() && self.put.skipped.is_empty()
    }

    /// Files and bytes that went.
    pub fn total(&self) -> Count {
        self.taken_away.iter().fold(Count::default(), |sum, (_, count)| sum.plus(*count))
    }
}

/// Whether a volume has something under a path.
///
/// # Errors
/// What a disk or the database says.
pub fn has(pool: &Pool, volume: &str, path: &RelPath) -> Result<bool> {
    let reading = pool.catalogue.reading();
    for member in pool.file_members(volume) {
        let is_there = match member.usable() {
            Ok(disk) => disk.stat(path)?.is_some(),
            Err(_) => {
                objects::by_path(reading, member.row.id, path)?.is_some()
                    || nodes::get(reading, member.row.id, path)?.is_some()
            }
        };
        if is_there {
            return Ok(true);
        }
    }
    let mut pieced = pieces::files(pool, volume)?.into_iter().chain(pieces::rests(pool, volume)?);
    Ok(pieced.any(|file| file.path.is_within(path)))
}

/// Finds everything a place in the other volume.
///
/// # Errors
/// When a path names nothing, a disk of either volume is away, a name is taken there, or something fits on no disk.
pub fn plan(pool: &Pool, request: Request<'_>, observer: &dyn Observer) -> Result<TransferPlan> {
    let Request { from, to, paths, disk } = request;
    for member in pool.members.iter().filter(|m| m.row.volume == from.name || m.row.volume == to.name) {
        member.writable()?;
    }
    let (paths, origins) = origins(pool, from, paths, observer)?;
    let mut grounds = Grounds::open(pool, to)?.without_caches();
    if let Some(disk) = disk {
        refuse_disk(to, disk)?;
        grounds = grounds.only_on(disk);
    }
    let wanted = Wanted { volume: to, folder: &RelPath::ROOT, replace: false, grounds };
    let put = put::plan_origins(pool, wanted, origins).map_err(|mut error| {
        if error.code == put::NAMES_TAKEN {
            error.remedy =
                Some(format!("look at both, and remove or rename one: nothing of {} is replaced", to.name));
        }
        error
    })?;
    Ok(TransferPlan {
        from: from.name.clone(),
        to: to.name.clone(),
        files: put.files(pool).collect(),
        by_disk: put.by_disk.clone(),
        there_already: put.there_already,
        skipped: put.skipped.clone(),
        guard_before: promised(from),
        guard_after: promised(to),
        syncs: has_parity(pool, to),
        forecast: put.forecast(pool).ok(), // a help and no more: curves that cannot be read stop no copy
        put,
        paths,
    })
}

/// The outermost of the paths, and where each is read from.
fn origins(
    pool: &Pool,
    from: &VolumeSpec,
    paths: &[RelPath],
    observer: &dyn Observer,
) -> Result<(Vec<RelPath>, Vec<Origin>)> {
    // What lies within another of the paths comes with that one.
    let outermost = |path: &RelPath| paths.iter().all(|other| other == path || !path.is_within(other));
    let mut paths: Vec<RelPath> = paths.iter().filter(|path| outermost(path)).cloned().collect();
    paths.sort();
    paths.dedup();
    scan::scan_at(pool, |member| member.row.volume == from.name, &paths, observer)?;
    let mut origins = Vec::new();
    for path in &paths {
        if path.is_root() || path.is_ours() {
            let message = "a volume goes as a whole by `rename`, or folder by folder";
            return Err(Error::new(Kind::Usage, "move.path", message));
        }
        if !has(pool, &from.name, path)? {
            return Err(not_found(pool, &from.name, path)?);
        }
        let source = Box::new(OfVolume::open(pool, from)?);
        // Of a file in pieces an interrupted run may have left the last ones, which are only to be taken away.
        if source.stat(path)?.is_some() {
            origins.push(Origin { source, path: path.clone() });
        }
    }
    Ok((paths, origins))
}

fn refuse_disk(to: &VolumeSpec, disk: &str) -> Result<()> {
    if to.kind == VolumeKind::Mirrored {
        let message = format!("{} is mirrored: it chooses the disks of the copies itself", to.name);
        return Err(Error::new(Kind::Usage, "move.mirrored", message).remedy("leave --to out"));
    }
    if !to.data.iter().any(|name| name == disk) {
        let names = to.data.iter().map(String::as_str);
        let message = sieve_core::suggest::unknown("data disk", disk, names);
        return Err(Error::new(Kind::NotFound, "move.disk", message));
    }
    Ok(())
}

fn has_parity(pool: &Pool, volume: &VolumeSpec) -> bool {
    pool.members_of(&volume.name, Role::Parity).next().is_some()
}

/// How many disks may die before a file of a volume is lost.
fn promised(volume: &VolumeSpec) -> usize {
    let copies = if volume.kind == VolumeKind::Mirrored { volume.copies.saturating_sub(1) } else { 0 };
    copies + volume.parity.len()
}

/// Copies, syncs where it came to, and takes away where it was.
///
/// # Crash safety
/// That of a put, a sync and a removal, one after the other.
///
/// # Errors
/// What a disk or the database says.
pub fn execute(pool: &mut Pool, plan: &TransferPlan, observer: &dyn Observer) -> Result<TransferReport> {
    pool.expect_long()?;
    let begun = std::time::Instant::now();
    let mut report = TransferReport {
        put: put::execute(pool, &plan.put, observer)?,
        sync: None,
        taken_away: Vec::new(),
        left_alone: Vec::new(),
        stays: None,
        stopped: false,
    };
    report.stopped = report.put.stopped;
    if report.stopped {
        report.stays = Some(STOPPED.into());
        return Ok(report);
    }
    if plan.syncs && !pass(pool, plan, &mut report, observer)? {
        return Ok(report);
    }
    take_away(pool, plan, &mut report)?;
    let disks = report.taken_away.iter().filter(|(_, count)| count.files > 0).map(|(name, _)| name);
    let ended = Ended::of(false, report.is_whole());
    let told = Entry::new(Did::Shift).ended(ended).files(report.total()).on(disks).detail(&report)?;
    pool.tell(told.took(begun.elapsed().as_secs_f64()))?;
    Ok(report)
}

/// A sync of the other volume; false where it left something.
fn pass(
    pool: &mut Pool,
    plan: &TransferPlan,
    report: &mut TransferReport,
    observer: &dyn Observer,
) -> Result<bool> {
    let disks = pool.members_of(&plan.to, Role::Data).map(|member| member.row.name.clone()).collect();
    let options = sync::Options { disks, ..sync::Options::default() };
    let planned = sync::plan(pool, &options, observer)?;
    let synced = sync::execute(pool, &planned, &options, observer)?;
    let is_clean = synced.is_clean();
    report.stopped = synced.stopped;
    report.sync = Some(synced);
    if !is_clean {
        let left = format!("the sync did not pass everything of {}: see to that, then run it again", plan.to);
        report.stays = Some(if report.stopped { STOPPED.into() } else { left });
    }
    Ok(is_clean)
}

fn take_away(pool: &Pool, plan: &TransferPlan, report: &mut TransferReport) -> Result<()> {
    let mut removal = remove::plan(pool, &plan.from, &plan.paths, true)?;
    let mut proof = Proof::new(pool, &plan.from, &plan.to)?;
    report.left_alone = removal.leave(pool, |disk, path| proof.stays(disk, path))?;
    let removed = remove::execute(pool, removal)?;
    report.left_alone.extend(removed.left_alone);
    report.taken_away = removed.by_disk;
    Ok(())
}
