//! The end of a volume: its disks are left with the files that they hold, and nothing of ours.

use serde::Serialize;
use sieve_core::units::ByteLength;

use super::vacate::{erase, refuse_while_missing};
use super::{forget_intents, tell_all_members};
use crate::catalogue::intents::{self, Intent};
use crate::catalogue::{disks, held_files, mark_changed, objects};
use crate::error::Result;
use crate::fate::Count;
use crate::journal;
use crate::label::{Role, our_folder};
use crate::pool::{Pool, catalogue_path, remove_passing};
use crate::writer::LongWriter;

/// What will be left of one disk.
#[derive(Clone, Debug, Serialize)]
pub struct DissolvedDisk {
    /// The disk.
    pub disk: String,
    /// What it did.
    pub role: Role,
    /// Where it is; none when it is missing, and what is on it stays as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The files that stay on it.
    pub files: Count,
    /// What is held on it, and goes: what was removed or replaced and no sync has passed yet.
    pub held: u64,
    /// What the parity image on it takes.
    pub parity: ByteLength,
}

/// What will be done.
#[derive(Clone, Debug, Serialize)]
pub struct DissolvePlan {
    /// The volume.
    pub volume: String,
    /// Disk by disk.
    pub disks: Vec<DissolvedDisk>,
    /// It is the last volume: the pool ends with it.
    pub is_last: bool,
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
    };
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
        if member.row.role == Role::Data {
            disk.held = held_files::all(reading, member.row.id)?.len() as u64;
            objects::for_each_name(reading, member.row.id, |path, object| {
                if !crate::scan::is_held(&path) {
                    disk.files.add(object.size);
                }
                Ok(())
            })?;
        }
        plan.disks.push(disk);
    }
    Ok(plan)
}

/// Ends the volume.
///
/// # Crash safety
/// One commit takes its disks out of the pool, with an intent for each; the next start removes what is still on them. No file
/// of the volume is touched.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, plan: &DissolvePlan) -> Result<()> {
    let lock = LongWriter::begin(&*pool.home, pool.members.iter(), "dissolve")?;
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
    for intent in begun {
        let Intent::Leave { uuid, at, .. } = &intent else { continue };
        erase(pool, *uuid, at.as_deref())?;
        forget_intents(pool, |other| *other == intent)?;
    }
    pool.members.retain(|member| member.row.volume != plan.volume);
    journal::append(&*pool.home, now, "dissolve", plan)?;
    if plan.is_last {
        // A pool without members has nothing to know; its journal stays.
        drop(lock);
        remove_passing(&catalogue_path(&pool.file));
        return pool.home.sync_folder(&our_folder());
    }
    tell_all_members(pool)
}
