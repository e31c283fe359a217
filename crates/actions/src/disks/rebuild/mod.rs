//! Bringing lost disks back onto new ones, from the survivors.

mod copies;
mod finish;
mod first;
pub(crate) mod jobs;
mod plan;
mod run;
pub(crate) mod streaming;
mod target;

use plan::Target;
pub use plan::{Options, Prepared, RebuildPlan, RebuildReport, Request, Salvaged, TargetPlan};

use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::units::DiskId;
use uuid::Uuid;

use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_core::count::{Totals, so_many};
use sieve_disk::event::{Observer, Silent};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::fate;
use sieve_pool::fate::VolumeModel;
use sieve_pool::member::{State, usable_bytes};
use sieve_pool::new_disk::NewDisk;
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_pool::scan::doubts::resolve_doubts;

/// Checks the new disks, scans the survivors, settles what is doubtful on them by reading it, and predicts.
///
/// # Errors
/// When a disk is not lost, a new one is not fit, or disks of several volumes are named.
pub fn plan(pool: &Pool, requests: &[Request]) -> Result<Prepared> {
    let targets = requests.iter().map(|r| open_target(pool, r)).collect::<Result<Vec<_>>>()?;
    refuse_twins(&targets)?;
    let volume = targets.first().map(|t| t.row.volume.clone()).unwrap_or_default();
    if targets.iter().any(|t| t.row.volume != volume) {
        let message = "these disks are of different volumes";
        return Err(
            Error::new(Kind::Usage, "rebuild.volumes", message).remedy("rebuild one volume at a time")
        );
    }
    let lost: Vec<DiskId> = targets.iter().map(|t| t.row.id).collect();
    scan::scan_all(pool, |m| m.row.volume == volume && !lost.contains(&m.row.id), &Silent)?;
    for member in
        pool.members_of(&volume, Role::Data).filter(|m| !lost.contains(&m.row.id) && m.state.is_usable())
    {
        resolve_doubts(pool, member, &Silent)?;
    }
    let model = fate::load(pool, &volume)?;
    let predicted = predict(pool, &model, &lost)?;
    let mut plan = RebuildPlan {
        volume: volume.clone(),
        targets: Vec::new(),
        predicted,
        also_missing: pool
            .members
            .iter()
            .filter(|m| m.row.volume == volume && !m.state.is_usable() && !lost.contains(&m.row.id))
            .map(|m| m.row.name.clone())
            .collect(),
        read_bytes: Amounts::new(),
        forecast: Forecast::default(),
    };
    let copies = copies::find(pool, &model, &lost)?;
    for target in &targets {
        plan.targets.push(target_plan(pool, &model, target, &copies)?);
    }
    for member in pool.members.iter().filter(|m| m.row.volume == volume && m.state.is_usable()) {
        if !lost.contains(&member.row.id) {
            plan.read_bytes.set(&member.row.name, member.used_bytes(&pool.catalogue)?);
        }
    }
    let written = plan.targets.iter().map(|t| (t.disk.clone(), t.bytes));
    plan.forecast = forecast_pass(pool, &plan.read_bytes.clone().into_iter().chain(written).collect())?;
    if let Some(target) = plan.targets.iter().find(|t| t.bytes > t.free) {
        let message = format!(
            "{} is too small for {}: {} are needed, {} are free ({} missing)",
            target.onto,
            target.disk,
            target.bytes,
            target.free,
            target.bytes.minus(target.free)
        );
        return Err(Error::new(Kind::Conflict, "rebuild.too-small", message).remedy("use a larger disk"));
    }
    let edits: Vec<Edit> = targets.iter().flat_map(|target| finish::changes(pool, target)).collect();
    pool_file::rehearse(&pool.file, &edits)?;
    let newest_replica = model.newest_replica(&lost);
    Ok(Prepared { plan, targets, newest_replica, copies })
}

/// Rebuilds what was planned.
///
/// # Crash safety
/// Survivors are only read. Files appear on the new disk whole, under their names, after their checksums
/// held; the catalogue takes the new disk in place of the old one in one commit at the end. Until then
/// running it again goes on: what is there already is checked and kept.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(
    pool: &mut Pool,
    prepared: &Prepared,
    options: &Options,
    observer: &dyn Observer,
) -> Result<RebuildReport> {
    run::execute(pool, prepared, options, observer)
}

