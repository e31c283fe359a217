//! One glance at a pool.

mod report;
mod stock;
mod verdict;

use self::stock::Stock;
use sieve_actions::files::settle::caches;
use sieve_catalogue::{intents, parity_state};
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::images::open_images;
use sieve_pool::member::{Member, State};
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_pool::writer::at_work;

pub(crate) use report::every_level;
pub use report::{Advice, Conflict, DiskStatus, GuardLevel, Limited, NextLoss, Stakes, Status, Verdict};
pub use stock::unguarded;

/// How much is looked at before it is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// All files on all disks.
    Always,
    /// All of them where that is short; else what the last scan knew is told, and when that was.
    WhereShort,
}

/// Looks at what is there, and takes stock.
///
/// # Errors
/// What a disk or the database says.
pub fn status(pool: &mut Pool, look: Look, observer: &dyn Observer) -> Result<Status> {
    let mut notes = pool.notes.clone();
    let mut out_of_sight = Vec::new();
    let as_of = match look {
        Look::WhereShort if !scan::is_short(pool)? => scan::scanned_at(pool),
        _ => None,
    };
    if as_of.is_none() {
        for report in scan::scan_all(pool, |_| true, observer)? {
            notes.extend(report.left_alone);
            out_of_sight.extend(report.out_of_sight);
        }
        pool.refresh_rows()?;
    }
    let (disks, damaged_tables) = (disks(pool)?, tables(pool)?);
    let stock = Stock::of(pool, &disks, &damaged_tables)?;
    notes.extend(stock.rests);
    if !intents::all(pool.catalogue.reading())?.is_empty() {
        notes.push(
            "something was begun and is not finished: another command is at it, or the next one that writes finishes it"
                .into(),
        );
    }
    let mut status = Status {
        pool: pool.spec.name.clone(),
        verdict: Verdict::Well,
        stakes: stock.stakes,
        at_work: at_work(&*pool.home),
        disks,
        guard: every_level(&stock.guard),
        unguarded: stock.unguarded,
        sync_would_guard: stock.sync_would_guard,
        held: stock.held,
        synced_at: pool.catalogue.synced_at()?,
        as_of,
        now: pool.machine.now(),
        conflicts: stock.conflicts,
        damaged_cells: stock.damaged_cells,
        proven: sieve_catalogue::proofs::all(pool.catalogue.reading())?,
        limits: limits(pool)?,
        caches: caches(pool)?,
        out_of_sight,
        suspicious: stock.suspicious,
        damaged_tables,
        notes,
    };
    status.verdict = status.judge();
    Ok(status)
}

/// How each disk of a pool is.
///
/// # Errors
/// What the database says.
pub fn disks(pool: &Pool) -> Result<Vec<DiskStatus>> {
    pool.members.iter().map(|member| disk_status(pool, member)).collect()
}

fn disk_status(pool: &Pool, member: &Member) -> Result<DiskStatus> {
    let is_present = member.state == State::Present;
    Ok(DiskStatus {
        name: member.row.name.clone(),
        volume: member.row.volume.clone(),
        role: member.row.role,
        state: member.state.clone(),
        advice: (!is_present).then(|| Advice::from(member.refusal())),
        bay: member.spec.as_ref().and_then(|s| s.bay.clone()),
        serial: member.spec.as_ref().and_then(|s| s.serial.clone()),
        used: member.used_bytes(&pool.catalogue)?,
        free: member.free_bytes(&pool.catalogue)?,
        scanned_at: member.row.scanned_at,
        read_only: member.filesystem.as_ref().is_some_and(|f| f.read_only),
    })
}

/// Parity that is expected on a drive and is not valid there, in words: its table was damaged, or the drive is new.
///
/// # Errors
/// What a disk or the database says.
pub fn tables(pool: &Pool) -> Result<Vec<String>> {
    let mut found = Vec::new();
    for volume in pool.volumes() {
        let expected = parity_state::parity_cells(pool.catalogue.reading(), &volume.name)?;
        for image in open_images(pool, &volume.name, &[])? {
            for part in image.parts() {
                let name = &pool.member(part.member())?.row.name;
                let missing = part.missing(&expected).len();
                match (part.damage(), missing) {
                    (Some(why), _) => found.push(format!("parity on {name}: {why}: nothing on it guards anything; the next sync computes it anew")),
                    (None, 0) => {}
                    (None, cells) => found.push(format!(
                        "parity on {name}: {cells} cells are not valid (its table is damaged, or they were never computed): the next sync computes them"
                    )),
                }
            }
        }
    }
    Ok(found)
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
