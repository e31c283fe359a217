//! One glance at a pool.

mod stock;
mod verdict;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sieve_core::fate::Unguarded;
use sieve_core::units::ByteLength;

use self::stock::Stock;
use sieve_actions::files::settle::{CacheStatus, caches};
use sieve_catalogue::label::Role;
use sieve_catalogue::proofs::Proof;
use sieve_catalogue::{intents, parity_state};
use sieve_core::count::Count;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Result};
use sieve_pool::images::open_images;
use sieve_pool::member::{Member, State};
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_pool::writer::{AtWork, at_work};

pub use stock::unguarded;
pub use verdict::{NextLoss, Stakes, Verdict};

/// How a pool is.
#[derive(Clone, Debug, Serialize)]
pub struct Status {
    /// The pool's name.
    pub pool: String,
    /// In one word.
    pub verdict: Verdict,
    /// How the files would end.
    pub stakes: Stakes,
    /// The long work that is under way.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_work: Option<AtWork>,
    /// Its disks.
    pub disks: Vec<DiskStatus>,
    /// For each level, from 0 on: what may lose so many disks, whichever they are, and no more.
    pub guard: Vec<GuardLevel>,
    /// Why what is unguarded and should not be is.
    pub unguarded: BTreeMap<Unguarded, Count>,
    /// What a sync would guard that is unguarded now, where one can be made and would help.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sync_would_guard: Option<Count>,
    /// What was removed or replaced and is held until the next sync.
    pub held: Count,
    /// When the last sync began, nanoseconds since 1970.
    pub synced_at: Option<i64>,
    /// When the files on the disks were last looked at, where that was not now; nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub as_of: Option<i64>,
    /// Now, nanoseconds since 1970.
    pub now: i64,
    /// Files of the same path on two disks of a volume.
    pub conflicts: Vec<Conflict>,
    /// Cells that are known to be damaged.
    pub damaged_cells: u64,
    /// Which losses were proven by a drill, and when.
    pub proven: Vec<Proof>,
    /// Volumes that may hold less than their disks could.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Limited>,
    /// The caches.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<CacheStatus>,
    /// Folders whose content cannot be seen, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub out_of_sight: Vec<String>,
    /// What looks like an accident, so that a sync would stop before it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub suspicious: Option<Advice>,
    /// What is damaged of parity drives besides cells that were read, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub damaged_tables: Vec<String>,
    /// What was noticed, in words.
    pub notes: Vec<String>,
}

/// A volume that may hold less than its disks could.
#[derive(Clone, Debug, Serialize)]
pub struct Limited {
    /// The volume.
    pub volume: String,
    /// What it holds.
    pub used: ByteLength,
    /// What it may hold.
    pub limit: ByteLength,
}

/// One disk.
#[derive(Clone, Debug, Serialize)]
pub struct DiskStatus {
    /// Its name.
    pub name: String,
    /// Its volume.
    pub volume: String,
    /// What it does.
    pub role: Role,
    /// What was found in its place.
    #[serde(flatten)]
    pub state: State,
    /// What is to be done about that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<Advice>,
    /// Where it sits.
    pub bay: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// What our files take on it.
    pub used: ByteLength,
    /// What may still be written to it.
    pub free: ByteLength,
    /// When it was last scanned, nanoseconds since 1970.
    pub scanned_at: Option<i64>,
    /// It takes no writes.
    pub read_only: bool,
}

/// What is wrong with a disk and what to do about it, in words.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Advice {
    /// What is wrong.
    pub message: String,
    /// What to do next.
    pub next: String,
}

impl From<Error> for Advice {
    fn from(error: Error) -> Self {
        Self { message: error.message, next: error.remedy.unwrap_or_default() }
    }
}

/// What may lose so many disks and no more.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct GuardLevel {
    /// How many disks.
    pub level: u8,
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: ByteLength,
}

/// One path, two disks.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Conflict {
    /// The volume.
    pub volume: String,
    /// The path.
    pub path: String,
    /// The disks.
    pub disks: Vec<String>,
}

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

/// From 0 to the highest level, without gaps.
pub(crate) fn every_level(levels: &BTreeMap<u8, Count>) -> Vec<GuardLevel> {
    let top = levels.keys().max().copied().unwrap_or(0);
    let of = |level| levels.get(&level).copied().unwrap_or_default();
    (0..=top).map(|level| GuardLevel { level, files: of(level).files, bytes: of(level).bytes }).collect()
}
