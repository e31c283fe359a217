//! What collides, in sentences, each with the mend.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::agenda::{Clash, FOUR_WEEKS, Inflow, Setting};
use sieve_core::forecast::Duration;
use sieve_core::units::ByteLength;
use sieve_disk::{Error, Kind};

use crate::human::{size, time};

const SECOND: i64 = 1_000_000_000;

/// A sentence that says what collides, and one that says what would help.
pub(crate) fn sentence(setting: &Setting, clash: &Clash) -> (String, String) {
    let name = |job: usize| setting.jobs[job].name.as_str();
    let when = |at: i64| time::weekday_in_a_row(at * SECOND);
    let clock = |at: i64| time::clock(at * SECOND);
    match clash {
        Clash::TwoAtOnce { first, until, second, at } => (
            format!(
                "{}: {} begins while {} may be at work until {}",
                when(*at),
                name(*second),
                name(*first),
                clock(*until)
            ),
            format!("begin {} at {} or later", name(*second), rounded_up(*until)),
        ),
        Clash::TestDuringWork { test, work, at } => (
            format!(
                "{}: disks test themselves ({}) while {} reads or writes them",
                when(*at),
                name(*test),
                name(*work)
            ),
            format!("move {} to hours without other work", name(*test)),
        ),
        Clash::NotThen { job, at, off } => (
            format!(
                "{}: {} is wanted {}",
                when(*at),
                name(*job),
                if *off { "with the machine off" } else { "in quiet hours" }
            ),
            "it is caught up in the next usable hours; better move it there".into(),
        ),
        Clash::DoesNotFit { job, at, end, until, off } => (
            format!(
                "{}: {} may take until {}, and {} at {}",
                when(*at),
                name(*job),
                when(*end),
                if *off { "the machine goes off" } else { "quiet hours begin" },
                clock(*until)
            ),
            format!(
                "begin {} earlier; else it stops at a checkpoint and goes on in the next usable hours",
                long((end - until) as f64)
            ),
        ),
        Clash::CacheOverflows { volume, waits } => cache_overflows(&setting.volumes[*volume], *waits),
        Clash::UnguardedTooLong { volume, longest } => {
            unguarded_too_long(&setting.volumes[*volume], *longest)
        }
        Clash::NeverDone { job } => (
            format!("{} is never done: no usable hours are long enough, or none come", name(*job)),
            "give it other hours, or a smaller share".into(),
        ),
    }
}

fn cache_overflows(of: &Inflow, waits: f64) -> (String, String) {
    let told = format!(
        "{}: up to {} wait on the cache between two settles, {} fit",
        of.name,
        size(ByteLength::new(waits as u64)),
        size(of.cache_room.unwrap_or_default())
    );
    (told, "settle more often, or copies go past the cache to the disks meanwhile".into())
}

fn unguarded_too_long(of: &Inflow, longest: f64) -> (String, String) {
    let told = format!(
        "{}: new files are unguarded for up to {}, and are to be for no more than {}",
        of.name,
        long(longest),
        long(of.unguarded_at_most.unwrap_or_default())
    );
    (told, "sync more often, or put the sync behind the settle".into())
}

fn long(seconds: f64) -> String {
    Duration::from_seconds(seconds).to_string()
}

/// The next five minutes, as a time of day.
fn rounded_up(at: i64) -> String {
    time::clock((at + 299).div_euclid(300) * 300 * SECOND)
}

/// There is nothing to show or to do.
pub(super) fn no_jobs() -> Error {
    Error::new(Kind::Usage, "agenda.none", "there are no jobs in the pool file").remedy(
        "write some, for instance:\n\n[agenda]\nquiet_hours = [\"22:00-07:00\"]\n\n[[agenda.job]]\ndo = \"sync\"\nwhen = \"daily 07:30\"\n\n[[agenda.job]]\ndo = \"verify\"\nshare = \"5 %\"\nwhen = \"Sun 09:00\"",
    )
}

/// Of hours over four weeks those of one.
pub(super) fn a_week(over_four: f64) -> f64 {
    over_four * 7.0 * 86_400.0 / FOUR_WEEKS as f64
}

/// A clash, as `--json` has it.
#[derive(Serialize, JsonSchema)]
pub(super) struct Told {
    /// Which kind of clash.
    clash: &'static str,
    /// What collides.
    what: String,
    /// What would help.
    mend: String,
}

impl Told {
    pub(super) fn of(setting: &Setting, clash: &Clash) -> Self {
        let (what, mend) = sentence(setting, clash);
        Self { clash: clash.word(), what, mend }
    }
}
