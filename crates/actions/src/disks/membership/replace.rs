//! A parity image moves to another disk, or to two: it is copied as it is, not computed anew.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::Serialize;
use sieve_core::forecast::Forecast;
use sieve_core::layout::OurPlace;
use sieve_core::units::{ByteLength, CellIndex, DiskId, ParityIndex};
use uuid::Uuid;

use crate::guard::sync::fill;
use sieve_catalogue::disks;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::parity_state;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::replica::Export;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::checkpoint::note_written_as;
use sieve_pool::curves::forecast_pass;
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::images::{cells_on, load_snapshot, open_images};
use sieve_pool::journal;
use sieve_pool::member::{Member, usable_bytes};
use sieve_pool::new_disk::NewDisk;
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::{ImageLimits, ParityImage, Part, PartPlace};
use sieve_rows::stream::cells_in_a_batch;
use sieve_rows::stream::{Buffer, CellTask, Coder, Disks, LaneStep, Output, parity_readers, stream};
use sieve_rows::window::Snapshot;

/// What is to move, and where.
#[derive(Clone, Debug)]
pub struct ReplaceRequest {
    /// The parity disk.
    pub name: String,
    /// The folder of the disk that takes its place.
    pub onto: PathBuf,
    /// What may be used of that, if another amount than the pool file says of the old one.
    pub capacity: Option<ByteLength>,
    /// The disk of the pool file that the image goes on on where that is full.
    pub rest: Option<String>,
}

/// What will be done.
#[derive(Clone, Debug, Serialize)]
pub struct ReplacePlan {
    /// The volume.
    pub volume: String,
    /// The parity disk.
    pub disk: String,
    /// Where it is now.
    pub from: String,
    /// Where it goes.
    pub onto: String,
    /// The disk that the image goes on on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rest: Option<String>,
    /// Cells of parity that are copied.
    pub cells: u64,
    /// Those that lie on the first disk.
    pub cells_on_first: u64,
    /// Cells that are not valid where they are: they are computed afterwards.
    pub invalid: u64,
    /// Bytes that are read and written.
    pub bytes: ByteLength,
    /// An interrupted move goes on.
    pub resumes: bool,
    /// How long that takes.
    pub forecast: Forecast,
    /// Something to think about, in words.
    pub doubts: Vec<String>,
}

/// What was done.
#[derive(Clone, Debug, Serialize)]
pub struct ReplaceReport {
    /// The volume.
    pub volume: String,
    /// The parity disk.
    pub disk: String,
    /// Where it is now.
    pub onto: String,
    /// The disk that the image goes on on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rest: Option<String>,
    /// Cells that were copied.
    pub copied: u64,
    /// Cells that were computed, because they were not valid where they were.
    pub computed: u64,
    /// Cells that are still to be computed: the next sync does it.
    pub left: u64,
    /// It was asked to stop before its end: nothing has changed yet.
    pub stopped: bool,
}

/// A disk that takes over cells of the image.
struct Target {
    row: DiskRow,
    new: NewDisk,
    usable: ByteLength,
    limits: ImageLimits,
}

/// A move that can be begun.
pub struct PreparedReplace {
    /// What it will do.
    pub plan: ReplacePlan,
    old: DiskRow,
    first: Target,
    rest: Option<Target>,
    edits: Vec<Edit>,
}

/// A move of this disk that was begun: who takes its place, and from which cell on the rest lies elsewhere.
struct Begun {
    successor: Uuid,
    onto: String,
    rest: Option<(Uuid, u32)>,
}

