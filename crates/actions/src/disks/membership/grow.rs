//! One more disk for a volume: files that are on it stay and become part of it; parity is computed onto it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::units::{ByteLength, DiskId, GRANULE};
use uuid::Uuid;

use crate::guard::sync::fill;
use sieve_catalogue::disks;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::volumes;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::member::usable_bytes;
use sieve_pool::new_disk::NewDisk;
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_rows::image::ImageLimits;

/// The disk that is to come.
#[derive(Clone, Debug)]
pub struct GrowRequest {
    /// Its name.
    pub name: String,
    /// The volume; not needed where there is one only.
    pub volume: Option<String>,
    /// What it is to do there.
    pub role: Role,
    /// Where it is; not needed where the pool file says so.
    pub at: Option<PathBuf>,
}

/// What will be done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct GrowPlan {
    /// The volume.
    pub volume: String,
    /// The disk.
    pub disk: String,
    /// What it becomes.
    pub role: Role,
    /// Its slot or parity index.
    pub slot: u8,
    /// Where it is.
    #[serde(rename = "path")]
    pub at: String,
    /// What may be used of it.
    #[serde(rename = "usable_bytes")]
    pub usable: ByteLength,
    /// Files that are there and become part of the volume.
    pub kept_files: u64,
    /// Their bytes.
    pub kept_bytes: ByteLength,
    /// Bytes to read at most, by disk.
    pub read_bytes: Amounts,
    /// Bytes to write, by disk.
    pub written_bytes: Amounts,
    /// How long that takes.
    pub forecast: Forecast,
    /// Something to think about, in words.
    pub doubts: Vec<String>,
}

/// What was done.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct GrowReport {
    /// The volume.
    pub volume: String,
    /// The disk.
    pub disk: String,
    /// What it became.
    pub role: Role,
    /// Files on it that are part of the volume now.
    pub files: u64,
    /// Cells of parity that were computed onto it.
    pub parity_cells: u64,
    /// Cells of parity that are still to be computed: the next sync does it.
    pub parity_cells_left: u64,
    /// It was asked to stop before its end.
    pub stopped: bool,
}

/// A disk that can join.
pub struct PreparedGrow {
    /// What will be done.
    pub plan: GrowPlan,
    new: NewDisk,
    row: DiskRow,
    edits: Vec<Edit>,
}

/// Looks at the disk and plans.
///
/// # Errors
/// When it is not fit, or has no place in the volume.
pub fn plan(pool: &Pool, request: &GrowRequest) -> Result<PreparedGrow> {
    let volume = pool.volume(request.volume.as_deref())?;
    let name = &request.name;
    refuse_taken(pool, name, &volume.name)?;
    for member in pool.members.iter().filter(|m| m.row.volume == volume.name) {
        member.writable()?;
    }
    let spec = pool.spec.disk(name);
    let at = place_of(request, spec.and_then(|spec| spec.path.as_deref()))?;
    let new = NewDisk::open(pool, &at, spec, None)?;
    new.refuse_member()?;
    let usable = usable_bytes(spec, Some(&new.filesystem)).unwrap_or_default();
    let slot = free_slot(pool, &volume.name, request.role)?;
    let (kept_files, kept_bytes) = match request.role {
        Role::Data | Role::Cache => scan::count(&*new.disk)?,
        Role::Parity => (0, ByteLength::ZERO),
    };
    let mut plan = GrowPlan {
        volume: volume.name.clone(),
        disk: name.clone(),
        role: request.role,
        slot,
        at: new.at.clone(),
        usable,
        kept_files,
        kept_bytes,
        read_bytes: Amounts::new(),
        written_bytes: Amounts::new(),
        forecast: Forecast::default(),
        doubts: new.doubts(),
    };
    match request.role {
        Role::Data => refuse_larger_than_parity(pool, &plan)?,
        Role::Cache => {}
        Role::Parity => {
            new.refuse_used()?;
            plan_parity(pool, &mut plan)?;
        }
    }
    let row = row_of(pool, &plan, &new)?;
    let join = Edit::Join { volume: volume.name, role: request.role, disk: name.clone(), after: None };
    let edits = match spec {
        None => vec![Edit::Disk { name: name.clone(), path: new.at.clone() }, join],
        Some(_) => vec![Edit::Path { disk: name.clone(), path: new.at.clone() }, join],
    };
    pool_file::rehearse(&pool.file, &edits)?;
    Ok(PreparedGrow { plan, new, row, edits })
}

