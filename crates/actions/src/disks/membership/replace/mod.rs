//! A parity image moves to another disk, or to two: it is copied as it is, not computed anew.

mod plan;
mod run;

use plan::Target;
pub use plan::{PreparedReplace, ReplacePlan, ReplaceReport, ReplaceRequest};
pub use run::execute;

use sieve_core::amounts::Amounts;
use sieve_core::forecast::Forecast;
use sieve_core::layout::OurPlace;
use sieve_core::units::{ByteLength, CellIndex, DiskId};
use uuid::Uuid;

use super::successor;
use crate::guard::sync::fill;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::label::Role;
use sieve_catalogue::pool_file;
use sieve_catalogue::pool_file::Edit;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::forecast_pass;
use sieve_pool::images::{cells_on, load_snapshot, open_images};
use sieve_pool::member::{Member, usable_bytes};
use sieve_pool::new_disk::NewDisk;
use sieve_pool::pool::Pool;
use sieve_rows::image::ImageLimits;
use sieve_rows::window::Snapshot;

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
    let described = successor::described(pool, member, &request.onto);
    let new = NewDisk::open(pool, &request.onto, described, None)?;
    let begun = begun(pool, old.id)?.filter(|begun| begun.onto == new.at);
    let capacity = request.capacity.or_else(|| described?.capacity);
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
    plan.forecast = forecast_pass(pool, &Amounts::from_iter([(old.name.clone(), plan.bytes)]))?;
    let edits = edits(pool, &old, &first.new, request, rest.as_ref());
    pool_file::rehearse(&pool.file, &edits)?;
    Ok(PreparedReplace { plan, old, first, rest, edits })
}

/// The row of a parity disk that is there.
fn movable(member: &Member) -> Result<DiskRow> {
    if member.row.role != Role::Parity {
        // Disks with files hand their place over in another way; whoever calls has asked.
        let message = format!("{} is a data disk of volume {}", member.row.name, member.row.volume);
        return Err(Error::new(Kind::Internal, "replace.data", message));
    }
    member.usable()?;
    Ok(member.row.clone())
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

fn edits(
    pool: &Pool,
    old: &DiskRow,
    new: &NewDisk,
    request: &ReplaceRequest,
    rest: Option<&Target>,
) -> Vec<Edit> {
    let mut edits = successor::edits(pool, &old.name, &new.at, request.capacity, &request.about);
    edits.extend(rest.map(|rest| Edit::Join {
        volume: old.volume.clone(),
        role: Role::Parity,
        disk: rest.row.name.clone(),
        after: Some(old.name.clone()),
    }));
    edits
}
