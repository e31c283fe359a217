//! One glance at a pool.

mod filling;
mod members;
mod report;
mod stock;
mod times;
mod verdict;
mod volumes;

use std::collections::BTreeMap;

use self::stock::Stock;
pub use crate::look::Look;
use crate::look::{self, Looked};
use sieve_actions::files::settle::caches;
use sieve_catalogue::intents;
use sieve_catalogue::samples::{self, Sample};
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_pool::pool::Pool;
use sieve_pool::writer::at_work;

pub use filling::filling_of;
pub use members::{disks, tables};
pub(crate) use report::every_level;
pub use report::{
    Advice, Conflict, DiskStatus, GuardLevel, Limited, NextJob, NextLoss, Stakes, Status, Verdict,
    VolumeStatus,
};
pub use stock::unguarded;
pub(crate) use volumes::sizes;

/// Looks at what is there, and takes stock.
///
/// # Errors
/// What a disk or the database says.
pub fn status(pool: &mut Pool, look: Look, observer: &dyn Observer) -> Result<Status> {
    let mut notes = pool.notes.clone();
    let mut out_of_sight = Vec::new();
    let as_of = match look::look(pool, look, observer)? {
        Looked::Before(at) => Some(at),
        Looked::Now(reports) => {
            for report in reports {
                notes.extend(report.left_alone);
                out_of_sight.extend(report.out_of_sight);
            }
            pool.refresh_rows()?;
            None
        }
    };
    observer.event(Event::Stage { name: "taking stock", total: 0, unit: Unit::Files });
    let (disks, damaged_tables) = (disks(pool)?, tables(pool)?);
    let stock = Stock::of(pool, &disks, &damaged_tables)?;
    notes.extend(stock.rests);
    let unguarded_on = stock.unguarded_on;
    if !intents::all(pool.catalogue.reading())?.is_empty() {
        notes.push(
            "something was begun and is not finished: another command is at it, or the next one that writes finishes it"
                .into(),
        );
    }
    let now = pool.machine.now();
    let mut status = Status {
        pool: pool.spec.name.clone(),
        verdict: Verdict::Well,
        volumes: volumes::volumes(pool, &disks, now)?,
        stakes: stock.stakes,
        at_work: at_work(&*pool.home),
        disks,
        guard: every_level(&stock.guard),
        unguarded: stock.unguarded,
        unguarded_since: stock.unguarded_since,
        sync_would_guard: stock.sync_would_guard,
        held: stock.held,
        synced_at: pool.catalogue.synced_at()?,
        as_of,
        verified_at: times::verified_at(pool)?,
        next: times::next_job(pool),
        now,
        conflicts: stock.conflicts,
        damaged_cells: stock.damaged_cells,
        proven: sieve_catalogue::proofs::all(pool.catalogue.reading())?,
        limits: limits(pool)?,
        caches: caches(pool)?,
        out_of_sight,
        suspicious: stock.suspicious,
        damaged_tables,
        notes,
        differs: pool.differs.clone(),
    };
    status.verdict = status.judge();
    leave_samples(pool, &status, &unguarded_on)?;
    Ok(status)
}

/// What curves over time are drawn from: whoever looks leaves a little of what was seen, where that may be written.
fn leave_samples(pool: &Pool, status: &Status, unguarded_on: &BTreeMap<DiskId, ByteLength>) -> Result<()> {
    pool.catalogue.note_beside(|t| {
        for disk in status.disks.iter().filter(|disk| disk.state.is_usable()) {
            let id = pool.member_named(&disk.name)?.row.id;
            let sample = Sample {
                at: status.now,
                used: Some(disk.used),
                capacity: Some(disk.used.plus(disk.free)),
                unguarded: Some(unguarded_on.get(&id).copied().unwrap_or_default()),
                ..Sample::default()
            };
            samples::keep(t, id, &sample)?;
        }
        Ok(())
    })
}

fn limits(pool: &Pool) -> Result<Vec<Limited>> {
    let mut limits = Vec::new();
    for volume in pool.volumes() {
        if let Some((used, limit)) = pool.size_limit(&volume)? {
            limits.push(Limited { volume: volume.name, used, limit });
        }
    }
    Ok(limits)
}