/// Looks at the disks and plans.
///
/// # Errors
/// When the disk is no parity disk or not there, or the new ones are not fit or too small.
pub fn plan(pool: &Pool, request: &ReplaceRequest) -> Result<PreparedReplace> {
    let member = pool.member_named(&request.name)?;
    let old = movable(member)?;
    let snapshot = load_snapshot(pool, &old.volume)?;
    let new = NewDisk::open(pool, &request.onto, member.spec.as_ref(), None)?;
    let begun = begun(pool, old.id)?.filter(|begun| begun.onto == new.at);
    let capacity = request.capacity.or_else(|| member.spec.as_ref()?.capacity);
    let usable = capacity.map_or(new.filesystem.total, |c| c.min(new.filesystem.total));
    let free = new.filesystem.available.plus(copied_bytes(&new)?);
    let limits = ImageLimits::for_bytes(usable.min(free), snapshot.geometry);
    let row = DiskRow {
        uuid: begun.as_ref().map_or_else(Uuid::new_v4, |b| b.successor),
        filesystem: new.bound(),
        replica: None,
        ..old.clone()
    };
    check_new(&new, &row)?;
    let end = old.first_cell.saturating_add(limits.cells());
    let rest_begun = begun.as_ref().and_then(|begun| begun.rest);
    let rest = match &request.rest {
        None => None,
        Some(name) => {
            Some(plan_rest(pool, name, &row, rest_begun.unwrap_or((Uuid::new_v4(), end)), &snapshot)?)
        }
    };
    let first = Target { row, new, usable, limits };
    refuse_too_small(pool, &first, rest.as_ref(), &snapshot)?;
    let border = rest.as_ref().map_or(u32::MAX, |rest| rest.row.first_cell);
    let here = cells_on(pool, &old);
    let cells: Vec<CellIndex> = snapshot.cells().filter(|cell| here.contains(&cell.get())).collect();
    let invalid = cells_to_compute(pool, &snapshot, &old)?;
    let mut plan = ReplacePlan {
        volume: old.volume.clone(),
        disk: old.name.clone(),
        from: member.usable()?.root().display().to_string(),
        onto: first.new.at.clone(),
        rest: rest.as_ref().map(|rest| format!("{} ({})", rest.row.name, rest.new.at)),
        cells: cells.len() as u64,
        cells_on_first: cells.iter().filter(|cell| cell.get() < border).count() as u64,
        invalid,
        bytes: ByteLength::new((cells.len() as u64 - invalid) * snapshot.geometry.cell_bytes()),
        resumes: begun.is_some(),
        forecast: Forecast::default(),
        doubts: first
            .new
            .doubts()
            .into_iter()
            .chain(rest.iter().flat_map(|rest| rest.new.doubts()))
            .collect(),
    };
    plan.forecast = forecast_pass(pool, &BTreeMap::from([(old.name.clone(), plan.bytes)]))?;
    let edits = edits(&old, &first.new, request.capacity, rest.as_ref());
    pool_file::rehearse(&pool.file, &edits)?;
    Ok(PreparedReplace { plan, old, first, rest, edits })
}

/// The row of a parity disk that is there.
fn movable(member: &Member) -> Result<DiskRow> {
    if member.row.role != Role::Parity {
        let message = format!("{} is a data disk of volume {}", member.row.name, member.row.volume);
        return Err(Error::new(Kind::Usage, "replace.data", message).remedy(
            "this version moves parity disks; unmount a data disk, and rebuild it onto the new one from the others",
        ));
    }
    member.usable()?;
    Ok(member.row.clone())
}

fn is_move_of(id: DiskId) -> impl Fn(&Intent) -> bool {
    move |intent| matches!(intent, Intent::Move { disk, .. } if *disk == id)
}

fn begun(pool: &Pool, id: DiskId) -> Result<Option<Begun>> {
    let found = intents::all(pool.catalogue.reading())?.into_iter().find_map(|(_, intent)| match intent {
        Intent::Move { disk, successor, onto, rest } if disk == id => Some(Begun { successor, onto, rest }),
        _ => None,
    });
    Ok(found)
}

/// What an interrupted move has on a disk already counts as free.
fn copied_bytes(new: &NewDisk) -> Result<ByteLength> {
    let folder = OurPlace::Parity.path();
    if new.disk.stat(&folder)?.is_none() {
        return Ok(ByteLength::ZERO);
    }
    let mut bytes = ByteLength::ZERO;
    for name in new.disk.list(&folder)? {
        if let Ok(path) = folder.join(&name) {
            bytes = bytes.plus(new.disk.stat(&path)?.map(|stat| stat.allocated).unwrap_or_default());
        }
    }
    Ok(bytes)
}

