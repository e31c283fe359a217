//! Bringing parity up to the present: scan, checksum what is new, recompute the rows that differ, checkpoint.

mod checkpoint;
mod checksum;
mod estimate;
mod feed;
pub(crate) mod fill;
mod gather;
mod places;
mod recorded;
mod report;
mod rest;
mod run;
mod streaming;
pub mod suspicion;
mod tampering;
mod volume;

use sieve_core::pool::{VolumeKind, VolumeSpec};

use crate::files::mirror;
use crate::files::mirror::MirrorPlan;
pub(crate) use report::parity_full;
pub use report::{Options, SyncPlan, SyncReport};
use sieve_catalogue as catalogue;
use sieve_catalogue::label::Role;
use sieve_catalogue::{gone, objects, parity_state, versions};
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::damage::damage_text;
use sieve_pool::follow::{put_all_replicas, put_replicas};
use sieve_pool::held;
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::member::{Member, State};
use sieve_pool::pool::Pool;
use sieve_pool::progress::OneOfSeveral;
use sieve_pool::scan;
use sieve_pool::traffic::Traffic;
pub use suspicion::suspicion;

pub use estimate::coming_sync;

/// Scans all members and plans.
///
/// # Errors
/// When a member is not there, or something looks suspicious and was not accepted.
pub fn plan(pool: &Pool, options: &Options, observer: &dyn Observer) -> Result<SyncPlan> {
    for name in &options.accept {
        pool.member_named(name)?;
    }
    for name in &options.disks {
        if pool.member_named(name)?.row.role != Role::Data {
            let message = format!("{name} is no data disk: what a sync looks at is on the data disks");
            return Err(Error::new(Kind::Usage, "sync.disks", message).remedy("name data disks"));
        }
    }
    for member in pool.members.iter().filter(|m| is_needed(m)) {
        member.writable()?;
        let accepted = options.accept.contains(&member.row.name);
        if matches!(member.state, State::OlderCopy { .. }) && member.row.role == Role::Data && !accepted {
            return Err(member.refusal());
        }
    }
    let mut plan = SyncPlan { begun_at: pool.machine.now(), ..SyncPlan::default() };
    plan.scans = scan::scan_all(pool, |member| options.includes(&member.row.name), observer)?;
    suspicion::refuse_out_of_sight(&plan.scans)?;
    suspicion::refuse_suspicious(pool, options)?;
    for volume in pool.volumes().into_iter().filter(|volume| volume.kind == VolumeKind::Mirrored) {
        plan.mirrors.insert(volume.name.clone(), mirror::plan(pool, &volume, observer)?);
    }
    for volume in pool.volumes() {
        plan.damage.extend(tampering::check_parity(pool, &volume.name)?);
        estimate::estimate(pool, &volume, options, &mut plan)?;
    }
    plan.forecast = forecast_pass(pool, &plan.moved_bytes())?;
    plan.held_files = count_held(pool)?;
    let head = parity_state::head(pool.catalogue.reading())?.map(|h| h.number);
    plan.replicas_behind = catalogue::is_changed(pool.catalogue.reading())?
        || pool.members.iter().any(|m| is_needed(m) && m.row.replica != head);
    Ok(plan)
}

/// A cache takes no part in parity: without it a sync does what it can.
fn is_needed(member: &Member) -> bool {
    member.row.role != Role::Cache || member.state.is_usable()
}

/// The data disks that a sync looks at.
fn takes_part<'a>(pool: &'a Pool, options: &'a Options) -> impl Iterator<Item = &'a Member> {
    pool.members.iter().filter(|m| m.row.role == Role::Data && options.includes(&m.row.name))
}

fn count_held(pool: &Pool) -> Result<u64> {
    Ok(sieve_catalogue::rows_in(pool.catalogue.reading(), "held")? as u64)
}

