//! Finding out what lies on the disks, and what changed since the catalogue was last brought up to date.

mod apply;
mod compare;
pub mod doubts;
mod report;
mod walk;

pub use compare::DiskChanges;
pub use report::ScanReport;
pub use walk::OutOfSight;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::time::Duration;

use sieve_core::units::ByteLength;

use crate::held;
use crate::member::{Member, State};
use crate::pieces;
use crate::pool::Pool;
use sieve_disk::EntryKind;
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};

/// So often it is asked whether a scan is to go on.
const TICK: Duration = Duration::from_millis(100);

/// Scans a member and brings the catalogue up to date.
///
/// # Crash safety
/// The catalogue takes all that was found in one transaction. Nothing on the disk changes.
///
/// # Errors
/// What the disk or the database says: a folder that cannot be read ends the scan, since its files must not
/// look as if they were gone.
pub fn scan(pool: &Pool, member: &Member) -> Result<ScanReport> {
    let seen = pool.catalogue.seen();
    let disk = member.usable()?;
    let (reading, now) = (pool.catalogue.reading(), pool.machine.now());
    let changes = compare::compare(
        reading,
        member.row.id,
        &**disk,
        &left_out_of(pool, member),
        now,
        &AtomicBool::new(false),
    )?;
    let mut reports = take_in(pool, vec![(member, changes)], seen)?;
    Ok(reports.remove(0))
}

/// Brings the catalogue up to date with what was found on disks.
fn take_in(pool: &Pool, found: Vec<(&Member, DiskChanges)>, seen: Option<i64>) -> Result<Vec<ScanReport>> {
    for (member, changes) in &found {
        // What was known there stays known, and nothing is promised of what cannot be read (L7).
        let folders = changes.out_of_sight.iter().map(|folder| folder.path.clone()).collect();
        pool.out_of_sight.borrow_mut().insert(member.row.id, folders);
    }
    let is_nothing = |(member, changes): &(&Member, DiskChanges)| {
        changes.is_nothing() && !matches!(member.state, State::OlderCopy { .. })
    };
    if !pool.catalogue.is_shared() && found.iter().all(is_nothing) {
        // A reader that has nothing to record needs no copy to record it in.
        return Ok(found.iter().map(|(member, changes)| apply::report_of(member, changes)).collect());
    }
    let _quiet = pool.quiet_moment(seen);
    let take = |(member, changes): (&Member, DiskChanges)| {
        let mut report = apply::apply(pool, member, &**member.usable()?, changes)?;
        report.left_alone.extend(pieces::learn(pool, member)?);
        held::learn(pool, member)?;
        Ok(report)
    };
    found.into_iter().map(take).collect()
}

/// Scans the usable data disks that `is_wanted` names, all at the same time, and brings the catalogue up to date.
///
/// # Crash safety
/// As [`scan`], for each disk by itself.
///
/// # Errors
/// As [`scan`], and when the observer wants no more: nothing is recorded of any disk then.
pub fn scan_all(
    pool: &Pool,
    is_wanted: impl Fn(&Member) -> bool,
    observer: &dyn Observer,
) -> Result<Vec<ScanReport>> {
    let wanted =
        |member: &&Member| member.row.role.holds_files() && member.state.is_usable() && is_wanted(member);
    let members: Vec<&Member> = pool.members.iter().filter(wanted).collect();
    observer.event(Event::Stage { name: "scanning", total: 0, unit: Unit::Files });
    if pool.catalogue.has_own_state() {
        // What this reader has seen before, no other connection knows.
        return members.into_iter().map(|member| scan(pool, member)).collect();
    }
    let seen = pool.catalogue.seen();
    let is_over = &AtomicBool::new(false);
    let (at_work, ended) = mpsc::channel::<()>();
    let found: Vec<Result<DiskChanges>> = std::thread::scope(|scope| {
        let compare = |member: &Member| {
            let (disk, id) = (Arc::clone(member.usable()?), member.row.id);
            let (leave_out, path) = (left_out_of(pool, member), pool.catalogue.path().to_path_buf());
            let now = pool.machine.now();
            let at_work = at_work.clone();
            Ok(scope.spawn(move || {
                let _until_the_end = at_work;
                let reading = sieve_catalogue::open_reading(&path)?;
                compare::compare(&reading, id, &*disk, &leave_out, now, is_over)
            }))
        };
        let threads: Vec<Result<_>> = members.iter().map(|member| compare(member)).collect();
        drop(at_work);
        // All have hung up once the last of them has ended; meanwhile somebody may want no more.
        while ended.recv_timeout(TICK) == Err(mpsc::RecvTimeoutError::Timeout) {
            is_over.fetch_or(observer.is_stopped(), Ordering::Relaxed);
        }
        let join = |thread: std::thread::ScopedJoinHandle<'_, Result<DiskChanges>>| {
            thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        threads.into_iter().map(|thread| thread.and_then(join)).collect()
    });
    let found: Vec<DiskChanges> = found.into_iter().collect::<Result<_>>()?;
    take_in(pool, members.into_iter().zip(found).collect(), seen)
}

fn left_out_of(pool: &Pool, member: &Member) -> Vec<String> {
    let volume = pool.spec.volumes.iter().find(|v| v.name == member.row.volume);
    volume.map(|v| v.leave_out.clone()).unwrap_or_default()
}

/// Counts the ordinary files on a disk that is no member yet, and their bytes.
///
/// # Errors
/// What the disk says.
pub fn count(disk: &dyn sieve_disk::Disk) -> Result<(u64, ByteLength)> {
    let mut walk = walk::Walk::begin(disk, &[])?;
    let (mut files, mut bytes) = (0, ByteLength::ZERO);
    while let Some(listing) = walk.next()? {
        for entry in listing.entries.iter().filter(|entry| entry.stat.kind == EntryKind::File) {
            files += 1;
            bytes = bytes.plus(entry.stat.size);
        }
    }
    Ok((files, bytes))
}
