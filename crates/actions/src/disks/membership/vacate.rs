//! Parity disks leave their volume, which is guarded by one less; caches leave when nothing is on them. The disk is as it was
//! before it came.

use sieve_catalogue::contents;
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::count::so_many;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId};
use uuid::Uuid;

use sieve_catalogue::disks;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_core::count::Count;
use sieve_disk::{Disk, EntryKind};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::fate;
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::journal::{Did, Entry};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

/// Files of one guard, before and after.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct GuardChange {
    /// So many disks may die.
    pub guard: u8,
    /// Files of that guard now.
    pub before: Count,
    /// Files of that guard afterwards.
    pub after: Count,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct VacatePlan {
    /// The volume.
    pub volume: String,
    /// The disks that leave.
    pub disks: Vec<String>,
    /// What our things take on them, and is freed.
    #[serde(rename = "freed_bytes")]
    pub freed: ByteLength,
    /// Those of them that are not there: what is on them stays.
    pub missing: Vec<String>,
    /// What it does to the files.
    pub guards: Vec<GuardChange>,
}

/// What was done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct VacateReport {
    /// The volume.
    pub volume: String,
    /// The disks that left.
    pub disks: Vec<String>,
}

/// Looks at what it would do.
///
/// # Errors
/// When a disk holds files of the volume, or only a part of an image would leave.
pub fn plan(pool: &Pool, names: &[String]) -> Result<VacatePlan> {
    let mut leaving = Vec::new();
    for name in names {
        let member = pool.member_named(name)?;
        if member.row.role == Role::Cache {
            refuse_used_cache(pool, member)?;
        } else if member.row.role != Role::Parity {
            // Data disks are emptied first (`empty`); whoever calls has asked.
            let message = format!("{name} is a data disk of volume {}", member.row.volume);
            return Err(Error::new(Kind::Internal, "vacate.data", message));
        }
        leaving.push(member);
    }
    let volume = leaving.first().map(|m| m.row.volume.clone()).unwrap_or_default();
    if leaving.iter().any(|m| m.row.volume != volume) {
        let message = "these disks are of different volumes";
        return Err(Error::new(Kind::Usage, "vacate.volumes", message).remedy("one volume at a time"));
    }
    let ids: Vec<DiskId> = leaving.iter().map(|m| m.row.id).collect();
    refuse_while_missing(pool, &volume, &ids)?;
    for member in pool.members_of(&volume, Role::Parity).filter(|m| !ids.contains(&m.row.id)) {
        let is_part = |m: &&&Member| m.row.role == Role::Parity && m.row.slot == member.row.slot;
        if let Some(part) = leaving.iter().find(is_part) {
            let message = format!("the parity on {} continues on {}", part.row.name, member.row.name);
            return Err(Error::new(Kind::Usage, "vacate.part", message)
                .remedy(format!("let both leave: zinc-sieve vacate {} {}", part.row.name, member.row.name)));
        }
    }
    let edits: Vec<Edit> = leaving.iter().map(|m| leave(&volume, &m.row.name)).collect();
    pool_file::rehearse(&pool.file, &edits)?;
    Ok(VacatePlan {
        volume: volume.clone(),
        disks: leaving.iter().map(|m| m.row.name.clone()).collect(),
        freed: leaving.iter().fold(ByteLength::ZERO, |sum, m| sum.plus(m.row.parity_bytes)),
        missing: leaving.iter().filter(|m| !m.state.is_usable()).map(|m| m.row.name.clone()).collect(),
        guards: guards(pool, &volume, &ids)?,
    })
}

/// A cache leaves with nothing on it, seen or out of sight.
///
/// # Errors
/// When it is not there, or holds files.
fn refuse_used_cache(pool: &Pool, member: &Member) -> Result<()> {
    member.writable()?;
    scan::scan(pool, member)?;
    let files = contents::names_on(pool.catalogue.reading(), member.row.id)?;
    if files == 0 {
        return Ok(());
    }
    let message = format!(
        "{} holds {}, what is held until the next sync included",
        member.row.name,
        so_many(files, "file")
    );
    Err(Error::new(Kind::Conflict, "vacate.cache", message)
        .remedy("zinc-sieve settle --then-sync first; what stays on the cache has to be landed elsewhere"))
}