/// The disk has to be empty, unless it is the one that this move began to fill.
fn check_new(new: &NewDisk, row: &DiskRow) -> Result<()> {
    if label::read(&*new.disk)?.is_some_and(|label| label.disk == row.uuid) {
        return Ok(());
    }
    new.refuse_member()?;
    new.refuse_used()
}

fn plan_rest(
    pool: &Pool,
    name: &str,
    first: &DiskRow,
    (uuid, first_cell): (Uuid, u32),
    snapshot: &Snapshot,
) -> Result<Target> {
    let usage =
        |message: String, remedy: &str| Error::new(Kind::Usage, "replace.rest", message).remedy(remedy);
    if pool.members.iter().any(|m| m.row.name == name) || pool.spec.volume_of(name).is_some() {
        return Err(usage(format!("{name} is part of a volume already"), "name another disk"));
    }
    let spec = pool.spec.disk(name).and_then(|spec| Some((spec, spec.path.as_deref()?)));
    let Some((spec, path)) = spec else {
        return Err(usage(
            format!("the pool file has no disk `{name}` with a path"),
            "add it: [[disk]] with name and path",
        ));
    };
    let new = NewDisk::open(pool, std::path::Path::new(path), Some(spec), None)?;
    let row = DiskRow {
        id: DiskId::new(0),
        name: name.into(),
        uuid,
        filesystem: new.bound(),
        first_cell,
        parity_bytes: ByteLength::ZERO,
        ..first.clone()
    };
    check_new(&new, &row)?;
    let free = new.filesystem.available.plus(copied_bytes(&new)?);
    let usable = usable_bytes(Some(spec), Some(&new.filesystem)).unwrap_or_default().min(free);
    Ok(Target { row, new, usable, limits: ImageLimits::for_bytes(usable, snapshot.geometry) })
}

/// The image has to fit as it is, and as large as it may become.
fn refuse_too_small(pool: &Pool, first: &Target, rest: Option<&Target>, snapshot: &Snapshot) -> Result<()> {
    let here = cells_on(pool, &first.row);
    let last = snapshot.cells().map(CellIndex::get).filter(|cell| here.contains(cell)).last();
    let end = rest.unwrap_or(first);
    let end = end.row.first_cell.saturating_add(end.limits.cells());
    let beyond = u64::from(last.map_or(0, |last| (last + 1).saturating_sub(end)));
    let mut missing = ByteLength::new(beyond * snapshot.geometry.cell_bytes());
    if first.limits.cells() == 0 {
        missing = missing.max(ByteLength::new(snapshot.geometry.cell_bytes()));
    }
    if here == (0..u32::MAX) {
        let room = rest.map_or(first.usable, |rest| first.usable.plus(rest.usable));
        let largest = pool.members_of(&first.row.volume, Role::Data).filter_map(Member::usable_bytes).max();
        missing = missing.max(largest.unwrap_or_default().minus(room));
    }
    if missing == ByteLength::ZERO {
        return Ok(());
    }
    let with = rest.map_or(String::new(), |rest| format!(" with {}", rest.new.at));
    let message = format!(
        "{}{with} is too small for the parity on {}: {missing} missing",
        first.new.at, first.row.name
    );
    Err(Error::new(Kind::Conflict, "replace.too-small", message)
        .remedy("use a larger disk, or two (--rest NAME); --capacity says how much of it may be used"))
}

fn cells_to_compute(pool: &Pool, snapshot: &Snapshot, row: &DiskRow) -> Result<u64> {
    let images = open_images(pool, &row.volume, &[])?;
    let Some(image) = images.iter().find(|image| image.part_on(row.id).is_some()) else { return Ok(0) };
    let here = cells_on(pool, row);
    Ok(fill::invalid(pool, snapshot, image)?.iter().filter(|cell| here.contains(&cell.get())).count() as u64)
}

