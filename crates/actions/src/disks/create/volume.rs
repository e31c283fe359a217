//! One more volume for a pool that is there: the pool file has it, with disks that are no members yet.

use std::path::Path;

use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::mark_changed;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::check::small_parities;
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::journal::{Did, Entry};
use sieve_pool::new_disk::NewDisk;
use sieve_pool::pool::Pool;
use sieve_pool::scan;

use super::{CreatePlan, forget_empty_folder, insert_members, plan_volumes};

/// Looks at the disks of every volume that the pool file has and the pool has not.
///
/// # Errors
/// When there is no such volume, or a disk of one is not there, not fit, or a member of something.
pub fn plan(pool: &Pool) -> Result<CreatePlan> {
    let built = pool.volumes();
    let not_built =
        || pool.spec.volumes.iter().filter(|said| built.iter().all(|have| have.name != said.name));
    let mut plan = plan_volumes(&*pool.machine, &pool.spec, not_built(), None)?;
    plan.adds = not_built().map(|volume| volume.name.clone()).collect();
    if plan.disks.is_empty() {
        let message = "this pool exists already, with every volume that the pool file has";
        return Err(Error::new(Kind::Safety, "pool.exists", message).remedy(
            "zinc-sieve status; for one more volume write it into the pool file, then run this again",
        ));
    }
    for step in &plan.disks {
        open(pool, &step.name, &step.path)?.refuse_member()?;
    }
    let size = |name: &str| plan.disks.iter().find(|step| step.name == name).map(|step| step.usable);
    if let Some(mistake) = not_built().find_map(|volume| small_parities(volume, size).into_iter().next()) {
        // What lies beyond the end of a parity disk would not be guarded.
        return Err(Error::new(Kind::Conflict, "parity.too-small", mistake.message)
            .remedy(mistake.advice.unwrap_or_else(|| "use a larger disk".into())));
    }
    Ok(plan)
}

fn open(pool: &Pool, name: &str, path: &str) -> Result<NewDisk> {
    NewDisk::open(pool, Path::new(path), pool.spec.disk(name), None)
}

/// Builds the volumes of a plan.
///
/// # Crash safety
/// One commit makes the disks members and notes that their labels have to follow, which the next start finishes. Files on
/// the disks are not touched.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, plan: &CreatePlan, observer: &dyn Observer) -> Result<()> {
    pool.expect_long()?;
    let mut new = Vec::new();
    for step in &plan.disks {
        let disk = open(pool, &step.name, &step.path)?;
        // What was mounted there since it was planned keeps its label (L2).
        disk.refuse_member()?;
        new.push(disk);
    }
    if let Some(unfit) = new.iter().find_map(|disk| disk.refuse_unfit().err()) {
        // Nothing of ours stays on a disk that is no member.
        new.iter().try_for_each(|disk| forget_empty_folder(&*disk.disk))?;
        return Err(unfit);
    }
    let rows = pool.catalogue.transaction(|t| {
        let rows = insert_members(t, &*pool.machine, &pool.spec, plan)?;
        for (row, disk) in rows.iter().zip(&new) {
            intents::insert(t, &Intent::Join { disk: row.id, at: disk.at.clone(), edits: Vec::new() })?;
        }
        mark_changed(t)?;
        Ok(rows)
    })?;
    for (row, disk) in rows.iter().zip(&new) {
        label::write(&*disk.disk, &row.label(&pool.identity, row.filesystem.clone()))?;
    }
    edit_pool_file(pool, &[])?; // nothing of it changes; from here on the pool has the new members
    // Before the intents go: after them, nobody would know that the replicas still speak of another set of members.
    tell_all_members(pool)?;
    let joined = |intent: &Intent| matches!(intent, Intent::Join { disk, .. } if rows.iter().any(|row| row.id == *disk));
    forget_intents(pool, joined)?;
    for row in rows.iter().filter(|row| row.role.holds_files()) {
        observer.event(Event::Stage { name: "scanning", total: 0, unit: Unit::Files });
        scan::scan(pool, pool.member(row.id)?)?;
    }
    tell_all_members(pool)?;
    pool.tell(Entry::new(Did::Create).on(plan.disks.iter().map(|step| &step.name)).detail(plan)?)
}