/// While a data disk is missing, what was on it may need every parity there is.
///
/// # Errors
/// When one is, besides those named.
pub(super) fn refuse_while_missing(pool: &Pool, volume: &str, leaving: &[DiskId]) -> Result<()> {
    let is_away = |m: &&sieve_pool::member::Member| !m.state.is_usable() && !leaving.contains(&m.row.id);
    let Some(member) = pool.members_of(volume, Role::Data).find(is_away) else { return Ok(()) };
    let name = &member.row.name;
    let message =
        format!("{name} is not there, and its files can come back only with the parity of {volume}");
    Err(Error::new(Kind::Safety, "parity.needed", message)
        .remedy(format!("bring {name} back, or rebuild it first: zinc-sieve rebuild {name} --onto DIR")))
}

fn leave(volume: &str, disk: &str) -> Edit {
    Edit::Leave { volume: volume.into(), disk: disk.into() }
}

/// How many files have which guard, with and without some parity disks.
fn guards(pool: &Pool, volume: &str, without: &[DiskId]) -> Result<Vec<GuardChange>> {
    let mut changes: Vec<GuardChange> = Vec::new();
    let mut model = fate::load(pool, volume)?;
    for is_after in [false, true] {
        if is_after {
            model = model.without_parity(without);
        }
        let evaluation = model.evaluate(&[]);
        model.for_each_file(pool, &evaluation, |file| {
            while changes.len() <= usize::from(file.guard) {
                let guard = u8::try_from(changes.len()).unwrap_or(u8::MAX);
                changes.push(GuardChange { guard, ..GuardChange::default() });
            }
            let change = &mut changes[usize::from(file.guard)];
            let count = if is_after { &mut change.after } else { &mut change.before };
            count.add(file.size_bytes);
            Ok(())
        })?;
    }
    Ok(changes)
}

/// Lets the disks leave.
///
/// # Crash safety
/// One commit takes them out of the pool; nothing relies on them any more. The next start finishes what follows: the
/// pool file, and our things on the disks.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, plan: &VacatePlan) -> Result<VacateReport> {
    pool.expect_long()?;
    let now = pool.machine.now();
    let mut begun = Vec::new();
    pool.catalogue.transaction(|t| {
        for name in &plan.disks {
            let member = pool.member_named(name)?;
            let at = member.disk.as_ref().and_then(|disk| disk.root().to_str()).map(str::to_string);
            let edits = vec![leave(&plan.volume, name)];
            let intent = Intent::Leave { uuid: member.row.uuid, at, edits };
            intents::insert(t, &intent)?;
            disks::remove(t, &member.row, now)?;
            begun.push(intent);
        }
        Ok(())
    })?;
    for intent in &begun {
        let Intent::Leave { uuid, at, edits } = intent else { continue };
        edit_pool_file(pool, edits)?;
        erase(pool, *uuid, at.as_deref())?;
    }
    // Before the intents go: after them, nobody would know that the replicas still speak of another set of members.
    tell_all_members(pool)?;
    forget_intents(pool, |other| begun.contains(other))?;
    let report = VacateReport { volume: plan.volume.clone(), disks: plan.disks.clone() };
    pool.tell(Entry::new(Did::Vacate).on(&report.disks).detail(&report)?)?;
    Ok(report)
}

/// Removes our things from a disk that left, its label last. A disk that is not there, or another one, is left alone.
///
/// # Errors
/// What the disk says.
pub(super) fn erase(pool: &Pool, uuid: Uuid, at: Option<&str>) -> Result<()> {
    let Some(at) = at else { return Ok(()) };
    let Ok(disk) = pool.machine.open_disk(Path::new(at)) else { return Ok(()) };
    let ours = OurPlace::Folder.path();
    match label::read(&*disk)? {
        // Of this pool, whatever the intent says (L4).
        Some(label) if label.disk == uuid && label.pool == pool.identity.pool => {}
        // The label goes last but for the folder that it was in.
        None if disk.stat(&ours)?.is_some() && disk.list(&ours)?.is_empty() => {
            disk.remove_folder(&ours)?;
            return disk.sync_folder(&RelPath::ROOT);
        }
        _ => return Ok(()),
    }
    for name in disk.list(&ours)?.into_iter().filter(|name| *name != b"label.toml") {
        if let Ok(path) = ours.join(&name) {
            remove_all(&*disk, &path)?;
        }
    }
    disk.sync_folder(&ours)?;
    remove_all(&*disk, &ours)?;
    disk.sync_folder(&RelPath::ROOT)
}

pub(super) fn remove_all(disk: &dyn Disk, path: &RelPath) -> Result<()> {
    let is_folder = disk.stat(path)?.is_some_and(|stat| stat.kind == EntryKind::Folder);
    if !is_folder {
        return disk.remove_file(path);
    }
    for name in disk.list(path)? {
        if let Ok(inner) = path.join(&name) {
            remove_all(disk, &inner)?;
        }
    }
    disk.remove_folder(path)
}
