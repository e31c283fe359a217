//! The switch from the old parity to the new: one commit of the catalogue.

use sieve_core::lane::Rows;
use sieve_core::units::CellIndex;

use super::recorded::Recorded;
use super::volume::{VolumeSync, joined_rows};
use sieve_catalogue::label::Role;
use sieve_catalogue::parity_state;
use sieve_disk::Result;
use sieve_pool::checkpoint::{next, note_written};
use sieve_pool::follow::put_all_replicas;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;

/// Makes the given cells of the target the snapshot.
///
/// # Crash safety
/// First the parity cells and their tables are durable, then the catalogue commits the new map and the
/// expectations: that commit is the switch. Replicas on the parity disks follow, and only then may slots of
/// the old cells be used again. A crash at any moment leaves the state of this checkpoint or of the last one.
pub(super) fn take(
    pool: &Pool,
    volume: &str,
    sync: &mut VolumeSync,
    images: &mut [ParityImage],
    cells: &[CellIndex],
    contents: &mut Recorded,
) -> Result<()> {
    if cells.is_empty() {
        if !contents.is_empty() {
            pool.catalogue.transaction(|t| contents.record(t, sync))?;
        }
        return Ok(());
    }
    let checkpoint = next(pool.catalogue.reading(), &*pool.machine)?;
    for image in images.iter_mut() {
        image.prepare(checkpoint.id)?;
    }
    let stretches = joined_rows(sync.snapshot.geometry, cells);
    let mut expected = sync.snapshot.expected.clone();
    for cell in cells {
        expected.insert(Rows::at(u64::from(cell.get()), 1), checkpoint.id);
    }
    pool.catalogue.transaction(|t| {
        contents.record(t, sync)?;
        parity_state::insert_checkpoint(t, &checkpoint)?;
        for (lane, target) in sync.snapshot.lanes.iter().zip(&sync.target) {
            for rows in &stretches {
                parity_state::set_lane(t, lane.disk, *rows, target, |version| contents.number(version))?;
            }
        }
        parity_state::set_parity_cells(t, volume, &expected)?;
        for part in images.iter().flat_map(ParityImage::parts) {
            note_written(t, part)?;
            for cell in cells {
                parity_state::set_damaged_parity(t, part.member(), *cell, false)?;
            }
        }
        Ok(())
    })?;
    for (lane, target) in sync.snapshot.lanes.iter_mut().zip(&sync.target) {
        for rows in &stretches {
            lane.map.remove(*rows);
            target.overlapping(*rows).for_each(|i| lane.map.insert(i.rows, i.value));
        }
    }
    sync.snapshot.expected = expected;
    images.iter_mut().for_each(ParityImage::committed);
    if !images.is_empty() {
        put_all_replicas(pool, pool.members_of(volume, Role::Parity))?;
    }
    images.iter_mut().for_each(ParityImage::release);
    Ok(())
}
