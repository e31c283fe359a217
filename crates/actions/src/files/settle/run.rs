//! Doing what was planned: held copies go, files move, then symlinks and folders follow.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::pool::{Landing, VolumeSpec};
use sieve_core::units::DiskId;

use super::plan::{Options, SettlePlan};
use super::when::caches_of;
use crate::files::folders::{Folders, Wanted};
use crate::files::moves;
use crate::files::moves::Moved;
use sieve_core::count::Count;
use sieve_core::path::RelPath;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::held;
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;
use sieve_pool::traffic::Traffic;

/// What was done.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct SettleReport {
    /// The volume.
    pub volume: String,
    /// What moved.
    #[serde(flatten)]
    pub moved: Moved,
    /// Copies held since earlier settles that were given up.
    pub given_up: u64,
    /// Symlinks that moved.
    pub symlinks: u64,
    /// Bytes read, by disk.
    pub read_bytes: Amounts,
    /// Bytes written, by disk.
    pub written_bytes: Amounts,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// Settles what was planned.
///
/// # Crash safety
/// As [`moves::execute`]: at every moment each file is whole where it was or where it goes.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(
    pool: &mut Pool,
    volume: &VolumeSpec,
    plan: &SettlePlan,
    options: &Options,
    observer: &dyn Observer,
) -> Result<SettleReport> {
    pool.expect_long()?;
    settle(pool, volume, plan, options, observer)
}

/// As [`execute`], for whoever is the long writer already.
///
/// # Errors
/// As [`execute`].
pub(crate) fn settle(
    pool: &mut Pool,
    volume: &VolumeSpec,
    plan: &SettlePlan,
    options: &Options,
    observer: &dyn Observer,
) -> Result<SettleReport> {
    let (traffic, begun) = (Traffic::begin(pool), std::time::Instant::now());
    let mut given_up = 0;
    for (disk, row, object) in &plan.to_give_up {
        let member = pool.member(*disk)?;
        // For its space alone a copy goes only where the same is elsewhere, looked at now (L1).
        let Some(known) = object.as_ref() else { continue };
        if held::is_proven_elsewhere(pool, member, row, known)? {
            given_up += held::give_up(pool, member, &[(row.clone(), object.clone())])?;
        }
    }
    let is_asked = |path: &RelPath| {
        let is_meant = |folder: &RelPath| path.is_within(folder) || folder.is_within(path);
        options.folder.as_ref().is_none_or(is_meant)
            && (options.everything || volume.landing_of(path) != Landing::Stay)
    };
    let caches: Vec<DiskId> = caches_of(pool, volume).map(|member| member.row.id).collect();
    let wanted = Wanted { from: &caches, everything: options.everything };
    let folders = Folders::look(pool, volume, wanted, is_asked)?;
    moves::announce(observer, "settling", plan.bytes());
    let mut report = SettleReport {
        volume: volume.name.clone(),
        given_up,
        moved: moves::execute(pool, &plan.moves, observer)?,
        ..SettleReport::default()
    };
    report.moved.left_alone.extend(plan.left_alone.iter().cloned());
    if !report.moved.stopped {
        report.symlinks = if plan.others > 0 { folders.move_symlinks(pool)? } else { 0 };
        folders.follow(pool)?;
    }
    if plan.tiers.is_some() {
        super::tiers::see_own_writes(pool, volume, plan)?;
    }
    let now = pool.machine.now();
    pool.catalogue.transaction(|t| sieve_catalogue::set_settled_at(t, &volume.name, now))?;
    (report.read_bytes, report.written_bytes) = traffic.since(pool);
    report.seconds = begun.elapsed().as_secs_f64();
    let files = report.moved.by_disk.values().fold(Count::default(), |sum, count| sum.plus(*count));
    pool.tell(
        Entry::new(Did::Settle)
            .ended(Ended::of(report.moved.stopped, true))
            .took(report.seconds)
            .expected(&plan.forecast)
            .files(files)
            .moved((&report.read_bytes, &report.written_bytes))
            .detail(&report)?,
    )?;
    pool.refresh_rows()?;
    Ok(report)
}
