//! Doing it: files move, folders and symlinks follow where a disk is to be empty.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::DiskId;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;
use sieve_pool::traffic::Traffic;

use super::plan::ShiftPlan;
use crate::files::folders::{Folders, Wanted};
use crate::files::moves;
use crate::files::moves::Moved;

/// What was done.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct ShiftReport {
    /// The volume.
    pub volume: String,
    /// What moved.
    #[serde(flatten)]
    pub moved: Moved,
    /// Symlinks that moved.
    pub symlinks: u64,
    /// Bytes read, by disk.
    pub read_bytes: Amounts,
    /// Bytes written, by disk.
    pub written_bytes: Amounts,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// Moves what was planned; where `emptied` names disks, their folders and symlinks follow as well.
///
/// # Crash safety
/// As that of a settle: at every moment each file is whole where it was or where it goes, and what parity has of it is held
/// until a sync has passed the copy.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says; what was moved before stays moved.
pub fn execute(
    pool: &mut Pool,
    volume: &VolumeSpec,
    plan: &ShiftPlan,
    emptied: &[DiskId],
    observer: &dyn Observer,
) -> Result<ShiftReport> {
    pool.expect_long()?;
    let (traffic, begun) = (Traffic::begin(pool), std::time::Instant::now());
    let folders = Folders::look(pool, volume, Wanted { from: emptied, everything: true }, |_| true)?;
    moves::announce(observer, "moving", plan.total().bytes);
    let mut report = ShiftReport {
        volume: volume.name.clone(),
        moved: moves::execute(pool, &plan.moves, observer)?,
        ..ShiftReport::default()
    };
    report.moved.left_alone.extend(plan.left_alone.iter().cloned());
    if !report.moved.stopped && !emptied.is_empty() {
        report.symlinks = folders.move_symlinks(pool)?;
        folders.follow(pool)?;
    }
    (report.read_bytes, report.written_bytes) = traffic.since(pool);
    report.seconds = begun.elapsed().as_secs_f64();
    pool.tell(
        Entry::new(Did::Shift)
            .ended(Ended::of(report.moved.stopped, report.moved.left_alone.is_empty()))
            .took(report.seconds)
            .expected(&plan.forecast)
            .files(plan.total())
            .moved((&report.read_bytes, &report.written_bytes))
            .detail(&report)?,
    )?;
    pool.refresh_rows()?;
    Ok(report)
}