fn edits(old: &DiskRow, new: &NewDisk, capacity: Option<ByteLength>, rest: Option<&Target>) -> Vec<Edit> {
    let mut edits = vec![Edit::Path { disk: old.name.clone(), path: new.at.clone() }];
    edits.extend(capacity.map(|bytes| Edit::Capacity { disk: old.name.clone(), bytes: bytes.exact() }));
    edits.extend(rest.map(|rest| Edit::Join {
        volume: old.volume.clone(),
        role: Role::Parity,
        disk: rest.row.name.clone(),
        after: Some(old.name.clone()),
    }));
    edits
}

/// Copies the image and switches over.
///
/// # Crash safety
/// The old disk is only read, and stays the member until one commit lets the new ones take its place. Before it, running
/// this again goes on with what was copied; after it, the next start finishes what follows.
///
/// # Errors
/// When another long writer is at work, or what a disk or the database says.
pub fn execute(pool: &mut Pool, prepared: PreparedReplace, observer: &dyn Observer) -> Result<ReplaceReport> {
    let PreparedReplace { plan, old, first, mut rest, edits } = prepared;
    pool.expect_long()?;
    for target in std::iter::once(&first).chain(rest.as_ref()) {
        target.new.refuse_unfit()?;
    }
    begin(pool, &old, &first, rest.as_ref())?;
    let mut report = ReplaceReport {
        volume: plan.volume.clone(),
        disk: plan.disk.clone(),
        onto: plan.onto.clone(),
        rest: rest.as_ref().map(|rest| rest.row.name.clone()),
        copied: 0,
        computed: 0,
        left: 0,
        stopped: false,
    };
    let snapshot = load_snapshot(pool, &old.volume)?;
    let mut image = open_new(pool, &old, &first, rest.as_ref(), &snapshot)?;
    copy(pool, &old, &snapshot, &mut image, observer, &mut report)?;
    if report.stopped {
        return Ok(report);
    }
    // What lives in the catalogue alone loses no replica with the disk that leaves (L8).
    let export = Export::take(&pool.catalogue)?;
    for target in std::iter::once(&first).chain(rest.as_ref()) {
        export.put_on_disk(&*target.new.disk)?;
    }
    drop(export);
    commit(pool, &old, &first, rest.as_mut(), &image, &edits)?;
    drop(image);
    edit_pool_file(pool, &edits)?;
    forget_intents(pool, |intent| *intent == Intent::EditPoolFile { edits: edits.clone() })?;
    compute_rest(pool, &old, observer, &mut report)?;
    tell_all_members(pool)?;
    journal::append(&*pool.home, pool.machine.now(), "replace", &report)?;
    Ok(report)
}

/// Writes the intent down, then the labels.
fn begin(pool: &Pool, old: &DiskRow, first: &Target, rest: Option<&Target>) -> Result<()> {
    let intent = Intent::Move {
        disk: old.id,
        successor: first.row.uuid,
        onto: first.new.at.clone(),
        rest: rest.map(|rest| (rest.row.uuid, rest.row.first_cell)),
    };
    pool.catalogue.transaction(|t| {
        intents::remove_where(t, is_move_of(old.id))?;
        intents::insert(t, &intent)
    })?;
    for target in std::iter::once(first).chain(rest) {
        let label = target.row.label(&pool.identity, target.row.filesystem.clone());
        label::write(&*target.new.disk, &label)?;
    }
    Ok(())
}

/// The image on the new disks.
fn open_new(
    pool: &Pool,
    old: &DiskRow,
    first: &Target,
    rest: Option<&Target>,
    snapshot: &Snapshot,
) -> Result<ParityImage> {
    let index = ParityIndex::new(old.slot);
    let end = cells_on(pool, old).end;
    let border = rest.map_or(end, |rest| rest.row.first_cell);
    let open = |target: &Target, end: u32| {
        let place =
            PartPlace { member: target.row.id, cells: target.row.first_cell..end, limits: target.limits };
        let identity = (pool.identity.pool, index, snapshot.geometry);
        let knows = |id| parity_state::knows(pool.catalogue.reading(), id);
        Part::open(std::sync::Arc::clone(&target.new.disk), place, identity, knows)
    };
    let mut parts = vec![open(first, border)?];
    parts.extend(rest.map(|rest| open(rest, end)).transpose()?);
    Ok(ParityImage::new(index, parts))
}

