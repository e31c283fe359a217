//! Copying an image, and the one switch.

use super::plan::{PreparedReplace, ReplaceReport, Target, is_move_of};
use crate::guard::sync::fill;
use sieve_catalogue::disks;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label;
use sieve_catalogue::parity_state;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::replica::Export;
use sieve_core::amounts::Amounts;
use sieve_core::units::{ByteLength, CellIndex, ParityIndex};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_pool::checkpoint::note_written_as;
use sieve_pool::follow::{edit_pool_file, forget_intents, tell_all_members};
use sieve_pool::images::{cells_on, load_snapshot, open_images};
use sieve_pool::journal::{Did, Entry};
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::{ParityImage, Part, PartPlace};
use sieve_rows::stream::cells_in_a_batch;
use sieve_rows::stream::{Buffer, CellTask, Coder, Disks, LaneStep, Output, parity_readers, stream};
use sieve_rows::window::Snapshot;

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
        was: pool.member(old.id)?.spec.clone(),
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
    // Before the intent goes: after it, nobody would know that the replicas still speak of another set of members.
    tell_all_members(pool)?;
    forget_intents(pool, |intent| *intent == Intent::EditPoolFile { edits: edits.clone() })?;
    compute_rest(pool, &old, observer, &mut report)?;
    tell_all_members(pool)?;
    pool.tell(Entry::new(Did::Replace).on([&report.disk]).detail(&report)?)?;
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
    let amounts = Amounts::from_iter([(old.name.clone(), bytes)]);
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
