//! Making a pool: labels on its disks, a catalogue at home. One more volume for a pool that is there: `volume`.

pub mod volume;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use rusqlite::Transaction;
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::layout::OurPlace;
use sieve_core::pool::{DiskSpec, PoolSpec, VolumeSpec};
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, DiskId};
use uuid::Uuid;

use sieve_catalogue::disks;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::{Catalogue, Identity, volumes};
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, fitness};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::follow::put_all_replicas;
use sieve_pool::journal::{Did, Entry};
use sieve_pool::member::usable_bytes;
use sieve_pool::new_disk::refuse_unlabelled;
use sieve_pool::pool::{Hold, Pool, catalogue_path, home_folder};
use sieve_pool::scan;
use sieve_pool::writer::LongWriter;
use sieve_rows::image::ImageLimits;

/// What creating will do to one disk.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct DiskStep {
    /// The disk.
    #[serde(rename = "disk")]
    pub name: String,
    /// Where it is.
    pub path: String,
    /// Its volume.
    pub volume: String,
    /// What it becomes.
    pub role: Role,
    /// Its slot or parity index.
    pub slot: u8,
    /// Its serial number, from the pool file.
    pub serial: Option<String>,
    /// Where it sits, from the pool file.
    pub bay: Option<String>,
    /// What may be used of it.
    #[serde(rename = "usable_bytes")]
    pub usable: ByteLength,
    /// Files that are there and become part of the volume.
    pub kept_files: u64,
    /// Their bytes.
    pub kept_bytes: ByteLength,
}

/// What creating will do.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct CreatePlan {
    /// The pool's name.
    pub pool: String,
    /// Disk by disk.
    pub disks: Vec<DiskStep>,
    /// Disks on paper: they take no part.
    pub on_paper: Vec<String>,
    /// An interrupted creation goes on.
    pub resumes: bool,
    /// The pool is there; these volumes come to it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub adds: Vec<String>,
}

/// Looks at every disk and plans.
///
/// # Errors
/// When a disk is not there, has a label already, or the pool exists.
pub fn plan(machine: &dyn Machine, file: &Path, spec: &PoolSpec) -> Result<CreatePlan> {
    let begun = match standing(file)? {
        Standing::Nothing => None,
        Standing::Begun(pool) => Some(pool),
        Standing::Made => {
            let message =
                format!("this pool exists already: its catalogue is {}", catalogue_path(file).display());
            return Err(Error::new(Kind::Safety, "pool.exists", message).remedy("zinc-sieve status"));
        }
    };
    let plan = plan_volumes(machine, spec, spec.volumes.iter(), begun.as_ref())?;
    if plan.disks.is_empty() {
        return Err(Error::new(Kind::Usage, "pool.empty", "the pool file has no volume with disks"));
    }
    Ok(plan)
}

/// Looks at every disk of some volumes; `begun` is the pool of a creation that was interrupted.
fn plan_volumes<'a>(
    machine: &dyn Machine,
    spec: &PoolSpec,
    volumes: impl Iterator<Item = &'a VolumeSpec>,
    begun: Option<&Uuid>,
) -> Result<CreatePlan> {
    let mut plan = CreatePlan {
        pool: spec.name.clone(),
        disks: Vec::new(),
        on_paper: Vec::new(),
        resumes: begun.is_some(),
        adds: Vec::new(),
    };
    for volume in volumes {
        for (role, slot, name) in volume.roles() {
            let disk = spec.disk(name).ok_or_else(|| {
                Error::new(Kind::Usage, "disk.unknown", format!("there is no disk `{name}` in the pool file"))
            })?;
            if disk.path.is_none() {
                plan.on_paper.push(name.clone());
                continue;
            }
            plan.disks.push(step(machine, disk, (&volume.name, role, slot), begun)?);
        }
    }
    if !plan.on_paper.is_empty() {
        let message = format!("these disks have no path yet: {}", plan.on_paper.join(", "));
        return Err(Error::new(Kind::Usage, "disk.on-paper", message)
            .remedy("give them a path in the pool file, or take them out of the volume"));
    }
    Ok(plan)
}

/// What there is of a pool already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// Nothing.
    Nothing,
    /// A creation that was interrupted, and the id of its pool.
    Begun(Uuid),
    /// All of it.
    Made,
}

/// Looks for the pool of a file.
///
/// # Errors
/// When the catalogue cannot be read.
pub fn standing(file: &Path) -> Result<Standing> {
    let path = catalogue_path(file);
    if !path.exists() {
        return Ok(Standing::Nothing);
    }
    let machine = Arc::new(sieve_disk::machine::RealMachine { clock: sieve_disk::machine::Clock::Real });
    let catalogue = Catalogue::open_to_read(&path, machine)?;
    let is_pending =
        intents::all(catalogue.reading())?.into_iter().any(|(_, intent)| intent == Intent::Create);
    Ok(if is_pending { Standing::Begun(catalogue.identity()?.pool) } else { Standing::Made })
}

