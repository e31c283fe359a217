//! Doing it: surplus copies are held, and one commit makes the volume another kind.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::intents::{self, Intent};
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::{mark_changed, volumes};
use sieve_core::count::Count;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_disk::copying;
use sieve_disk::event::{Observer, advance, heed};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::held::{self, ToHold};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;
use uuid::Uuid;

use super::joins::Joins;
use super::plan::PreparedConvert;
use super::surplus::{Copy, Surplus, batches};
use super::told::PiecesReport;
use crate::files::moves::{LeftAlone, announce};

/// So many files are looked at before their further copies go.
const BATCH: usize = 64;

/// What was done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct ConvertReport {
    /// The volume.
    pub volume: String,
    /// What it was.
    pub from: &'static str,
    /// What it is now, if that came to its end.
    pub to: &'static str,
    /// Copies that are held until the next sync.
    pub held: Count,
    /// What became of files in pieces.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pieces: Option<PiecesReport>,
    /// Copies that stayed, and why: then the volume is of its old kind still.
    pub left_alone: Vec<LeftAlone>,
    /// It was asked to stop before its end: it is of its old kind still.
    pub stopped: bool,
}

impl ConvertReport {
    /// Whether it is of the new kind.
    pub fn is_done(&self) -> bool {
        !self.stopped && self.left_alone.is_empty() && !self.waits()
    }

    /// Whether files are in pieces still, and a sync has to come before the next run goes on.
    pub fn waits(&self) -> bool {
        self.pieces.as_ref().is_some_and(|pieces| pieces.waiting.files + pieces.without_room.files > 0)
    }
}

/// Makes a volume another kind.
///
/// # Crash safety
/// A further copy is held after the one that stays was read and found to be whole; until the commit the volume is of its old
/// kind, in which a copy that is missing is made again by a sync. The commit notes the change of the pool file, which the next
/// start finishes.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, prepared: PreparedConvert, observer: &dyn Observer) -> Result<ConvertReport> {
    pool.expect_long()?;
    let PreparedConvert { plan, to, joins, surplus, edits } = prepared;
    let mut report = ConvertReport {
        volume: plan.volume.clone(),
        from: plan.from,
        to: plan.to,
        held: Count::default(),
        pieces: plan.pieces.is_some().then(PiecesReport::default),
        left_alone: Vec::new(),
        stopped: false,
    };
    let row = pool.members.iter().find(|member| member.row.volume == plan.volume);
    let id = row.and_then(|member| member.row.volume_id).ok_or_else(|| {
        let message = format!("volume {} has no id yet", plan.volume);
        Error::new(Kind::Conflict, "convert.no-id", message).remedy("zinc-sieve sync gives it one")
    })?;
    let volume = pool.volume(Some(&plan.volume))?;
    match work(pool, &volume, joins, &surplus, observer, &mut report) {
        Err(error) if error.is_stop() => report.stopped = true,
        other => other?,
    }
    if report.is_done() && !edits.is_empty() {
        commit(pool, &plan.volume, (id, to), &edits)?;
    }
    let ended = Ended::of(report.stopped, report.left_alone.is_empty());
    pool.tell(Entry::new(Did::Convert).ended(ended).files(report.held).detail(&report)?)?;
    pool.refresh_rows()?;
    Ok(report)
}

/// What comes before the commit.
fn work(
    pool: &Pool,
    volume: &VolumeSpec,
    joins: Joins,
    surplus: &[Surplus],
    observer: &dyn Observer,
    report: &mut ConvertReport,
) -> Result<()> {
    if let Some(pieces) = &mut report.pieces {
        joins.execute(pool, volume, observer, pieces, &mut report.left_alone)?;
    }
    announce(observer, "comparing", surplus.iter().map(|one| one.keep.object.size).sum());
    batches(surplus, BATCH).into_iter().try_for_each(|batch| hold_batch(pool, batch, observer, report))
}

fn commit(pool: &mut Pool, volume: &str, (id, to): (Uuid, VolumeKind), edits: &[Edit]) -> Result<()> {
    let intent = Intent::EditPoolFile { edits: edits.to_vec() };
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        volumes::identify(t, volume, id, to)?;
        intents::insert(t, &intent).map(|_| ())
    })?;
    edit_pool_file(pool, edits)?;
    // Before the intent goes: after it, nobody would know that the replicas still speak of the old kind.
    tell_all_members(pool)?;
    forget_intents(pool, |other| *other == intent)
}

/// Further copies of some files are held, each after the one that stays was read (L1).
fn hold_batch(
    pool: &Pool,
    batch: &[Surplus],
    observer: &dyn Observer,
    report: &mut ConvertReport,
) -> Result<()> {
    let mut proven: Vec<&Surplus> = Vec::new();
    for one in batch {
        heed(observer)?;
        if is_whole(pool, &one.keep, one, observer)? {
            proven.push(one);
        } else {
            let why = format!("its copy on {} is not what was checksummed", one.keep.disk_name);
            report.left_alone.push(LeftAlone { path: one.path.to_string(), why });
        }
    }
    for member in &pool.members {
        let here = proven.iter().flat_map(|one| one.go.iter().map(move |copy| (one, copy)));
        let here = here.filter(|(_, copy)| copy.disk == member.row.id);
        let items: Vec<ToHold> = here
            .map(|(one, copy)| ToHold { path: one.path.clone(), object: copy.object.clone(), watched: None })
            .collect();
        if items.is_empty() {
            continue;
        }
        let sizes: Vec<_> = items.iter().map(|item| (item.path.clone(), item.object.size)).collect();
        let left = held::take(pool, member, items)?.record()?;
        for (_, size) in sizes.iter().filter(|(path, _)| left.iter().all(|left| left.path != *path)) {
            report.held.add(*size);
        }
        report
            .left_alone
            .extend(left.into_iter().map(|l| LeftAlone { path: l.path.to_string(), why: l.why.into() }));
    }
    Ok(())
}

fn is_whole(pool: &Pool, keep: &Copy, one: &Surplus, observer: &dyn Observer) -> Result<bool> {
    let disk = pool.member(keep.disk)?.usable()?;
    let mut file = disk.open(&one.path)?;
    if !keep.object.matches(&file.stat()?) {
        return Ok(false);
    }
    let sum = copying::checksum(&mut *file, keep.object.size, |bytes| {
        advance(observer, usize::try_from(bytes).unwrap_or(usize::MAX))
    })?;
    Ok(sum.is_some() && sum == keep.sum)
}
