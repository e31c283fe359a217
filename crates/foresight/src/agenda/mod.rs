//! The coming weeks of a pool: its jobs, how long each takes, what arrives meanwhile.

mod effort;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_actions::agenda::{LastRun, last_runs};
use sieve_core::agenda::{Inflow, Job, Setting, Task, When};
use sieve_core::pool::{JobSpec, Role, VolumeSpec};
use sieve_core::units::ByteLength;
use sieve_disk::Result;
use sieve_pool::pool::Pool;

/// A pool's agenda, ready to be played, solved or drawn.
#[derive(Clone, Debug)]
pub struct Outline {
    /// The jobs with how long they take, and all that matters for them.
    pub setting: Setting,
    /// For each job how many earlier runs correct its forecast; none where it stands on the curves of the disks alone.
    pub runs: Vec<usize>,
    /// For each job when it last began, nanoseconds since 1970.
    pub last: Vec<Option<i64>>,
    /// For each volume where what arrives is known from.
    pub arrivals: Vec<ArrivalSource>,
}

/// Where what arrives is known from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ArrivalSource {
    /// The pool file says it.
    Given,
    /// What came since the first sync.
    Observed,
    /// Nothing is known: nothing is taken to arrive.
    Unknown,
}

/// Works the agenda of a pool out.
///
/// # Errors
/// What a disk or the database says.
pub fn outline(pool: &Pool) -> Result<Outline> {
    let disks: Vec<String> = pool.members.iter().map(|member| member.row.name.clone()).collect();
    let (mut volumes, mut arrivals) = (Vec::new(), Vec::new());
    for volume in pool.volumes() {
        let (inflow, source) = inflow(pool, &volume)?;
        volumes.push(inflow);
        arrivals.push(source);
    }
    let (mut jobs, mut runs) = (Vec::new(), Vec::new());
    for spec in &pool.spec.agenda.jobs {
        let position = |name: &String| volumes.iter().position(|volume| volume.name == *name);
        let volume = spec.volume.as_ref().and_then(position);
        let known = effort::effort(pool, spec, arriving(&volumes, volume))?;
        runs.push(known.runs);
        jobs.push(Job {
            name: spec.name.clone(),
            task: spec.task,
            volume,
            when: spec.when.clone(),
            share: spec.share.map_or(1.0, |share| share.fraction()),
            effort: known.effort,
            disks: disks_of(pool, spec),
        });
    }
    let last = last_runs(pool)?;
    let agenda = &pool.spec.agenda;
    Ok(Outline {
        last: (0..jobs.len()).map(|job| last.get(&job).map(|last: &LastRun| last.begun)).collect(),
        setting: Setting {
            jobs,
            volumes,
            disks,
            awake: agenda.awake.clone(),
            quiet: agenda.quiet_hours.clone(),
            sleeps_after: agenda.sleeps_after,
        },
        runs,
        arrivals,
    })
}

fn arriving(volumes: &[Inflow], volume: Option<usize>) -> f64 {
    let of = |inflow: &Inflow| inflow.arrives_a_day.exact() as f64;
    volume.map_or_else(|| volumes.iter().map(of).sum(), |volume| of(&volumes[volume]))
}

fn inflow(pool: &Pool, volume: &VolumeSpec) -> Result<(Inflow, ArrivalSource)> {
    let (arrives_a_day, source) = match pool.spec.risk.arrives_a_day {
        Some(bytes) => (bytes, ArrivalSource::Given),
        None => observed(pool, volume)?,
    };
    let room = if volume.has_cache() { Some(cache_room(pool, volume)?) } else { None };
    let inflow = Inflow {
        name: volume.name.clone(),
        arrives_a_day,
        cache_room: room,
        cache_is_guarded: volume.cache.copies > 1,
        unguarded_at_most: volume.unguarded_at_most,
        has_guard: volume.has_guard(),
    };
    Ok((inflow, source))
}

/// What came since the first sync, on average over the days.
fn observed(pool: &Pool, volume: &VolumeSpec) -> Result<(ByteLength, ArrivalSource)> {
    let Some(first) = pool.catalogue.first_synced_at()? else {
        return Ok((ByteLength::ZERO, ArrivalSource::Unknown));
    };
    let days = (pool.machine.now().saturating_sub(first) as f64 / 86_400e9).max(1.0);
    let mut bytes = ByteLength::ZERO;
    for member in pool.file_members(&volume.name) {
        let came = sieve_catalogue::versions::recorded_after_first(pool.catalogue.reading(), member.row.id)?;
        bytes = bytes.plus(came);
    }
    Ok((ByteLength::new((bytes.exact() as f64 / days) as u64), ArrivalSource::Observed))
}

/// What fits on all disks of a cache beside what is to stay free.
fn cache_room(pool: &Pool, volume: &VolumeSpec) -> Result<ByteLength> {
    let reserve = sieve_actions::files::settle::cache_reserve(pool, volume)?;
    let rooms = pool.members_of(&volume.name, Role::Cache);
    let rooms = rooms.filter_map(|member| member.usable_bytes()).map(|room| room.minus(reserve));
    let all = rooms.fold(ByteLength::ZERO, ByteLength::plus);
    Ok(ByteLength::new(all.exact() / volume.cache.copies.max(1) as u64))
}

/// The disks that a job keeps awake, as positions of the members.
fn disks_of(pool: &Pool, job: &JobSpec) -> Vec<usize> {
    let data = pool.members.iter().filter(|member| member.row.role == Role::Data);
    let emptiest =
        data.filter_map(|member| Some((member.free_bytes(&pool.catalogue).ok()?, member.row.id))).max();
    let emptiest = emptiest.map(|(_, disk)| disk);
    let is_of = |volume: &String| job.volume.as_ref().is_none_or(|name| name == volume);
    let awake = |(position, member): (usize, &sieve_pool::member::Member)| {
        let name = &member.row.name;
        let takes_part = match job.task {
            Task::Settle => member.row.role.holds_files(),
            // What arrives comes to one disk at a time, and a sync of what changed lets the others sleep.
            Task::Sync if matches!(job.when, When::AfterArrival(_)) => {
                member.row.role == Role::Parity || Some(member.row.id) == emptiest
            }
            Task::Sync | Task::Verify => true,
            Task::ShortTest | Task::LongTest => {
                return (job.disks.is_empty() || job.disks.contains(name)).then_some(position);
            }
            Task::Report | Task::BackupListing => false,
        };
        (takes_part && is_of(&member.row.volume)).then_some(position)
    };
    pool.members.iter().enumerate().filter_map(awake).collect()
}
