//! Finding out what lies on the disks, and what changed since the catalogue was last brought up to date.

mod apply;
mod compare;
pub mod doubts;
mod report;
mod walk;

use compare::Comparison;
pub use compare::DiskChanges;
pub use report::ScanReport;
pub use walk::OutOfSight;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::time::Duration;

use sieve_catalogue::objects;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
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
/// So many files are looked at in a moment, where their folders are in memory.
const SHORT: u64 = 20_000;

/// How much of a disk is looked at.
#[derive(Clone, Copy)]
enum Extent<'a> {
    /// All of it.
    Whole,
    /// What is at some paths, and below them.
    Paths(&'a [RelPath]),
}

/// Scans a member and brings the catalogue up to date.
///
/// # Crash safety
/// The catalogue takes all that was found in one transaction. Nothing on the disk changes.
///
/// # Errors
/// What the disk or the database says: a folder that cannot be read ends the scan, since its files must not
/// look as if they were gone.
pub fn scan(pool: &Pool, member: &Member) -> Result<ScanReport> {
    scan_one(pool, member, Extent::Whole)
}

fn scan_one(pool: &Pool, member: &Member, extent: Extent<'_>) -> Result<ScanReport> {
    let seen = pool.catalogue.seen();
    let comparison = Comparison {
        c: pool.catalogue.reading(),
        id: member.row.id,
        disk: &**member.usable()?,
        leave_out: &left_out_of(pool, member),
        now: pool.machine.now(),
        is_over: &AtomicBool::new(false),
    };
    let changes = look(&comparison, extent_for(member, extent))?;
    let mut reports = take_in(pool, vec![(member, changes)], seen)?;
    Ok(reports.remove(0))
}

/// An older copy that was put back is looked at whole: nothing on it is taken at its word.
const fn extent_for<'a>(member: &Member, extent: Extent<'a>) -> Extent<'a> {
    if matches!(member.state, State::OlderCopy { .. }) { Extent::Whole } else { extent }
}

fn look(comparison: &Comparison<'_>, extent: Extent<'_>) -> Result<DiskChanges> {
    let part = match extent {
        Extent::Whole => None,
        Extent::Paths(paths) => comparison.of_paths(paths)?,
    };
    part.map_or_else(|| comparison.of_all(), Ok)
}

/// Whether looking at all that is known of the pool takes no time that anybody would notice.
///
/// # Errors
/// What the database says.
pub fn is_short(pool: &Pool) -> Result<bool> {
    let mut files = 0;
    for member in pool.members.iter().filter(|member| member.row.role.holds_files()) {
        files += objects::taken(pool.catalogue.reading(), member.row.id)?.files;
    }
    Ok(files < SHORT)
}

/// When the files of the pool were last looked at, all of them: nothing where some never were. Nanoseconds since 1970.
pub fn scanned_at(pool: &Pool) -> Option<i64> {
    let members = pool.members.iter().filter(|member| member.row.role.holds_files());
    members.map(|member| member.row.scanned_at).min().flatten()
}

/// Whether looking at what is known at a path of a volume takes no time that anybody would notice.
///
/// # Errors
/// What the database says.
pub fn is_short_at(pool: &Pool, volume: &str, path: &RelPath) -> Result<bool> {
    let mut names = 0;
    for member in pool.file_members(volume) {
        names += objects::names_at(pool.catalogue.reading(), member.row.id, path)?;
    }
    Ok(names < SHORT)
}

/// Brings the catalogue up to date with what was found on disks.
fn take_in(pool: &Pool, found: Vec<(&Member, DiskChanges)>, seen: Option<i64>) -> Result<Vec<ScanReport>> {
    for (member, changes) in &found {
        // What was known there stays known, and nothing is promised of what cannot be read (L7).
        let folders = changes.out_of_sight.iter().map(|folder| folder.path.clone());
        let mut out_of_sight = pool.out_of_sight.borrow_mut();
        let of_disk = out_of_sight.entry(member.row.id).or_default();
        if !changes.is_part {
            of_disk.clear();
        }
        of_disk.extend(folders);
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
        let is_part = changes.is_part;
        let mut report = apply::apply(pool, member, &**member.usable()?, changes)?;
        report.left_alone.extend(pieces::learn(pool, member)?);
        if !is_part {
            held::learn(pool, member)?;
        }
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
    scan_extent(pool, is_wanted, Extent::Whole, observer)
}

/// As [`scan_all`], of what is at some paths and below them. Where that does not tell what became of a file, its disk is
/// scanned whole.
///
/// # Crash safety
/// As [`scan`], for each disk by itself.
///
/// # Errors
/// As [`scan_all`].
pub fn scan_at(
    pool: &Pool,
    is_wanted: impl Fn(&Member) -> bool,
    paths: &[RelPath],
    observer: &dyn Observer,
) -> Result<Vec<ScanReport>> {
    if paths.iter().any(RelPath::is_root) {
        return scan_all(pool, is_wanted, observer);
    }
    let mut paths = paths.to_vec();
    // A file in pieces is where its pieces are.
    if pool.volumes().iter().any(|volume| volume.kind == VolumeKind::Spanned) {
        paths.push(OurPlace::Pieces.path());
    }
    paths.sort_by_key(RelPath::tree_key);
    // What lies below one of the others comes with it.
    paths.dedup_by(|path, before| path.is_within(before));
    scan_extent(pool, is_wanted, Extent::Paths(&paths), observer)
}

fn scan_extent(
    pool: &Pool,
    is_wanted: impl Fn(&Member) -> bool,
    extent: Extent<'_>,
    observer: &dyn Observer,
) -> Result<Vec<ScanReport>> {
    let wanted =
        |member: &&Member| member.row.role.holds_files() && member.state.is_usable() && is_wanted(member);
    let members: Vec<&Member> = pool.members.iter().filter(wanted).collect();
    observer.event(Event::Stage { name: "scanning", total: 0, unit: Unit::Files });
    if pool.catalogue.has_own_state() {
        // What this reader has seen before, no other connection knows.
        return members.into_iter().map(|member| scan_one(pool, member, extent)).collect();
    }
    let seen = pool.catalogue.seen();
    let is_over = &AtomicBool::new(false);
    let (at_work, ended) = mpsc::channel::<()>();
    let found: Vec<Result<DiskChanges>> = std::thread::scope(|scope| {
        let compare = |member: &Member| {
            let (disk, id) = (Arc::clone(member.usable()?), member.row.id);
            let (leave_out, path) = (left_out_of(pool, member), pool.catalogue.path().to_path_buf());
            let now = pool.machine.now();
            let (at_work, extent) = (at_work.clone(), extent_for(member, extent));
            Ok(scope.spawn(move || {
                let _until_the_end = at_work;
                let c = &sieve_catalogue::open_reading(&path)?;
                look(&Comparison { c, id, disk: &*disk, leave_out: &leave_out, now, is_over }, extent)
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