fn step(
    machine: &dyn Machine,
    spec: &DiskSpec,
    (volume, role, slot): (&str, Role, u8),
    begun: Option<&Uuid>,
) -> Result<DiskStep> {
    let (name, path) = (&spec.name, spec.path.as_deref().unwrap_or_default());
    let disk = machine.open_disk(Path::new(path)).map_err(|mut error| {
        error.message = format!("disk {name}: {}", error.message);
        error.kind = Kind::Usage;
        error.remedy("create the folder, or mount the disk there")
    })?;
    if let Some(label) = label::read(&*disk)? {
        if begun != Some(&label.pool) {
            return Err(taken(name, path, &label));
        }
    } else if begun.is_none() {
        refuse_unlabelled(&*disk, &format!("disk {name} ({path})"))?;
    }
    let filesystem = disk.filesystem()?;
    if filesystem.read_only {
        let message = format!("disk {name} ({path}) is mounted read-only");
        return Err(Error::new(Kind::Safety, "disk.read-only", message).remedy("remount it for writing"));
    }
    if !spec.simulated {
        fitness::refuse_nameless(&filesystem, path)?;
        fitness::refuse_unmounted(Some(spec), &filesystem, path)?;
    }
    let (kept_files, kept_bytes) =
        if role.holds_files() { scan::count(&*disk)? } else { (0, ByteLength::ZERO) };
    if role == Role::Parity {
        refuse_files_on_parity(&*disk, name, path)?;
    }
    Ok(DiskStep {
        name: name.clone(),
        path: path.into(),
        volume: volume.into(),
        role,
        slot,
        serial: spec.serial.clone(),
        bay: spec.bay.clone(),
        usable: usable_bytes(Some(spec), Some(&filesystem)).unwrap_or_default(),
        kept_files,
        kept_bytes,
    })
}

/// A parity disk holds nothing else: files on it would be neither guarded nor counted.
fn refuse_files_on_parity(disk: &dyn Disk, name: &str, path: &str) -> Result<()> {
    let names = disk.list(&sieve_core::path::RelPath::ROOT)?;
    let foreign = names.iter().find(|n| *n != b"lost+found" && *n != sieve_core::path::OUR_FOLDER);
    match foreign {
        None => Ok(()),
        Some(found) => {
            let message = format!(
                "disk {name} ({path}) is to hold parity and is not empty: there is `{}`",
                String::from_utf8_lossy(found).escape_debug()
            );
            Err(Error::new(Kind::Safety, "parity.not-empty", message)
                .remedy("move what is there elsewhere first"))
        }
    }
}

/// Makes the pool.
///
/// # Crash safety
/// The catalogue knows that a creation is under way before the first label is written; running it again goes
/// on where it stopped. Files on the disks are not touched.
///
/// # Errors
/// What a disk or the database says.
pub fn execute(
    machine: &Arc<dyn Machine>,
    file: &Path,
    spec: &PoolSpec,
    plan: &CreatePlan,
    observer: &dyn Observer,
) -> Result<(Pool, CreatePlan)> {
    let home = machine.open_disk(home_folder(file))?;
    let lock = LongWriter::begin(&*home, "create")?;
    let shown = plan;
    let plan = &plan_again(machine, file, spec, shown)?;
    for step in plan.disks.iter().filter(|_| !plan.resumes) {
        let disk = machine.open_disk(Path::new(&step.path))?;
        if let Err(error) = fitness::refuse_unfit(&*disk, &step.path) {
            // Nothing of ours stays on a disk that is no member.
            for step in &plan.disks {
                forget_empty_folder(&*machine.open_disk(Path::new(&step.path))?)?;
            }
            return Err(error);
        }
    }
    let catalogue = begin(machine, file, spec, plan)?;
    let identity = catalogue.identity()?;
    for row in disks::all(catalogue.reading())? {
        let Some(step) = plan.disks.iter().find(|s| s.name == row.name) else { continue };
        let disk = machine.open_disk(Path::new(&step.path))?;
        // The last look: what somebody mounted there since keeps its label.
        if let Some(label) = label::read(&*disk)?.filter(|label| label.pool != identity.pool) {
            return Err(taken(&step.name, &step.path, &label));
        }
        label::write(&*disk, &row.label(&identity, row.filesystem.clone()))?;
    }
    let pool = Pool::assemble(Arc::clone(machine), file, spec.clone(), home, catalogue)?;
    for member in pool.members.iter().filter(|m| m.row.role.holds_files()) {
        observer.event(Event::Stage { name: "scanning", total: 0, unit: Unit::Files });
        scan::scan(&pool, member)?;
    }
    pool.catalogue.transaction(|t| {
        sieve_pool::checkpoint::note_pool_file(t, &pool)?;
        sieve_pool::checkpoint::advance(t, &*pool.machine)?;
        intents::remove_where(t, |intent| *intent == Intent::Create)
    })?;
    put_all_replicas(&pool, &pool.members)?;
    pool.tell(Entry::new(Did::Create).detail(plan)?)?;
    let mut pool = pool;
    pool.hold = Hold::Long(lock);
    pool.refresh_rows()?;
    Ok((pool, plan.clone()))
}