/// Does what was planned.
///
/// # Crash safety
/// After a crash the state is exactly that of the last checkpoint.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(
    pool: &mut Pool,
    plan: &SyncPlan,
    options: &Options,
    observer: &dyn Observer,
) -> Result<SyncReport> {
    pool.expect_long()?;
    let (traffic, begun) = (Traffic::begin(pool), std::time::Instant::now());
    let mut report = SyncReport { damage: plan.damage.clone(), ..SyncReport::default() };
    catch_up(pool)?;
    let amounts = plan.moved_bytes();
    for volume in pool.volumes() {
        let observer = &OneOfSeveral::new(pool, observer, &volume.name, &amounts)?;
        if let Some(copies) = plan.mirrors.get(&volume.name) {
            mirror_copies(pool, &volume, copies, observer, &mut report)?;
            if report.stopped {
                break;
            }
        }
        if plan.computes_nothing() {
            report.no_room.clone_from(&plan.no_room);
            continue; // what changed since the plan waits for the next sync
        }
        checksum::checksum_new(pool, &volume, options, observer, &mut report)?;
        if report.stopped {
            break;
        }
        let streamed = streaming::run(pool, &volume, options, observer, &mut report)?;
        report.stopped |= streamed.stopped;
        if streamed.left && !report.stopped {
            run::run(pool, &volume, options, observer, &mut report)?;
        }
        if report.stopped {
            break;
        }
    }
    finish(pool, plan, options, &mut report)?;
    report_known_damage(pool, options, &mut report)?;
    if !report.stopped {
        for volume in pool.volumes() {
            rest::note(pool, &volume, options)?;
        }
    }
    (report.read_bytes, report.written_bytes) = traffic.since(pool);
    report.seconds = begun.elapsed().as_secs_f64();
    pool.tell(
        Entry::new(Did::Sync)
            .ended(Ended::of(report.stopped, report.is_clean()))
            .took(report.seconds)
            .expected(&plan.forecast)
            .moved((&report.read_bytes, &report.written_bytes))
            .on(&options.disks)
            .detail(&report)?,
    )?;
    pool.refresh_rows()?;
    Ok(report)
}

/// The copies of a mirrored volume come first: what is made then enters parity in the same sync.
fn mirror_copies(
    pool: &Pool,
    volume: &VolumeSpec,
    plan: &MirrorPlan,
    observer: &dyn Observer,
    report: &mut SyncReport,
) -> Result<()> {
    let done = mirror::execute(pool, volume, plan, observer)?;
    report.copied.files += done.copied.files;
    report.copied.bytes = report.copied.bytes.plus(done.copied.bytes);
    report.conflicts.extend(plan.conflicts.iter().cloned());
    report.one_copy_removed.extend(plan.removed.iter().cloned());
    report.damage.extend(
        done.damaged.into_iter().map(|path| format!("{path}: no copy of it is what was checksummed")),
    );
    report.left_for_next.extend(done.left_for_next);
    report.of_others.extend(done.of_others);
    report.stopped |= done.stopped;
    Ok(())
}

/// Slots that the last checkpoint gave up may be used again once the replicas on the parity disks know it: where a
/// crash came in between, they follow now.
fn catch_up(pool: &Pool) -> Result<()> {
    let head = parity_state::head(pool.catalogue.reading())?.map(|head| head.number);
    let behind = |m: &&Member| m.row.role == Role::Parity && m.row.replica != head;
    put_all_replicas(pool, pool.members.iter().filter(behind))
}

/// Damage that was found earlier and is not mended is still damage.
fn report_known_damage(pool: &Pool, options: &Options, report: &mut SyncReport) -> Result<()> {
    let reading = pool.catalogue.reading();
    for member in takes_part(pool, options) {
        let disk = member.usable()?;
        for (version, cell) in parity_state::damaged_contents(reading, member.row.id)? {
            let Some(object) = objects::by_version(reading, member.row.id, version)? else { continue };
            for name in objects::names(reading, object.id)? {
                let text = damage_text(&sieve_disk::full_path(&**disk, &name).display().to_string(), cell);
                if !report.damage.contains(&text) {
                    report.damage.push(text);
                }
            }
        }
    }
    Ok(())
}

/// Records everything, lets the replicas follow, and gives up what was held.
fn finish(pool: &Pool, plan: &SyncPlan, options: &Options, report: &mut SyncReport) -> Result<()> {
    let is_all = options.disks.is_empty() && !report.stopped;
    if plan.replicas_behind || report.cells > 0 || report.files_checksummed > 0 {
        pool.catalogue.transaction(|t| {
            versions::record_all(t)?;
            versions::forget_unused(t)?;
            gone::forget_passed(t)?;
            sieve_pool::checkpoint::note_pool_file(t, pool)?;
            if is_all {
                catalogue::clear_changed(t)?;
                catalogue::set_synced_at(t, plan.begun_at)?;
            }
            sieve_pool::checkpoint::advance(t, &*pool.machine).map(|_| ())
        })?;
        // Disks that were not named may sleep: their replicas follow with the next whole sync.
        let awake =
            |m: &&Member| is_needed(m) && (m.row.role == Role::Parity || options.includes(&m.row.name));
        // Freed slots are not used again before the parity drives know it.
        report.no_replica = put_replicas(pool, pool.members.iter().filter(awake))?;
    }
    if is_all && pool.catalogue.synced_at()?.is_none_or(|at| at < plan.begun_at) {
        pool.catalogue.transaction(|t| catalogue::set_synced_at(t, plan.begun_at))?;
    }
    if !report.stopped {
        for member in takes_part(pool, options) {
            report.released += held::release(pool, member, plan.begun_at)?;
        }
        for cache in pool.members.iter().filter(|m| m.row.role == Role::Cache && m.writable().is_ok()) {
            report.released += held::release_settled(pool, cache, plan.begun_at)?;
        }
    }
    Ok(())
}
