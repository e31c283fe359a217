//! The usual way: all lanes and parities are streamed and compared; what is not as it should be is looked at with care.

use std::collections::BTreeMap;

use sieve_catalogue::label::Role;
use sieve_core::units::{ByteLength, CellIndex, GRANULE};
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::images::{cells_by_disk, open_images};
use sieve_pool::member::Member;
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
    let mut meter =
        Meter::begin(pool, observer, &amounts(pool, volume, cells, snapshot), cells.len() as u64)?;
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

/// Bytes that are read of each disk at most.
fn amounts(
    pool: &Pool,
    volume: &str,
    cells: &[CellIndex],
    snapshot: &Snapshot,
) -> BTreeMap<String, ByteLength> {
    let cell_bytes = snapshot.geometry.cell_bytes();
    let most = cells.len() as u64 * cell_bytes;
    let there = |member: &&Member| member.state.is_usable();
    let lane_end = |member: &Member| {
        let lane = snapshot.lanes.iter().find(|lane| lane.disk == member.row.id);
        lane.map_or(0, |lane| lane.map.end().saturating_mul(GRANULE))
    };
    let data = pool.members_of(volume, Role::Data).filter(there);
    let mut amounts: BTreeMap<String, ByteLength> =
        data.map(|member| (member.row.name.clone(), ByteLength::new(lane_end(member).min(most)))).collect();
    let parity = cells_by_disk(pool, volume, cells).filter(|(member, _)| there(member));
    amounts
        .extend(parity.map(|(member, count)| (member.row.name.clone(), ByteLength::new(count * cell_bytes))));
    amounts
}
