//! How long jobs take: forecast from the curves of the disks, corrected by what earlier runs took.

use sieve_actions::guard::verify;
use sieve_core::agenda::{Effort, Task};
use sieve_core::amounts::Amounts;
use sieve_core::forecast::{Duration, forecast};
use sieve_core::pool::{JobSpec, Role, VolumeSpec};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_pool::copies::forecast_copies;
use sieve_pool::curves::{forecast_pass, pass_of};
use sieve_pool::journal::{self, Did, Entry};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// So many earlier runs are looked at.
const RUNS: usize = 8;
/// From so many on they correct the forecast.
const LEAST_RUNS: usize = 3;
/// What a rate is measured with on paper.
const PROBE: ByteLength = ByteLength::new(1_000_000_000);
/// Seconds that opening, scanning a small pool and putting the tables down take in any case.
const LEAST_SECONDS: f64 = 5.0;
/// Seconds that looking at a file again is taken to need: three times what docs/performance.md has for a million files in memory,
/// since names and inodes come from a disk. An assumption, until earlier runs correct it.
const SECONDS_A_FILE: f64 = 4e-6;
/// Seconds of a disk's short self-test.
const SHORT_TEST: f64 = 120.0;

/// What a job takes, and from what that is known.
#[derive(Clone, Debug)]
pub(super) struct Known {
    pub(super) effort: Effort,
    /// Earlier runs that correct it.
    pub(super) runs: usize,
}

/// What a job takes.
///
/// # Errors
/// What a disk or the database says.
pub(super) fn effort(pool: &Pool, job: &JobSpec, arrives_a_day: f64) -> Result<Known> {
    let volumes: Vec<VolumeSpec> = pool
        .volumes()
        .into_iter()
        .filter(|volume| job.volume.as_ref().is_none_or(|name| *name == volume.name))
        .collect();
    match job.task {
        Task::Sync => {
            let per_byte = synced_per_byte(pool, &volumes)?;
            Ok(corrected_base(
                pool,
                &Did::Sync,
                Bare { base: scan_seconds(pool)?, per_byte, arrives_a_day },
                job,
            )?)
        }
        Task::Settle => {
            let per_byte = settled_per_byte(pool, &volumes)?;
            Ok(corrected_base(
                pool,
                &Did::Settle,
                Bare { base: LEAST_SECONDS, per_byte, arrives_a_day },
                job,
            )?)
        }
        Task::Verify => verified(pool, job, &volumes),
        Task::ShortTest => Ok(plain(SHORT_TEST * tested(pool, job).count() as f64)),
        Task::LongTest => {
            let mut seconds = 0.0;
            for member in tested(pool, job) {
                let whole = member.usable_bytes().unwrap_or_default();
                seconds += forecast_pass(pool, &Amounts::from_iter([(member.row.name.clone(), whole)]))?
                    .likely
                    .seconds();
            }
            Ok(plain(seconds))
        }
        Task::Report | Task::BackupListing => Ok(plain(LEAST_SECONDS)),
    }
}

fn plain(seconds: f64) -> Known {
    let effort = Effort {
        likely: Duration::from_seconds(seconds),
        cautious: Duration::from_seconds(seconds * Effort::CAUTION),
        seconds_per_byte: 0.0,
    };
    Known { effort, runs: 0 }
}

/// The disks that test themselves.
pub(super) fn tested<'a>(pool: &'a Pool, job: &'a JobSpec) -> impl Iterator<Item = &'a Member> {
    pool.members.iter().filter(|m| job.disks.is_empty() || job.disks.contains(&m.row.name))
}

/// Seconds until it is known what changed.
fn scan_seconds(pool: &Pool) -> Result<f64> {
    let mut files = 0;
    for member in pool.members.iter().filter(|member| member.row.role.holds_files()) {
        files += sieve_catalogue::objects::taken(pool.catalogue.reading(), member.row.id)?.files;
    }
    Ok(LEAST_SECONDS + files as f64 * SECONDS_A_FILE)
}

/// Seconds for each new byte: it is read on one data disk, and parity is written on all that have it.
fn synced_per_byte(pool: &Pool, volumes: &[VolumeSpec]) -> Result<f64> {
    let of = |role: Role| volumes.iter().flat_map(move |volume| pool.members_of(&volume.name, role));
    let touched = of(Role::Data).take(1).chain(of(Role::Parity));
    let amounts = touched.map(|member| (member.row.name.clone(), PROBE)).collect();
    // What arrives goes into one of them.
    Ok(forecast(&pass_of(pool, &amounts)?).likely.seconds() / PROBE.exact() as f64)
}

