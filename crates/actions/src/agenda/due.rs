//! What is due now, and when something is due next.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use sieve_core::agenda::{Setting, Span, Task, When};
use sieve_core::pool::{AgendaSpec, JobSpec};
use sieve_disk::Result;
use sieve_pool::journal::{self, Did, Ended};
use sieve_pool::pool::Pool;

use super::history::{LastRun, SECOND, last_runs};

/// A job that is due.
#[derive(Clone, Debug, PartialEq)]
pub struct Due {
    /// Its position in the pool file.
    pub job: usize,
    /// When it was wanted, nanoseconds since 1970.
    pub wanted: i64,
    /// It was stopped, and goes on.
    pub goes_on: bool,
}

/// What the watcher of folders knows: when something last came to a disk.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Arrived {
    /// When, nanoseconds since 1970.
    pub at: Option<i64>,
    /// To which disks since they were last synced.
    pub disks: Vec<String>,
    /// Somebody watches: else nobody knows, and a job that follows arrivals is due as often as it may be.
    pub is_watched: bool,
}

/// What is due, in the order in which it is to be done: what was stopped goes on first; then what closes the widest gap: what
/// settles and syncs guards files, the rest looks after them; of the same kind what was wanted first.
///
/// # Errors
/// What the disk says.
pub fn due(pool: &Pool, arrived: &Arrived, zone: &TimeZone) -> Result<Vec<Due>> {
    let (last, now) = (last_runs(pool)?, pool.machine.now());
    let since = begun(pool)?;
    let of = |(position, job): (usize, &JobSpec)| {
        let last = last.get(&position);
        if last.is_some_and(|last| last.how == Ended::Stopped && job.task.goes_on()) {
            return Some(Due { job: position, wanted: last?.begun, goes_on: true });
        }
        let wanted = last_wanted(job, last, arrived, now, zone)?;
        let after = last.map_or(since, |last| last.begun);
        (wanted > after).then_some(Due { job: position, wanted, goes_on: false })
    };
    let mut due: Vec<Due> = pool.spec.agenda.jobs.iter().enumerate().filter_map(of).collect();
    due.sort_by_key(|due| (!due.goes_on, pool.spec.agenda.jobs[due.job].task, due.wanted, due.job));
    Ok(due)
}

/// When a job was last wanted, nanoseconds since 1970.
fn last_wanted(
    job: &JobSpec,
    last: Option<&LastRun>,
    arrived: &Arrived,
    now: i64,
    zone: &TimeZone,
) -> Option<i64> {
    if let When::AfterArrival(seconds) = job.when {
        let rest = i64::from(seconds) * SECOND;
        let at = if arrived.is_watched { arrived.at? } else { last.map_or(now - rest, |last| last.ended) };
        // What came before the last one began is passed already.
        let is_new = !arrived.is_watched || last.is_none_or(|last| at > last.begun);
        return (is_new && at + rest <= now).then_some(at + rest);
    }
    let back = SignedDuration::from_hours((job.when.period() * 24.0 * 2.5) as i64 + 48);
    let at = Timestamp::from_nanosecond(i128::from(now)).ok()?;
    job.when.last(at, back, zone).map(|at| at.as_second() * SECOND)
}

/// Since when there is a pool: what was wanted before is not missed.
fn begun(pool: &Pool) -> Result<i64> {
    let is_begin = |did: &Did| matches!(did, Did::Create | Did::Adopt);
    let begin = journal::last(&*pool.home, 1, |entry| is_begin(&entry.did))?;
    Ok(begin.first().map_or(i64::MIN, |entry| entry.at))
}

/// When something is wanted next after now, nanoseconds since 1970; nothing where no calendar tells.
pub fn next(agenda: &AgendaSpec, now: i64, zone: &TimeZone) -> Option<i64> {
    let at =
        Timestamp::from_nanosecond(i128::from(now)).ok()?.checked_add(SignedDuration::from_secs(1)).ok()?;
    let until = at.checked_add(SignedDuration::from_hours(24 * 400)).ok()?;
    let first = |job: &JobSpec| {
        // Far enough for a yearly one, without working out a year of hours.
        let near =
            at.checked_add(SignedDuration::from_hours((job.when.period() * 24.0 * 2.0) as i64 + 48)).ok()?;
        let first = |until| job.when.starts(at, until, zone).first().map(|at| at.as_second() * SECOND);
        first(near).or_else(|| first(until))
    };
    agenda.jobs.iter().filter_map(first).min()
}

/// Until when work may be done that begins now, nanoseconds since 1970; nothing where none may.
pub fn usable_until(agenda: &AgendaSpec, task: Task, now: i64, zone: &TimeZone) -> Option<i64> {
    let setting = Setting {
        jobs: Vec::new(),
        volumes: Vec::new(),
        disks: Vec::new(),
        awake: agenda.awake.clone(),
        quiet: agenda.quiet_hours.clone(),
        sleeps_after: agenda.sleeps_after,
    };
    let now = now.div_euclid(SECOND);
    // Hours come again every week.
    let within = Span { from: now - 86_400, until: now + 8 * 86_400 };
    let spans = if task.is_heard() { setting.usable(within, zone) } else { setting.on(within, zone) };
    let span = spans.into_iter().find(|span| (span.from..span.until).contains(&now))?;
    Some(span.until.saturating_mul(SECOND))
}
