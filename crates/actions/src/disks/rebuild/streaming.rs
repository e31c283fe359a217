//! The pass over the survivors that a rebuild makes: rows into files, and lost parities anew.

use std::collections::BTreeSet;

use sieve_core::amounts::Amounts;
use sieve_core::units::{CellIndex, DiskId};
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::damage;
use sieve_pool::member::Member;
use sieve_pool::pass::amounts_of_pass;
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::image::ParityImage;
use sieve_rows::stream::Completed;
use sieve_rows::stream::solve::{RowSink, Serves, Solving};
use sieve_rows::window::Snapshot;

use super::target::DataTarget;

/// What is rebuilt, and from what.
pub(super) struct Work<'a> {
    pub(super) pool: &'a Pool,
    pub(super) snapshot: &'a Snapshot,
    /// The parity images that are there.
    pub(super) images: &'a [ParityImage],
    pub(super) lost: &'a [DiskId],
    pub(super) data: &'a mut [DataTarget],
    /// The parity images that are written anew.
    pub(super) parity: &'a mut [ParityImage],
}

/// Passes the cells; damage that is met is noted, and told in words.
pub(super) fn run(
    work: Work<'_>,
    cells: &BTreeSet<CellIndex>,
    told: &mut Vec<String>,
    observer: &dyn Observer,
) -> Result<Completed> {
    let Work { pool, snapshot, images, lost, data, parity } = work;
    let cells: Vec<CellIndex> = cells.iter().copied().collect();
    let volume = snapshot.lanes.first().map(|lane| pool.member(lane.disk)).transpose()?;
    let volume = volume.map_or("", |member| &member.row.volume);
    let amounts = amounts(pool, volume, &cells, snapshot, lost);
    let mut meter = Meter::begin(pool, observer, &amounts, cells.len() as u64)?;
    let solving = Solving {
        places: pool,
        snapshot,
        read: images.iter().map(|image| (image, Serves::ToSolve)).collect(),
        lost,
        sinks: data.iter_mut().map(|target| target as &mut dyn RowSink).collect(),
        written: parity,
        memory: pool.restraint().memory,
    };
    let completed = solving.complete(&cells, &mut meter, &mut |met| damage::note(pool, met, told))?;
    if !completed.stopped {
        meter.learn()?;
    }
    Ok(completed)
}

/// Bytes that are read of each survivor.
pub(crate) fn amounts(
    pool: &Pool,
    volume: &str,
    cells: &[CellIndex],
    snapshot: &Snapshot,
    lost: &[DiskId],
) -> Amounts {
    let survives = |member: &Member| member.state.is_usable() && !lost.contains(&member.row.id);
    amounts_of_pass(pool, volume, snapshot, cells, survives)
}
