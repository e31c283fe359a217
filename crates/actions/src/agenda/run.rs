//! Doing what is due. Nobody is asked: what would need an answer is refused, and told.

use sieve_core::agenda::Task;
use sieve_core::pool::{JobSpec, VolumeSpec};
use sieve_disk::event::{Event, Observer};
use sieve_disk::machine::Machine;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::journal::{Ended, Entry};
use sieve_pool::pool::Pool;

use super::due::Arrived;
use super::history::did;
use crate::files::settle;
use crate::guard::{sync, verify};

/// What came of a job.
#[derive(Debug)]
pub enum Ran {
    /// It is done, or was stopped and goes on later.
    To(Ended),
    /// Somebody else is at work: it is tried again.
    Waits(Error),
    /// It could not be done; the journal says why.
    Not(Error),
}

/// What jobs do that are not work on the volumes: a page is written, disks test themselves.
pub trait Others {
    /// Does it.
    ///
    /// # Errors
    /// Why it could not be done.
    fn run(&self, pool: &Pool, job: &JobSpec, observer: &dyn Observer) -> Result<Ended>;
}

/// Somebody who wants a work to stop at a moment, or when another one wants it.
struct Until<'a> {
    machine: &'a dyn Machine,
    moment: i64,
    inner: &'a dyn Observer,
}

impl Observer for Until<'_> {
    fn event(&self, event: Event) {
        self.inner.event(event);
    }

    fn is_stopped(&self) -> bool {
        self.inner.is_stopped() || self.machine.now() >= self.moment
    }

    fn later_seconds(&self) -> f64 {
        self.inner.later_seconds()
    }
}

/// Does a job, until it is done or the moment comes (nanoseconds since 1970).
///
/// # Crash safety
/// That of what it does; killed at any moment it is due again.
///
/// # Errors
/// When the journal cannot be written. Why a job could not be done is what came of it.
pub fn run(
    pool: &mut Pool,
    job: &JobSpec,
    arrived: &Arrived,
    until: i64,
    others: &dyn Others,
    observer: &dyn Observer,
) -> Result<Ran> {
    let machine = std::sync::Arc::clone(&pool.machine);
    let until = Until { machine: &*machine, moment: until, inner: observer };
    pool.job = Some(job.name.clone());
    let outcome = task(pool, job, arrived, others, &until);
    pool.end();
    let came = match outcome {
        Ok(ended) => Ran::To(ended),
        // Before it had anything to report: it is due all the same.
        Err(error) if error.is_stop() => Ran::To(Ended::Stopped),
        Err(error) if error.code == "pool.busy" => Ran::Waits(error),
        Err(error) => {
            let mut entry = Entry::new(did(job.task)).ended(Ended::with(error.kind));
            entry.said = Some(error.to_string());
            pool.tell(entry)?;
            Ran::Not(error)
        }
    };
    pool.job = None;
    Ok(came)
}

fn task(
    pool: &mut Pool,
    job: &JobSpec,
    arrived: &Arrived,
    others: &dyn Others,
    observer: &dyn Observer,
) -> Result<Ended> {
    match job.task {
        Task::Settle => settle_job(pool, job, observer),
        Task::Sync => sync_job(pool, job, arrived, observer),
        Task::Verify => verify_job(pool, job, observer),
        Task::ShortTest | Task::LongTest | Task::Report | Task::BackupListing => {
            others.run(pool, job, observer)
        }
    }
}

fn settle_job(pool: &mut Pool, job: &JobSpec, observer: &dyn Observer) -> Result<Ended> {
    let volume = match &job.volume {
        Some(name) => pool.volume(Some(name))?,
        None => pool.volumes().into_iter().find(VolumeSpec::settles).ok_or_else(|| {
            Error::new(Kind::Usage, "settle.nothing", "no volume has a cache or tiers: nothing settles")
        })?,
    };
    crate::begin_long(pool, "settle")?;
    let options = settle::Options::default();
    let plan = settle::plan(pool, &volume, &options, observer)?;
    let report = settle::execute(pool, &volume, &plan, &options, observer)?;
    Ok(Ended::of(report.moved.stopped, true))
}

fn sync_job(pool: &mut Pool, job: &JobSpec, arrived: &Arrived, observer: &dyn Observer) -> Result<Ended> {
    crate::begin_long(pool, "sync")?;
    let options = sync::Options { disks: disks_to_sync(pool, job, arrived), ..sync::Options::default() };
    let plan = sync::plan(pool, &options, observer)?;
    let report = sync::execute(pool, &plan, &options, observer)?;
    Ok(Ended::of(report.stopped, report.is_clean()))
}

/// The data disks of the volume; of a job that follows arrivals those that something came to, so that the others sleep. None
/// are named where it is all of them.
fn disks_to_sync(pool: &Pool, job: &JobSpec, arrived: &Arrived) -> Vec<String> {
    use sieve_core::agenda::When;
    let of_volume = |name: &String| {
        job.volume.is_none() || pool.spec.volume_of(name).map(|v| &v.name) == job.volume.as_ref()
    };
    let data: Vec<String> = pool.spec.volumes.iter().flat_map(|volume| volume.data.clone()).collect();
    let follows = matches!(job.when, When::AfterArrival(_)) && arrived.is_watched;
    let wanted = |name: &&String| of_volume(name) && (!follows || arrived.disks.contains(name));
    let named: Vec<String> = data.iter().filter(wanted).cloned().collect();
    if named.len() == data.len() { Vec::new() } else { named }
}

fn verify_job(pool: &mut Pool, job: &JobSpec, observer: &dyn Observer) -> Result<Ended> {
    crate::begin_long(pool, "verify")?;
    let scope = match (&job.volume, job.share) {
        (_, Some(share)) if share.fraction() < 1.0 => verify::Scope::Share(share.fraction()),
        (Some(volume), _) if pool.spec.volumes.len() > 1 => {
            let of_volume = pool.members.iter().filter(|member| member.row.volume == *volume);
            verify::Scope::Disks(of_volume.map(|member| member.row.name.clone()).collect())
        }
        _ => verify::Scope::Whole,
    };
    let report = verify::verify(pool, &scope, observer)?;
    let well = report.is_clean() && report.missing.is_empty();
    Ok(Ended::of(report.stopped, well))
}