fn forget_empty_folder(disk: &dyn Disk) -> Result<()> {
    match disk.stat(&OurPlace::Folder.path())? {
        Some(_) if disk.list(&OurPlace::Folder.path())?.is_empty() => {
            disk.remove_folder(&OurPlace::Folder.path())
        }
        _ => Ok(()),
    }
}

/// Under the lock everything is looked at again: what was agreed to is what is done, or nothing is (L2).
fn plan_again(
    machine: &Arc<dyn Machine>,
    file: &Path,
    spec: &PoolSpec,
    shown: &CreatePlan,
) -> Result<CreatePlan> {
    let now = plan(&**machine, file, spec)?;
    let what = |plan: &CreatePlan| -> Vec<_> {
        let step = |s: &DiskStep| (s.name.clone(), s.path.clone(), s.kept_files, s.kept_bytes, s.slot);
        plan.disks.iter().map(step).collect()
    };
    if what(&now) == what(shown) {
        return Ok(now);
    }
    let message = "something on these disks changed after the plan was shown; nothing was done";
    Err(Error::new(Kind::Safety, "create.changed", message).remedy("look at the plan again"))
}

fn taken(name: &str, path: &str, label: &label::Label) -> Error {
    let message = format!(
        "disk {name} ({path}) is a member already: disk {} of pool `{}`",
        label.disk_name, label.pool_name
    );
    Error::new(Kind::Safety, "label.member", message).remedy(format!(
        "use another disk, or dissolve that pool first; if it does without this disk: zinc-sieve wipe {path} --was \"{} of {}\"",
        label.disk_name, label.pool_name
    ))
}

/// Begins the catalogue, with the intent and every member in it; or takes the one that was begun.
fn begin(machine: &Arc<dyn Machine>, file: &Path, spec: &PoolSpec, plan: &CreatePlan) -> Result<Catalogue> {
    let path = catalogue_path(file);
    if path.exists() {
        return Catalogue::open(&path, Arc::clone(machine));
    }
    let identity = Identity { pool: Uuid::new_v4(), name: spec.name.clone() };
    let fresh = path.with_extension("begun");
    remove_begun(&fresh);
    let catalogue = Catalogue::create(&fresh, Arc::clone(machine), &identity)?;
    catalogue.transaction(|t| {
        intents::insert(t, &Intent::Create)?;
        insert_members(t, &**machine, spec, plan).map(|_| ())
    })?;
    drop(catalogue);
    let home = machine.open_disk(home_folder(file))?;
    durable::publish(&*home, &OurPlace::CatalogueBegun.path(), &OurPlace::Catalogue.path())?;
    Catalogue::open(&path, Arc::clone(machine))
}

/// Puts the volumes of a plan and their members into the catalogue; the rows of these, in the order of the plan.
fn insert_members(
    t: &Transaction<'_>,
    machine: &dyn Machine,
    spec: &PoolSpec,
    plan: &CreatePlan,
) -> Result<Vec<DiskRow>> {
    for volume in spec.volumes.iter().filter(|v| plan.disks.iter().any(|step| step.volume == v.name)) {
        let largest = plan.disks.iter().filter(|s| s.volume == volume.name).map(|s| s.usable).max();
        disks::insert_volume(t, &volume.name, CellGeometry::for_capacity(largest.unwrap_or_default()))?;
        volumes::identify(t, &volume.name, Uuid::new_v4(), volume.kind)?;
    }
    let (mut ends, mut rows) = (BTreeMap::<(&str, u8), u32>::new(), Vec::new());
    for step in &plan.disks {
        let simulated = spec.disk(&step.name).is_some_and(|d| d.simulated);
        let filesystem = machine.open_disk(Path::new(&step.path))?.filesystem()?;
        let mut row = row_of(step, (!simulated).then_some(filesystem.id));
        if step.role == Role::Parity {
            let end = ends.entry((&step.volume, step.slot)).or_default();
            row.first_cell = *end;
            *end += ImageLimits::for_bytes(step.usable, disks::geometry(t, &step.volume)?).cells();
        }
        row.volume_id = volumes::id(t, &step.volume)?;
        row.id = disks::insert(t, &row)?;
        rows.push(row);
    }
    Ok(rows)
}

fn row_of(step: &DiskStep, filesystem: Option<sieve_disk::FilesystemId>) -> DiskRow {
    DiskRow {
        id: DiskId::new(0),
        name: step.name.clone(),
        uuid: Uuid::new_v4(),
        filesystem,
        volume: step.volume.clone(),
        volume_id: None,
        role: step.role,
        slot: step.slot,
        scanned_at: None,
        replica: None,
        parity_bytes: ByteLength::ZERO,
        first_cell: 0,
    }
}

#[expect(clippy::disallowed_methods, reason = "a catalogue that was never given its name")]
fn remove_begun(path: &Path) {
    // There may be none.
    let _ = std::fs::remove_file(path);
}
