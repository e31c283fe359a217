//! What a sync would do, before it does it.

use std::collections::BTreeSet;

use sieve_catalogue::contents;
use sieve_catalogue::label::Role;
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::pool::VolumeSpec;
use sieve_core::sync::{Preference, Work, lane_change};
use sieve_core::units::{ByteLength, CellIndex, DiskId, VersionId};
use sieve_disk::Result;
use sieve_pool::images::{cells_by_disk, open_images};
use sieve_pool::pool::Pool;

use super::fill;
use super::gather::{Fresh, Unread};
use super::report::{Options, SyncPlan};
use super::volume::{VolumeSync, invalid_cells, joined_rows, load};

/// What the coming sync would make of a volume.
pub struct Coming {
    /// The lanes; contents not read yet have the negative number of their object.
    pub lanes: Vec<(DiskId, LaneMap)>,
    /// Contents that get parity, and are not read yet: the negative numbers of their objects.
    pub unread: Vec<VersionId>,
    /// The rows whose parity is computed anew.
    pub dirty: Vec<Rows>,
}

/// Plans the coming sync of a volume, without doing it.
///
/// # Errors
/// What a disk or the database says.
pub fn coming_sync(pool: &Pool, volume: &str) -> Result<Coming> {
    let volumes = pool.volumes();
    let spec = volumes.iter().find(|v| v.name == volume).ok_or_else(|| {
        sieve_disk::Error::new(
            sieve_disk::Kind::Internal,
            "volume.unknown",
            format!("there is no volume `{volume}`"),
        )
    })?;
    let images = open_images(pool, volume, &[])?;
    let sync = load(pool, spec, None, Unread::All, &Options::default())?;
    let also = invalid_cells(pool, &sync.snapshot, &images)?;
    let work = sync.work(pool, &also, Preference::default());
    let cells: Vec<CellIndex> = work.windows.iter().map(|w| w.cell).collect();
    let dirty = joined_rows(sync.snapshot.geometry, &cells);
    let lanes = sync.snapshot.lanes.iter().map(|l| l.disk).zip(sync.target).collect();
    let no_room: BTreeSet<VersionId> = sync.no_room.into_iter().collect();
    let is_taken = |version: &VersionId| version.get() < 0 && !no_room.contains(version);
    let mut unread: Vec<VersionId> = sync.fresh.into_keys().filter(is_taken).collect();
    unread.sort_unstable();
    Ok(Coming { lanes, unread, dirty })
}

/// Adds the work for a volume to a plan.
pub(super) fn estimate(
    pool: &Pool,
    volume: &VolumeSpec,
    options: &Options,
    plan: &mut SyncPlan,
) -> Result<()> {
    let images = open_images(pool, &volume.name, &[])?;
    let sync = load(pool, volume, Some(&images), Unread::Likely, options)?;
    let also = invalid_cells(pool, &sync.snapshot, &images)?;
    let work = sync.work(pool, &also, options.preference());
    let changed = sync.changed_cells();
    plan.cells += work.windows.len() as u64;
    plan.cells_by_delta += work.parity_reads;
    plan.no_room.extend(no_room(pool, &sync)?);
    let name = |disk: DiskId| pool.member(disk).map(|m| m.row.name.clone());
    let to_read = read_of_lanes(pool, &volume.name, &sync, &work)?;
    for ((lane, target), bytes) in sync.snapshot.lanes.iter().zip(&sync.target).zip(to_read) {
        plan.changes.insert(name(lane.disk)?, lane_change(&lane.map, target));
        let mut read = bytes;
        if options.includes(&name(lane.disk)?) {
            let (files, bytes) = contents::unread(pool.catalogue.reading(), lane.disk)?;
            plan.files_to_checksum += files;
            read = read.plus(bytes);
        }
        plan.read_bytes.set(&name(lane.disk)?, read);
    }
    let cell_bytes = sync.snapshot.geometry.cell_bytes();
    for (member, count) in cells_by_disk(pool, &volume.name, &work.cells().1) {
        plan.read_bytes.set(&member.row.name, ByteLength::new(count * cell_bytes));
    }
    for image in &images {
        let invalid = fill::invalid(pool, &sync.snapshot, image)?;
        for part in image.parts() {
            // Where nothing else changes, only what is not valid is written.
            let here = |cell: &&CellIndex| part.covers(**cell);
            let anew = invalid.difference(&changed).filter(here).count();
            let cells = (changed.iter().filter(here).count() + anew) as u64;
            plan.written_bytes.set(&name(part.member())?, ByteLength::new(cells * cell_bytes));
        }
    }
    Ok(())
}

/// Bytes that are read of each data disk; where there is no parity to compute, only what has no checksum yet.
pub(super) fn read_of_lanes(
    pool: &Pool,
    volume: &str,
    sync: &VolumeSync,
    work: &Work,
) -> Result<Vec<ByteLength>> {
    if pool.members_of(volume, Role::Parity).next().is_some() {
        return Ok(work.lane_bytes.iter().map(|bytes| ByteLength::new(*bytes)).collect());
    }
    let mut fresh = vec![ByteLength::ZERO; sync.snapshot.lanes.len()];
    for content in sync.fresh.values() {
        fresh[content.lane] = fresh[content.lane].plus(content.stamp.size);
    }
    Ok(fresh)
}

/// The files that find no room below the end of the parity drives.
pub(super) fn no_room(pool: &Pool, sync: &VolumeSync) -> Result<Vec<String>> {
    let mut places = Vec::new();
    for version in &sync.no_room {
        match sync.fresh.get(version) {
            Some(fresh) => places.push(place_of(pool, sync, fresh)?),
            None => places.extend(super::places::places(pool, &[*version])?),
        }
    }
    Ok(places)
}

pub(super) fn place_of(pool: &Pool, sync: &VolumeSync, fresh: &Fresh) -> Result<String> {
    let disk = pool.member(sync.snapshot.lanes[fresh.lane].disk)?.usable()?;
    Ok(sieve_disk::full_path(&**disk, &fresh.path).display().to_string())
}
