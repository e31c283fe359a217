//! The end of a volume: its disks are left with the files that they hold, and nothing of ours.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::landing::Spot;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};

use super::vacate::{erase, refuse_while_missing};
use crate::files::settle;
use crate::files::settle::SettlePlan;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label::Role;
use sieve_catalogue::{disks, held_files, mark_changed, objects};
use sieve_core::count::Count;
use sieve_disk::event::{Observer, Silent, heed};
use sieve_disk::full_path;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::follow::{forget_intents, tell_all_members};
use sieve_pool::grounds::Grounds;
use sieve_pool::journal::{Did, Entry};
use sieve_pool::pieces;
use sieve_pool::pieces::PiecedFile;
use sieve_pool::pool::{Pool, catalogue_path, remove_passing};

/// What will be left of one disk.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DissolvedDisk {
    /// The disk.
    pub disk: String,
    /// What it did.
    pub role: Role,
    /// Where it is; none when it is missing, and what is on it stays as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(rename = "path")]
    pub at: Option<String>,
    /// The files that stay on it.
    pub files: Count,
    /// What is held on it, and goes: what was removed or replaced and no sync has passed yet.
    pub held: u64,
    /// What the parity image on it takes.
    #[serde(rename = "parity_bytes")]
    pub parity: ByteLength,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DissolvePlan {
    /// The volume.
    pub volume: String,
    /// Disk by disk.
    pub disks: Vec<DissolvedDisk>,
    /// What leaves the caches, file by file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub settles: Option<SettlePlan>,
    /// Files in pieces that are put together, each with the disk that it goes to.
    pub joins: Vec<Join>,
    /// It is the last volume: the pool ends with it.
    pub is_last: bool,
}

/// A file in pieces that is put together.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Join {
    /// Its path.
    pub path: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// The disk that it goes to.
    pub to: String,
    #[serde(skip)]
    file: PiecedFile,
    #[serde(skip)]
    disk: DiskId,
}

/// Looks at what will be left.
///
/// # Errors
/// When there is no such volume, a disk that is there takes no writes, or one that is missing could still be rebuilt.
pub fn plan(pool: &Pool, volume: &str) -> Result<DissolvePlan> {
    let volume = pool.volume(Some(volume))?.name;
    if pool.members_of(&volume, Role::Parity).any(|member| member.state.is_usable()) {
        refuse_while_missing(pool, &volume, &[])?;
    }
    let mut plan = DissolvePlan {
        is_last: pool.members.iter().all(|member| member.row.volume == volume),
        volume,
        disks: Vec::new(),
        settles: None,
        joins: Vec::new(),
    };
    plan_moves(pool, &mut plan)?;
    for member in pool.members.iter().filter(|member| member.row.volume == plan.volume) {
        let at = if member.state.is_usable() {
            Some(member.writable()?.root().display().to_string())
        } else {
            None
        };
        let reading = pool.catalogue.reading();
        let mut disk = DissolvedDisk {
            disk: member.row.name.clone(),
            role: member.row.role,
            at,
            files: Count::default(),
            held: 0,
            parity: member.row.parity_bytes,
        };
        if member.row.role.holds_files() {
            disk.held = held_files::all(reading, member.row.id)?.len() as u64;
            objects::for_each_name(reading, member.row.id, |path, object| {
                if !path.is_ours() {
                    disk.files.add(object.size);
                }
                Ok(())
            })?;
        }
        plan.disks.push(disk);
    }
    Ok(plan)
}

/// What is in our folders and belongs to no whole file would go with them.
fn refuse_rests(pool: &Pool, volume: &str) -> Result<()> {
    let whole: BTreeSet<(DiskId, RelPath)> = pieces::files(pool, volume)?
        .into_iter()
        .flat_map(|file| file.pieces)
        .map(|piece| (piece.disk, piece.path))
        .collect();
    for member in pool.members_of(volume, Role::Data).filter(|member| member.state.is_usable()) {
        let disk = member.usable()?;
        if disk.stat(&OurPlace::Pieces.path())?.is_none() {
            continue;
        }
        for name in disk.list(&OurPlace::Pieces.path())? {
            let path = OurPlace::Pieces
                .path()
                .join(&name)
                .ok()
                .filter(|path| !whole.contains(&(member.row.id, path.clone())));
            if let Some(path) = path {
                let place = full_path(&**disk, &path);
                if pieces::copied_file(&path).is_some() {
                    let message = format!("{}: a copy that a conversion has made", place.display());
                    return Err(Error::new(Kind::Safety, "dissolve.piece", message).remedy(format!(
                        "zinc-sieve convert {volume} --to spanned takes it back; then sync"
                    )));
                }
                let message = format!("{}: a piece of a file of which others are gone", place.display());
                return Err(Error::new(Kind::Safety, "dissolve.piece", message)
                    .remedy("zinc-sieve status names the file: zinc-sieve rm it, or move the piece away"));
            }
        }
    }
    Ok(())
}

/// Whatever lies in pieces now came after the plan.
fn refuse_pieces(pool: &Pool, volume: &str) -> Result<()> {
    for member in pool.members_of(volume, Role::Data).filter(|member| member.state.is_usable()) {
        let disk = member.usable()?;
        let is_empty =
            disk.stat(&OurPlace::Pieces.path())?.is_none() || disk.list(&OurPlace::Pieces.path())?.is_empty();
        if !is_empty {
            let place = full_path(&**disk, &OurPlace::Pieces.path());
            let message = format!("{}: a file in pieces came there meanwhile", place.display());
            return Err(Error::new(Kind::Safety, "dissolve.piece", message)
                .remedy("run this again: what is done so far stays"));
        }
    }
    Ok(())
}

