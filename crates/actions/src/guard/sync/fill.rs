//! Cells of an image that are not valid though what they encode did not change: a new parity disk, or a damaged one.
//! The lanes are read, and that image alone is written.

use std::collections::BTreeSet;

use sieve_core::amounts::Amounts;
use sieve_core::code::Encoders;
use sieve_core::units::CellIndex;

use sieve_catalogue::label::Role;
use sieve_catalogue::parity_state;
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_pool::checkpoint::note_written;
use sieve_pool::member::Member;
use sieve_pool::pass::amounts_of_pass;
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::{ParityImage, Part};
use sieve_rows::stream::cells_in_a_batch;
use sieve_rows::stream::encode::ParityCoder;
use sieve_rows::stream::{Disks, SnapshotFeed, lane_disks, stream};
use sieve_rows::window::Snapshot;

/// How far it came.
#[derive(Debug, Default)]
pub(crate) struct Filled {
    /// Cells that were computed.
    pub(crate) cells: u64,
    /// Cells that need more care: something that they encode cannot be read as it was.
    pub(crate) left: bool,
    /// It was asked to stop; what was done is kept.
    pub(crate) stopped: bool,
}

/// The cells of an image that are not valid, on the disks that are there.
pub(crate) fn invalid(pool: &Pool, snapshot: &Snapshot, image: &ParityImage) -> Result<BTreeSet<CellIndex>> {
    let mut cells: BTreeSet<CellIndex> = image.missing(&snapshot.expected).into_iter().collect();
    for part in image.parts() {
        cells.extend(parity_state::damaged_parity(pool.catalogue.reading(), part.member())?);
    }
    Ok(cells)
}

/// Computes cells of one image anew.
///
/// # Crash safety
/// What is computed counts once its table is durable; nothing that is valid is touched.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn fill(
    pool: &Pool,
    snapshot: &Snapshot,
    image: &mut ParityImage,
    cells: &[CellIndex],
    observer: &dyn Observer,
) -> Result<Filled> {
    let at_hand = at_hand(pool, snapshot, cells);
    let lacks_a_disk = at_hand.len() < cells.len();
    let cells = &at_hand[..];
    let total = cells.len() as u64;
    observer.event(Event::Stage { name: "computing parity anew", total, unit: Unit::Cells });
    let mut meter = Meter::begin(pool, observer, &amounts(pool, snapshot, image, cells)?, total)?;
    let most = cells_in_a_batch(snapshot.geometry);
    let mut filled = Filled { left: lacks_a_disk, ..Filled::default() };
    let mut rest = cells;
    while !rest.is_empty() && !filled.stopped {
        let room = image.room();
        if room == 0 {
            return Err(super::parity_full(&names(pool, image)?));
        }
        let (batch, later) = rest.split_at(most.min(room).min(rest.len()));
        let done = fill_batch(pool, snapshot, image, batch, &mut meter)?;
        filled.cells += done.good;
        filled.left |= done.good < done.ordered as u64;
        filled.stopped = done.ordered < batch.len();
        rest = later;
    }
    if !filled.stopped {
        meter.learn()?;
    }
    Ok(filled)
}

/// The cells in which no disk takes part that is not there: the others wait for it.
fn at_hand(pool: &Pool, snapshot: &Snapshot, cells: &[CellIndex]) -> Vec<CellIndex> {
    let lanes = lane_disks(pool, snapshot, &[]);
    let absent: Vec<_> = snapshot
        .lanes
        .iter()
        .zip(&lanes)
        .filter(|(_, disk)| disk.disk.is_none())
        .map(|(lane, _)| lane)
        .collect();
    let takes_part = |cell: &CellIndex| {
        let rows = snapshot.geometry.rows(*cell);
        absent.iter().any(|lane| lane.map.overlapping(rows).next().is_some())
    };
    cells.iter().filter(|cell| !takes_part(cell)).copied().collect()
}

struct Batch {
    good: u64,
    ordered: usize,
}

fn fill_batch(
    pool: &Pool,
    snapshot: &Snapshot,
    image: &mut ParityImage,
    batch: &[CellIndex],
    meter: &mut Meter<'_>,
) -> Result<Batch> {
    let coder = ParityCoder {
        encoders: Encoders::new(snapshot.kernel, vec![image.index()]),
        slots: snapshot.lanes.iter().map(|lane| lane.slot).collect(),
    };
    let lanes = lane_disks(pool, snapshot, &[]);
    let disks = Disks::of(pool, snapshot, lanes, Vec::new(), std::slice::from_mut(image));
    let mut feed = SnapshotFeed::new(pool, snapshot);
    let mut ordered = 0;
    let outcome = stream(disks, pool.restraint().memory, coder, |feeder| {
        for cell in batch {
            if meter.is_stopped() {
                break;
            }
            feed.order(feeder, *cell, |_| true, false)?;
            ordered += 1;
            meter.advance();
        }
        Ok(())
    })?;
    outcome.failed.iter().for_each(|cell| image.discard(*cell));
    image.finish_copy(&snapshot.expected)?;
    let good: Vec<&CellIndex> = batch[..ordered].iter().filter(|c| !outcome.failed.contains(c)).collect();
    pool.catalogue.transaction(|t| {
        for part in image.parts() {
            note_written(t, part)?;
            let mut here = good.iter().filter(|cell| part.covers(***cell));
            here.try_for_each(|cell| parity_state::set_damaged_parity(t, part.member(), **cell, false))?;
        }
        Ok(())
    })?;
    image.release();
    Ok(Batch { good: good.len() as u64, ordered })
}

/// Bytes that are moved on each disk, at most.
fn amounts(pool: &Pool, snapshot: &Snapshot, image: &ParityImage, cells: &[CellIndex]) -> Result<Amounts> {
    let Some(lane) = snapshot.lanes.first() else { return Ok(Amounts::new()) };
    let volume = &pool.member(lane.disk)?.row.volume;
    let takes_part =
        |member: &Member| member.row.role == Role::Data || image.part_on(member.row.id).is_some();
    Ok(amounts_of_pass(pool, volume, snapshot, cells, takes_part))
}

fn names(pool: &Pool, image: &ParityImage) -> Result<String> {
    let name = |part: &Part| pool.member(part.member()).map(|member| member.row.name.clone());
    Ok(image.parts().iter().map(name).collect::<Result<Vec<_>>>()?.join(", "))
}