fn predict(pool: &Pool, model: &VolumeModel, lost: &[DiskId]) -> Result<Totals> {
    let evaluation = model.evaluate(lost);
    let mut totals = Totals::default();
    model.for_each_copy(pool, &evaluation, |file| {
        let member = pool.member_named(file.disks[0])?;
        if member.state.is_usable() || lost.contains(&member.row.id) {
            totals.add(file.fate, file.size_bytes);
        }
        Ok(())
    })?;
    Ok(totals)
}

fn open_target(pool: &Pool, request: &Request) -> Result<Target> {
    let member = pool.member_named(&request.name)?;
    let name = &request.name;
    if member.state.is_usable() && !matches!(member.state, State::OlderCopy { .. }) {
        let message = format!("disk {name} is present and well: there is nothing to rebuild");
        return Err(Error::new(Kind::Safety, "rebuild.present", message).remedy(
            "if it is failing, unmount it first: while it is mounted its own files are the best copy",
        ));
    }
    let new = NewDisk::open(pool, &request.onto, member.spec.as_ref(), Some(member.row.id))?;
    let resumed = resumed_successor(pool, member.row.id, &new)?;
    if resumed.is_none() {
        new.refuse_used()?;
    }
    let is_begun = resumed.is_some();
    let successor = resumed.unwrap_or_else(Uuid::new_v4);
    Ok(Target { row: member.row.clone(), successor, new, is_begun })
}

/// The disk that an interrupted rebuild had begun to make of this folder.
fn resumed_successor(pool: &Pool, lost: DiskId, new: &NewDisk) -> Result<Option<Uuid>> {
    let Some(label) = label::read(&*new.disk)? else { return Ok(None) };
    let is_it = |(_, intent): &(i64, Intent)| matches!(intent, Intent::Rebuild { disk, successor, .. } if *disk == lost && *successor == label.disk);
    if intents::all(pool.catalogue.reading())?.iter().any(is_it) {
        return Ok(Some(label.disk));
    }
    new.refuse_member().map(|()| None)
}

fn refuse_twins(targets: &[Target]) -> Result<()> {
    for (position, target) in targets.iter().enumerate() {
        let others = &targets[..position];
        if others.iter().any(|o| o.row.id == target.row.id || o.new.disk.root() == target.new.disk.root()) {
            let message = format!("{} or {} is named twice", target.row.name, target.new.at);
            return Err(Error::new(Kind::Usage, "rebuild.twice", message)
                .remedy("name each disk and each folder once"));
        }
    }
    Ok(())
}

/// Files of other users come back as those of whoever computes them, unless that is root: better than not, and it is said.
fn of_others(pool: &Pool, target: &Target) -> Result<Option<String>> {
    let owners = objects::by_owner(pool.catalogue.reading(), target.row.id)?;
    let others = owners.iter().filter(|(uid, _)| !target.new.disk.may_give_to(*uid));
    let files: u64 = others.map(|(_, count)| count.files).sum();
    Ok((files > 0).then(|| {
        let files = so_many(files, "file");
        format!("{files} of other users would come back as your own: run it as root to keep their owners")
    }))
}

fn target_plan(
    pool: &Pool,
    model: &VolumeModel,
    target: &Target,
    copies: &plan::Copies,
) -> Result<TargetPlan> {
    let spec = pool.spec.disk(&target.row.name);
    let (files, bytes) = match target.row.role {
        Role::Data | Role::Cache => {
            jobs::expected_size(pool, model, target.row.id, |object| copies.contains_key(&object))?
        }
        Role::Parity => (0, target.row.parity_bytes),
    };
    let filesystem = &target.new.filesystem;
    let usable = usable_bytes(spec, Some(filesystem)).unwrap_or_default();
    // What an earlier try wrote there is part of what is needed: it must not count as taken as well.
    let free = if target.is_begun { usable } else { usable.min(filesystem.available) };
    let mut doubts = target.new.doubts();
    doubts.extend(of_others(pool, target)?);
    Ok(TargetPlan {
        disk: target.row.name.clone(),
        role: target.row.role,
        onto: target.new.at.clone(),
        files,
        bytes,
        free,
        doubts,
    })
}
