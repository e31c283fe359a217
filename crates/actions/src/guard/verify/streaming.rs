//! The usual way: all lanes and parities are streamed and compared; what is not as it should be is looked at with care.

use sieve_core::units::CellIndex;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::images::open_images;
use sieve_pool::pass::amounts_of_pass;
use sieve_pool::pool::Pool;
use sieve_pool::progress::Meter;
use sieve_rows::stream::solve::{Serves, Solved, Solving};
use sieve_rows::window::Snapshot;

/// Compares cells of a snapshot with what the disks have.
pub(super) fn compare(
    pool: &Pool,
    volume: &str,
    snapshot: &Snapshot,
    cells: &[CellIndex],
    observer: &dyn Observer,
) -> Result<Solved> {
    let images = open_images(pool, volume, &[])?;
    let amounts = amounts_of_pass(pool, volume, snapshot, cells, |member| member.state.is_usable());
    let mut meter = Meter::begin(pool, observer, &amounts, cells.len() as u64)?;
    let mut solving = Solving {
        places: pool,
        snapshot,
        read: images.iter().map(|image| (image, Serves::Both)).collect(),
        lost: &[],
        sinks: Vec::new(),
        written: &mut [],
        memory: pool.restraint().memory,
    };
    let solved = solving.run(cells, &mut meter)?;
    if !meter.is_stopped() {
        meter.learn()?;
    }
    Ok(solved)
}
