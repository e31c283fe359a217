//! When something was done last, and what is done next.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use sieve_disk::Result;
use sieve_pool::journal::{self, Did};
use sieve_pool::pool::Pool;

use super::report::NextJob;

/// How far the agenda is looked ahead.
const AHEAD: SignedDuration = SignedDuration::from_hours(24 * 40);

/// When everything, or a share of it, was last verified to the end, nanoseconds since 1970.
pub(super) fn verified_at(pool: &Pool) -> Result<Option<i64>> {
    Ok(journal::times(&*pool.home, &Did::Verify, 1)?.pop())
}

/// The job that is wanted next, by the agenda alone; none where there is no agenda, or nothing in it comes regularly.
pub(super) fn next_job(pool: &Pool) -> Option<NextJob> {
    let zone = TimeZone::system();
    let now = Timestamp::from_nanosecond(i128::from(pool.machine.now())).ok()?;
    let until = now.checked_add(AHEAD).ok()?;
    let jobs = pool.spec.agenda.jobs.iter();
    let next = jobs.filter_map(|job| Some((job.when.starts(now, until, &zone).into_iter().next()?, job)));
    let (at, job) = next.min_by_key(|(at, _)| *at)?;
    Some(NextJob { job: job.name.clone(), at: i64::try_from(at.as_nanosecond()).ok()? })
}