/// How the catalogue is to know the disk.
fn row_of(pool: &Pool, plan: &GrowPlan, new: &NewDisk) -> Result<DiskRow> {
    Ok(DiskRow {
        id: DiskId::new(0),
        name: plan.disk.clone(),
        uuid: Uuid::new_v4(),
        filesystem: new.bound(),
        volume: plan.volume.clone(),
        volume_id: volumes::id(pool.catalogue.reading(), &plan.volume)?,
        role: plan.role,
        slot: plan.slot,
        first_cell: 0,
        scanned_at: None,
        replica: None,
        parity_bytes: ByteLength::ZERO,
    })
}

fn refuse_taken(pool: &Pool, name: &str, volume: &str) -> Result<()> {
    if let Some(member) = pool.members.iter().find(|m| m.row.name == *name) {
        let message =
            format!("{name} is a member already: {} of volume {}", member.row.role.word(), member.row.volume);
        return Err(Error::new(Kind::Usage, "grow.member", message).remedy(
            "if its parity is not complete, zinc-sieve sync computes the rest; else name another disk",
        ));
    }
    match pool.spec.volume_of(name).filter(|other| other.name != volume) {
        None => Ok(()),
        Some(other) => {
            let message = format!("the pool file has {name} in volume {}", other.name);
            Err(Error::new(Kind::Usage, "grow.volume", message).remedy("name that volume, or another disk"))
        }
    }
}

fn place_of(request: &GrowRequest, written: Option<&str>) -> Result<PathBuf> {
    let name = &request.name;
    match (&request.at, written) {
        (Some(at), _) => Ok(at.clone()),
        (None, Some(path)) => Ok(Path::new(path).to_path_buf()),
        (None, None) => {
            let message = format!("where is {name}? The pool file gives no path for it");
            Err(Error::new(Kind::Usage, "grow.at", message)
                .remedy("add --at DIR, the folder that it is mounted at"))
        }
    }
}

/// The first slot that no member has.
fn free_slot(pool: &Pool, volume: &str, role: Role) -> Result<u8> {
    let most = role.slots();
    let taken: Vec<u8> = pool.members_of(volume, role).map(|m| m.row.slot).collect();
    let free = (0..most).filter_map(|slot| u8::try_from(slot).ok()).find(|slot| !taken.contains(slot));
    free.ok_or_else(|| {
        let message = format!("volume {volume} has {most} {} disks: there can be no more", role.word());
        Error::new(Kind::Usage, "grow.full", message)
    })
}

/// What lies beyond the end of a parity disk would not be guarded.
fn refuse_larger_than_parity(pool: &Pool, plan: &GrowPlan) -> Result<()> {
    let mut room: BTreeMap<u8, (Vec<&str>, ByteLength)> = BTreeMap::new();
    for member in pool.members_of(&plan.volume, Role::Parity) {
        let (names, bytes) = room.entry(member.row.slot).or_default();
        names.push(&member.row.name);
        *bytes = bytes.plus(member.usable_bytes().unwrap_or_default());
    }
    let Some((names, bytes)) = room.into_values().find(|(_, bytes)| *bytes < plan.usable) else {
        return Ok(());
    };
    let message = format!(
        "{} has {} and parity disk {} only {bytes}: what lies beyond could not be guarded",
        plan.disk,
        plan.usable,
        names.join(" with ")
    );
    Err(Error::new(Kind::Conflict, "grow.larger-than-parity", message).remedy(format!(
        "move the parity to a larger disk first (zinc-sieve replace), or limit {} with capacity = \"{} B\" in the pool file",
        plan.disk,
        bytes.exact()
    )))
}

