//! Disks at rest: nothing happened on them since their lane was found to be what it is to be, and a sync need not go through them.

use sieve_catalogue::label::Role;
use sieve_catalogue::rest;
use sieve_catalogue::{disks, parity_state, unfinished};
use sieve_core::pool::VolumeSpec;
use sieve_core::units::Slot;
use sieve_disk::Result;
use sieve_pool::images::image_cells;
use sieve_pool::pool::Pool;
use sieve_rows::window::SnapshotLane;

use super::gather::{Unread, plan_one};
use super::report::Options;

/// Where assertions are on, every sync proves that what it passes over has nothing for it.
pub(super) fn prove(pool: &Pool, lane: &SnapshotLane, limit: u64) -> Result<()> {
    if cfg!(debug_assertions) {
        let reading = pool.catalogue.reading();
        // One state of the catalogue for all of it: another command may put something there at any moment, which is for the
        // next sync, and then the disk is not said to be at rest any more.
        let _view = reading.is_autocommit().then(|| reading.unchecked_transaction()).transpose()?;
        if rest::stirred(reading, lane.disk)?.is_some() {
            return Ok(());
        }
        let whole = SnapshotLane { map: parity_state::lane(reading, lane.disk)?, ..*lane };
        let unfinished = unfinished::all(reading)?;
        let (gathered, target) = plan_one(pool, &whole, 0, Unread::None, &unfinished, limit)?;
        let name = &pool.member(lane.disk)?.row.name;
        assert!(gathered.is_at_rest(&whole, &target), "{name} is said to be at rest");
    }
    Ok(())
}

/// Notes which disks are at rest now, so that the next sync need not go through what is on them.
///
/// # Errors
/// What a disk or the database says.
pub(super) fn note(pool: &Pool, volume: &VolumeSpec, options: &Options) -> Result<()> {
    let reading = pool.catalogue.reading();
    let geometry = disks::geometry(reading, &volume.name)?;
    let limit = u64::from(image_cells(pool, &volume.name)?) * geometry.cell_rows();
    let unfinished = unfinished::all(reading)?;
    let mut at_rest = Vec::new();
    for member in pool.members_of(&volume.name, Role::Data).filter(|m| options.includes(&m.row.name)) {
        let (disk, slot) = (member.row.id, Slot::new(member.row.slot));
        let Some(when) = rest::stirred(reading, disk)? else { continue };
        let lane = SnapshotLane { disk, slot, map: parity_state::lane(reading, disk)? };
        let (gathered, target) = plan_one(pool, &lane, 0, Unread::None, &unfinished, limit)?;
        at_rest.extend(gathered.is_at_rest(&lane, &target).then_some((disk, when)));
    }
    if at_rest.is_empty() {
        return Ok(());
    }
    pool.catalogue.transaction(|t| at_rest.iter().try_for_each(|(disk, when)| rest::note(t, *disk, *when)))
}
