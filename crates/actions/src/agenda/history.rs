//! When jobs were last done, as the journal tells.

use std::collections::BTreeMap;
use std::ops::ControlFlow;

use sieve_core::agenda::Task;
use sieve_core::pool::JobSpec;
use sieve_disk::Result;
use sieve_pool::journal::{self, Did, Ended, Entry};
use sieve_pool::pool::Pool;

/// Nanoseconds in a second.
pub(super) const SECOND: i64 = 1_000_000_000;

/// The last run of a job.
#[derive(Clone, Debug, PartialEq)]
pub struct LastRun {
    /// When it began, nanoseconds since 1970.
    pub begun: i64,
    /// When it ended.
    pub ended: i64,
    /// How it ended.
    pub how: Ended,
    /// What the journal says of it.
    pub said: Option<String>,
}

/// The last run of each job that has one, by the position of the job.
///
/// What somebody did by hand counts as well, where it was the whole of it.
///
/// # Errors
/// What the disk says.
pub fn last_runs(pool: &Pool) -> Result<BTreeMap<usize, LastRun>> {
    let jobs = &pool.spec.agenda.jobs;
    // Further back than two periods nothing is decided by it.
    let longest = jobs.iter().map(|job| job.when.period()).fold(1.0, f64::max);
    let since = pool.machine.now().saturating_sub((longest * 2.5 * 86_400.0) as i64 * SECOND);
    let mut found: BTreeMap<usize, LastRun> = BTreeMap::new();
    journal::backward(&*pool.home, |entry| {
        for (position, job) in jobs.iter().enumerate() {
            if !found.contains_key(&position) && is_run_of(&entry, job, jobs) {
                found.insert(position, last_run(&entry));
            }
        }
        if found.len() == jobs.len() || entry.at < since {
            ControlFlow::Break(())
        } else {
            ControlFlow::Continue(())
        }
    })?;
    Ok(found)
}

fn last_run(entry: &Entry) -> LastRun {
    let took = (entry.seconds.unwrap_or(0.0) * SECOND as f64) as i64;
    LastRun {
        begun: entry.at.saturating_sub(took),
        ended: entry.at,
        how: entry.ended,
        said: entry.said.clone(),
    }
}

fn is_run_of(entry: &Entry, job: &JobSpec, jobs: &[JobSpec]) -> bool {
    if let Some(name) = &entry.job {
        return *name == job.name && entry.did == did(job.task);
    }
    let is_only =
        jobs.iter().filter(|other| other.task == job.task && other.volume == job.volume).count() == 1;
    let volume = entry.detail.get("volume").and_then(serde_json::Value::as_str);
    is_only
        && entry.has_ended()
        && entry.did == did(job.task)
        && entry.disks.is_empty()
        && (job.task != Task::Settle || job.volume.is_none() || job.volume.as_deref() == volume)
        && job.share.is_none()
}

/// The word of the journal for what a job does.
pub(super) const fn did(task: Task) -> Did {
    match task {
        Task::Settle => Did::Settle,
        Task::Sync => Did::Sync,
        Task::Verify => Did::Verify,
        Task::ShortTest | Task::LongTest => Did::SelfTest,
        Task::Report | Task::BackupListing => Did::Report,
    }
}