/// Everything gets a place on a data disk, whole.
fn plan_moves(pool: &Pool, plan: &mut DissolvePlan) -> Result<()> {
    let volume = pool.volume(Some(&plan.volume))?;
    refuse_rests(pool, &volume.name)?;
    let mut grounds = None;
    for file in pieces::files(pool, &volume.name)? {
        if grounds.is_none() {
            let found = Grounds::open(pool, &volume)?;
            let lander = found.lander(pool, &volume, ByteLength::ZERO)?;
            grounds = Some((found, lander));
        }
        let Some((found, lander)) = &mut grounds else { continue };
        let Some(Spot::Whole(places)) = lander.whole_on_disks(&file.path, file.size) else {
            let message =
                format!("{} ({}) lies in pieces, and no disk has room for all of it", file.path, file.size);
            return Err(Error::new(Kind::Conflict, "dissolve.no-room", message)
                .remedy("get it elsewhere and remove it from the volume, or make room"));
        };
        let member = &pool.members[found.members[places[0]]];
        plan.joins.push(Join {
            path: file.path.to_string(),
            size_bytes: file.size,
            to: member.row.name.clone(),
            file,
            disk: member.row.id,
        });
    }
    if volume.has_cache() {
        let settles = settle::plan(pool, &volume, &everything(), &Silent)?;
        if let Some(left) = settles.left_alone.first() {
            let message = format!("{} cannot leave the cache: {}", left.path, left.why);
            return Err(Error::new(Kind::Conflict, "dissolve.cache", message)
                .remedy("see to that first; nothing was done"));
        }
        plan.settles = Some(settles);
    }
    Ok(())
}

fn everything() -> settle::Options {
    settle::Options { everything: true, ..settle::Options::default() }
}

/// What was done.
#[derive(Clone, Copy, Debug, Default, Serialize, JsonSchema)]
pub struct DissolveReport {
    /// Files in pieces that were put together.
    pub joined: u64,
    /// It was asked to stop before the volume ended: what was moved and put together stays so, and the volume goes on.
    pub stopped: bool,
}

/// Puts files together, and empties the caches.
fn make_whole(
    pool: &mut Pool,
    plan: &DissolvePlan,
    observer: &dyn Observer,
    report: &mut DissolveReport,
) -> Result<()> {
    for join in &plan.joins {
        heed(observer)?;
        pieces::join(pool, &join.file, join.disk, observer)?;
        report.joined += 1;
    }
    if let Some(settles) = &plan.settles {
        let volume = pool.volume(Some(&plan.volume))?;
        let settled = settle::settle(pool, &volume, settles, &everything(), observer)?;
        if settled.moved.stopped {
            return Err(Error::stopped());
        }
        if let Some(left) = settled.moved.left_alone.first() {
            let message = format!("{} cannot leave the cache: {}", left.path, left.why);
            return Err(Error::new(Kind::Conflict, "dissolve.cache", message)
                .remedy("see to that, then run this again: it goes on from here"));
        }
    }
    Ok(())
}

/// Ends the volume.
///
/// # Crash safety
/// Files that have to move first do so as always: whole where they were or where they go. Then one commit takes its disks out of the pool, with an intent for each; the next start removes what is still on them. No
/// other file of the volume is touched.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, plan: &DissolvePlan, observer: &dyn Observer) -> Result<DissolveReport> {
    pool.expect_long()?;
    let mut report = DissolveReport::default();
    match make_whole(pool, plan, observer, &mut report) {
        Err(error) if error.is_stop() => return Ok(DissolveReport { stopped: true, ..report }),
        done => done?,
    }
    // Our folders go with all that is in them: nothing of a file may have come there since it was planned (L2).
    refuse_pieces(pool, &plan.volume)?;
    let now = pool.machine.now();
    let leaving: Vec<_> =
        pool.members.iter().filter(|m| m.row.volume == plan.volume).map(|m| m.row.clone()).collect();
    let mut begun = Vec::new();
    pool.catalogue.transaction(|t| {
        for row in &leaving {
            let member = pool.member(row.id)?;
            let at = member.disk.as_ref().and_then(|disk| disk.root().to_str()).map(str::to_string);
            let intent = Intent::Leave { uuid: row.uuid, at, edits: Vec::new() };
            intents::insert(t, &intent)?;
            disks::remove(t, row, now)?;
            begun.push(intent);
        }
        disks::remove_volume(t, &plan.volume)?;
        mark_changed(t)
    })?;
    for intent in &begun {
        let Intent::Leave { uuid, at, .. } = intent else { continue };
        erase(pool, *uuid, at.as_deref())?;
    }
    pool.members.retain(|member| member.row.volume != plan.volume);
    if !plan.is_last {
        // Before the intents go: after them, nobody would know that the replicas still speak of another set of members.
        tell_all_members(pool)?;
    }
    forget_intents(pool, |other| begun.contains(other))?;
    pool.tell(Entry::new(Did::Dissolve).detail(plan)?)?;
    if plan.is_last {
        // A pool without members has nothing to know; its journal stays.
        pool.end();
        remove_passing(&catalogue_path(&pool.file));
        pool.home.sync_folder(&OurPlace::Folder.path())?;
    }
    Ok(report)
}
