//! A data disk leaves its volume: its files go to the others, a sync passes them there, and only then it goes. Guard never
//! falls: what parity has of a file stays on the old disk until parity has it on the new one.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_catalogue::label::Role;
use sieve_catalogue::{contents, held_files};
use sieve_core::count::so_many;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::DiskId;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::pool::Pool;

use super::vacate;
use super::vacate::{VacatePlan, VacateReport};
use crate::files::shift;
use crate::files::shift::{ShiftPlan, ShiftReport};
use crate::guard::sync;
use crate::guard::sync::SyncReport;

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct EmptyPlan {
    /// The disks that leave.
    pub disks: Vec<String>,
    /// What goes where.
    pub shift: ShiftPlan,
    /// A sync follows, since parity has what lies there.
    pub syncs: bool,
}

/// What was done.
#[derive(Debug, Serialize, JsonSchema)]
pub struct EmptyReport {
    /// What moved.
    pub shift: ShiftReport,
    /// The sync that passed it, where it came to that.
    pub sync: Option<SyncReport>,
    /// Whether the disks left.
    #[serde(flatten)]
    pub departure: Departure,
}

/// Whether disks left their volume.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Departure {
    /// They did.
    Left(VacateReport),
    /// They stay for now, and why.
    Stay(String),
}

/// Whether these are data disks, which have to be emptied before they leave.
///
/// # Errors
/// When some are and others are not, or there is none of a name.
pub fn is_meant(pool: &Pool, names: &[String]) -> Result<bool> {
    let mut data = 0;
    for name in names {
        data += usize::from(pool.member_named(name)?.row.role == Role::Data);
    }
    match data {
        0 => Ok(false),
        all if all == names.len() => Ok(true),
        _ => Err(Error::new(
            Kind::Usage,
            "vacate.mixed",
            "data disks leave in another way than parity disks and caches",
        )
        .remedy("let the data disks leave first, then the others")),
    }
}

/// Looks at where everything would go.
///
/// # Errors
/// When the disks are of different volumes, no data disk would be left, or one of the volume is missing.
pub fn plan(pool: &Pool, names: &[String], observer: &dyn Observer) -> Result<EmptyPlan> {
    let (volume, ids) = volume_of(pool, names)?;
    if pool.members_of(&volume.name, Role::Data).all(|member| ids.contains(&member.row.id)) {
        let message = format!("no data disk of {} would be left", volume.name);
        return Err(Error::new(Kind::Usage, "vacate.last", message)
            .remedy(format!("zinc-sieve dissolve {} ends a volume", volume.name)));
    }
    let stay = pool.members_of(&volume.name, Role::Data).count().saturating_sub(ids.len());
    if volume.kind == VolumeKind::Mirrored && stay < volume.copies {
        let (name, copies) = (&volume.name, volume.copies);
        let message =
            format!("every file of {name} lies on {copies} disks, and {stay} data disks would be left");
        return Err(Error::new(Kind::Usage, "vacate.copies", message).remedy(
            "let another disk join first (zinc-sieve grow), or put another in its place (zinc-sieve replace)",
        ));
    }
    Ok(EmptyPlan {
        disks: names.to_vec(),
        shift: shift::off(pool, &volume, &ids, observer)?,
        syncs: pool.members_of(&volume.name, Role::Parity).next().is_some(),
    })
}

fn volume_of(pool: &Pool, names: &[String]) -> Result<(VolumeSpec, Vec<DiskId>)> {
    let members = names.iter().map(|name| pool.member_named(name)).collect::<Result<Vec<_>>>()?;
    let volume = members.first().map(|member| member.row.volume.clone()).unwrap_or_default();
    if members.iter().any(|member| member.row.volume != volume) {
        return Err(Error::new(Kind::Usage, "vacate.volumes", "these disks are of different volumes")
            .remedy("one volume at a time"));
    }
    Ok((pool.volume(Some(&volume))?, members.iter().map(|member| member.row.id).collect()))
}

/// Empties them, syncs, and lets them leave. What stops it in between leaves a volume in which everything is whole and guarded
/// as before; running it again goes on.
///
/// # Crash safety
/// That of a settle, a sync and a vacate, one after the other.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, plan: &EmptyPlan, observer: &dyn Observer) -> Result<EmptyReport> {
    pool.expect_long()?;
    let (volume, ids) = volume_of(pool, &plan.disks)?;
    let shift = shift::execute(pool, &volume, &plan.shift, &ids, observer)?;
    let stays = |shift, sync, why: String| Ok(EmptyReport { shift, sync, departure: Departure::Stay(why) });
    if shift.moved.stopped {
        return stays(shift, None, "it was asked to stop: run it again to go on".into());
    }
    if !shift.moved.left_alone.is_empty() {
        let why = format!(
            "{} stayed in place: see to it, then run this again",
            so_many(shift.moved.left_alone.len() as u64, "file")
        );
        return stays(shift, None, why);
    }
    let options = sync::Options::default();
    let planned = sync::plan(pool, &options, observer)?;
    let synced = sync::execute(pool, &planned, &options, observer)?;
    if !synced.is_clean() {
        return stays(
            shift,
            Some(synced),
            "the sync did not pass everything: see to that, then run it again".into(),
        );
    }
    if let Some(why) = why_not_empty(pool, &ids)? {
        return stays(shift, Some(synced), why);
    }
    let leave = VacatePlan {
        volume: volume.name,
        disks: plan.disks.clone(),
        freed: sieve_core::units::ByteLength::ZERO,
        missing: Vec::new(),
        guards: Vec::new(),
    };
    let left = vacate::execute(pool, &leave)?;
    Ok(EmptyReport { shift, sync: Some(synced), departure: Departure::Left(left) })
}

/// Why a disk cannot leave: something came to it meanwhile, or parity still has something of it. Its lane has to be zeros, so
/// that without it every row is what it was.
fn why_not_empty(pool: &Pool, ids: &[DiskId]) -> Result<Option<String>> {
    for id in ids {
        let (name, reading) = (&pool.member(*id)?.row.name, pool.catalogue.reading());
        let (files, held) = (contents::names_on(reading, *id)?, held_files::all(reading, *id)?.len() as u64);
        if files > held {
            return Ok(Some(format!("{name} has {} again: run it again", so_many(files - held, "file"))));
        }
        if held > 0 {
            let are = if held == 1 { "is" } else { "are" };
            let why =
                format!("{} {are} held on {name} until a later sync: run it again", so_many(held, "file"));
            return Ok(Some(why));
        }
        if contents::granules_in_lane(reading, *id)? > 0 {
            return Ok(Some(format!("parity still has something of {name}: sync, then run it again")));
        }
    }
    Ok(None)
}