/// Seconds for each byte that settles, from a cache onto a disk, and read back there.
fn settled_per_byte(pool: &Pool, volumes: &[VolumeSpec]) -> Result<f64> {
    let one = |role: Role| {
        let of_role = volumes.iter().flat_map(|volume| pool.members_of(&volume.name, role));
        of_role.take(1).map(|member| (member.row.name.clone(), PROBE)).collect()
    };
    let takes = forecast_copies(pool, &one(Role::Cache), &one(Role::Data))?;
    Ok(takes.likely.seconds() / PROBE.exact() as f64)
}

/// What is known before anything was done.
#[derive(Clone, Copy)]
struct Bare {
    base: f64,
    per_byte: f64,
    arrives_a_day: f64,
}

/// A forecast of a part that is always there and one that grows with what arrived; the first is what earlier runs took beside
/// the second.
fn corrected_base(pool: &Pool, did: &Did, bare: Bare, job: &JobSpec) -> Result<Known> {
    let runs = runs(pool, did, job)?;
    let mut bases: Vec<f64> = runs
        .windows(2)
        .map(|pair| {
            let days = (pair[0].at - pair[1].at) as f64 / 86_400e9;
            (pair[0].seconds.unwrap_or(0.0) - bare.per_byte * bare.arrives_a_day * days).max(0.0)
        })
        .collect();
    bases.sort_by(f64::total_cmp);
    let enough = bases.len() >= LEAST_RUNS;
    let likely = if enough { bases[bases.len() / 2] } else { bare.base };
    let cautious = if enough { bases[bases.len() - 1] * 1.1 } else { bare.base * Effort::CAUTION };
    let effort = Effort {
        likely: Duration::from_seconds(likely),
        cautious: Duration::from_seconds(cautious.max(likely * 1.1)),
        seconds_per_byte: bare.per_byte,
    };
    Ok(Known { effort, runs: if enough { bases.len() } else { 0 } })
}

/// The last runs that came to their end, newest first.
fn runs(pool: &Pool, did: &Did, job: &JobSpec) -> Result<Vec<Entry>> {
    let volume = |entry: &Entry| entry.detail.get("volume").and_then(|v| v.as_str()).map(String::from);
    journal::last(&*pool.home, RUNS + 1, |entry| {
        entry.did == *did
            && entry.has_ended()
            && entry.seconds.is_some()
            && (*did != Did::Settle || job.volume.is_none() || volume(entry) == job.volume)
    })
}

/// A verify reads everything that is used, or its share; earlier ones tell how many times the forecast they took.
fn verified(pool: &Pool, job: &JobSpec, volumes: &[VolumeSpec]) -> Result<Known> {
    let amounts = verify::amounts(pool, |name| volumes.iter().any(|volume| volume.name == name))?;
    let whole = forecast_pass(pool, &amounts)?;
    let share = job.share.map_or(1.0, |share| share.fraction());
    let mut factors: Vec<f64> = runs(pool, &Did::Verify, job)?
        .iter()
        .filter_map(|entry| {
            let cells = |key: &str| entry.detail.get(key).and_then(serde_json::Value::as_f64);
            let checked = cells("cells_checked")? / cells("cells").filter(|cells| *cells > 0.0)?;
            let expected = whole.likely.seconds() * checked;
            // What is over in a moment tells nothing about a pace.
            (expected > LEAST_SECONDS).then(|| entry.seconds.unwrap_or(0.0) / expected)
        })
        .collect();
    factors.sort_by(f64::total_cmp);
    let enough = factors.len() >= LEAST_RUNS;
    let factor = if enough { factors[factors.len() / 2].clamp(0.2, 5.0) } else { 1.0 };
    let seconds =
        |forecast: Duration| Duration::from_seconds(LEAST_SECONDS + forecast.seconds() * factor * share);
    let effort =
        Effort { likely: seconds(whole.likely), cautious: seconds(whole.cautious), seconds_per_byte: 0.0 };
    Ok(Known { effort, runs: if enough { factors.len() } else { 0 } })
}