fn plan_parity(pool: &Pool, plan: &mut GrowPlan) -> Result<()> {
    let snapshot = load_snapshot(pool, &plan.volume)?;
    let largest = pool
        .members_of(&plan.volume, Role::Data)
        .filter_map(|m| Some((m.usable_bytes()?, m.row.name.clone())))
        .max()
        .unwrap_or_default();
    let cells = snapshot.cells().last().map_or(0, |cell| cell.get() + 1);
    if plan.usable < largest.0 || ImageLimits::for_bytes(plan.usable, snapshot.geometry).cells() < cells {
        let message = format!(
            "{} has {}, and data disk {} has {}: a parity disk must be at least as large",
            plan.disk, plan.usable, largest.1, largest.0
        );
        return Err(Error::new(Kind::Conflict, "parity.too-small", message).remedy("use a larger disk"));
    }
    for lane in &snapshot.lanes {
        let rows: u64 = lane.map.iter().map(|piece| piece.rows.length()).sum();
        plan.read_bytes.set(&pool.member(lane.disk)?.row.name, ByteLength::new(rows * GRANULE));
    }
    let written = ByteLength::new(snapshot.cells().count() as u64 * snapshot.geometry.cell_bytes());
    plan.written_bytes.set(&plan.disk, written);
    plan.forecast = forecast_pass(pool, &plan.read_bytes)?;
    Ok(())
}

/// Lets the disk join.
///
/// # Crash safety
/// One commit makes it a member and notes what has to follow: its label and the pool file, which the next start
/// finishes. What it holds of parity counts cell by cell, when it is durable; until then nothing relies on it.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, prepared: PreparedGrow, observer: &dyn Observer) -> Result<GrowReport> {
    let PreparedGrow { plan, new, mut row, edits } = prepared;
    pool.expect_long()?;
    new.refuse_unfit()?;
    // What was mounted there since it was planned keeps its label (L2).
    new.refuse_member()?;
    row.id = pool.catalogue.transaction(|t| {
        let id = disks::insert(t, &row)?;
        let intent = Intent::Join { disk: id, at: plan.at.clone(), edits: edits.clone() };
        intents::insert(t, &intent)?;
        sieve_catalogue::mark_changed(t)?;
        Ok(id)
    })?;
    label::write(&*new.disk, &row.label(&pool.identity, row.filesystem.clone()))?;
    edit_pool_file(pool, &edits)?;
    // Before the intent goes: after it, nobody would know that the replicas still speak of another set of members.
    tell_all_members(pool)?;
    forget_intents(pool, |intent| matches!(intent, Intent::Join { disk, .. } if *disk == row.id))?;
    let mut report = GrowReport {
        volume: plan.volume.clone(),
        disk: plan.disk.clone(),
        role: plan.role,
        files: 0,
        parity_cells: 0,
        parity_cells_left: 0,
        stopped: false,
    };
    match plan.role {
        Role::Data | Role::Cache => {
            observer.event(Event::Stage { name: "scanning", total: 0, unit: Unit::Files });
            report.files = scan::scan(pool, pool.member(row.id)?)?.files;
        }
        Role::Parity => compute(pool, &row, observer, &mut report)?,
    }
    tell_all_members(pool)?;
    let ended = Ended::of(report.stopped, report.parity_cells_left == 0);
    pool.tell(Entry::new(Did::Grow).ended(ended).on([&report.disk]).detail(&report)?)?;
    Ok(report)
}

fn compute(pool: &Pool, row: &DiskRow, observer: &dyn Observer, report: &mut GrowReport) -> Result<()> {
    let snapshot = load_snapshot(pool, &row.volume)?;
    let mut images = open_images(pool, &row.volume, &[])?;
    let Some(image) = images.iter_mut().find(|image| image.part_on(row.id).is_some()) else { return Ok(()) };
    let cells: Vec<_> = fill::invalid(pool, &snapshot, image)?.into_iter().collect();
    let filled = fill::fill(pool, &snapshot, image, &cells, observer)?;
    report.parity_cells = filled.cells;
    report.parity_cells_left = cells.len() as u64 - filled.cells;
    report.stopped = filled.stopped;
    Ok(())
}