/// Copies what is valid and not there yet, batch by batch.
fn copy(
    pool: &Pool,
    old: &DiskRow,
    snapshot: &Snapshot,
    image: &mut ParityImage,
    observer: &dyn Observer,
    report: &mut ReplaceReport,
) -> Result<()> {
    let sources = open_images(pool, &old.volume, &[])?;
    let Some(source) = sources.iter().find(|source| source.part_on(old.id).is_some()) else { return Ok(()) };
    let invalid = fill::invalid(pool, snapshot, source)?;
    let cells: Vec<CellIndex> =
        image.missing(&snapshot.expected).into_iter().filter(|cell| !invalid.contains(cell)).collect();
    let total = cells.len() as u64;
    observer.event(Event::Stage { name: "copying parity", total, unit: Unit::Cells });
    let bytes = ByteLength::new(total * snapshot.geometry.cell_bytes());
    let amounts = BTreeMap::from([(old.name.clone(), bytes)]);
    let mut meter = Meter::begin(pool, observer, &amounts, total)?;
    let most = cells_in_a_batch(snapshot.geometry);
    for batch in cells.chunks(most) {
        let readers = parity_readers(snapshot, [source], batch);
        let disks = Disks::of(pool, snapshot, Vec::new(), readers, std::slice::from_mut(image));
        let mut ordered = 0;
        let outcome = stream(disks, pool.restraint().memory, Copier, |feeder| {
            for cell in batch {
                if meter.is_stopped() {
                    break;
                }
                feeder.order(*cell, Vec::new(), true)?;
                ordered += 1;
                meter.advance();
            }
            Ok(())
        })?;
        outcome.failed.iter().for_each(|cell| image.discard(*cell));
        image.finish_copy(&snapshot.expected)?;
        report.copied += (ordered - outcome.failed.len()) as u64;
        if ordered < batch.len() {
            report.stopped = true;
            return Ok(());
        }
    }
    Ok(())
}

/// Hands on what was read.
struct Copier;

impl Coder for Copier {
    fn step(
        &mut self,
        task: &CellTask,
        step: usize,
        _lanes: Vec<LaneStep>,
        parities: Vec<Buffer>,
        output: &mut Output,
    ) -> Result<()> {
        output.write(task.cell, step, parities)
    }
}

/// The one switch.
fn commit(
    pool: &Pool,
    old: &DiskRow,
    first: &Target,
    rest: Option<&mut Target>,
    image: &ParityImage,
    edits: &[Edit],
) -> Result<()> {
    let now = pool.machine.now();
    pool.catalogue.transaction(|t| {
        disks::succeed(t, old, first.row.uuid, first.row.filesystem.as_ref(), now)?;
        parity_state::forget_image(t, old.id)?;
        let mut ids = vec![old.id];
        if let Some(rest) = rest {
            rest.row.id = disks::insert(t, &rest.row)?;
            ids.push(rest.row.id);
        }
        for (part, id) in image.parts().iter().zip(ids) {
            note_written_as(t, id, part)?;
        }
        intents::remove_where(t, is_move_of(old.id))?;
        intents::insert(t, &Intent::EditPoolFile { edits: edits.to_vec() })?;
        sieve_catalogue::mark_changed(t)
    })
}

/// What could not be copied is computed.
fn compute_rest(
    pool: &Pool,
    old: &DiskRow,
    observer: &dyn Observer,
    report: &mut ReplaceReport,
) -> Result<()> {
    let snapshot = load_snapshot(pool, &old.volume)?;
    let mut images = open_images(pool, &old.volume, &[])?;
    let Some(image) = images.iter_mut().find(|image| image.part_on(old.id).is_some()) else { return Ok(()) };
    let cells: Vec<CellIndex> = fill::invalid(pool, &snapshot, image)?.into_iter().collect();
    if !cells.is_empty() {
        let filled = fill::fill(pool, &snapshot, image, &cells, observer)?;
        report.computed = filled.cells;
        report.left = cells.len() as u64 - filled.cells;
        report.stopped = filled.stopped;
    }
    Ok(())
}
