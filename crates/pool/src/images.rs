//! The snapshot of a volume and its parity images, as the catalogue and the disks have them.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use sieve_core::lane::LaneMap;
use sieve_core::pool::DiskSpec;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CellIndex, DiskId, ParityIndex, Slot};

use crate::member::{Member, usable_bytes};
use crate::pool::Pool;
use sieve_catalogue::disks;
use sieve_catalogue::disks::DiskRow;
use sieve_catalogue::label::Role;
use sieve_catalogue::parity_state;
use sieve_disk::Result;
use sieve_disk::{Disk, Filesystem};
use sieve_rows::image::{ImageLimits, ParityImage, Part, PartPlace};
use sieve_rows::recall::Recall;
use sieve_rows::window::{Snapshot, SnapshotLane};

/// The snapshot of a volume, as the catalogue has it.
pub fn load_snapshot(pool: &Pool, volume: &str) -> Result<Snapshot> {
    load_snapshot_with(pool, volume, |disk| parity_state::lane(pool.catalogue.reading(), disk))
}

/// The snapshot of a volume with as much of its lanes as `lane_of` has.
///
/// # Errors
/// What the database says.
pub fn load_snapshot_with(
    pool: &Pool,
    volume: &str,
    lane_of: impl Fn(DiskId) -> Result<LaneMap>,
) -> Result<Snapshot> {
    let reading = pool.catalogue.reading();
    let mut lanes = Vec::new();
    for member in pool.members_of(volume, Role::Data) {
        let (disk, slot) = (member.row.id, Slot::new(member.row.slot));
        lanes.push(SnapshotLane { disk, slot, map: lane_of(disk)? });
    }
    let expected = parity_state::parity_cells(reading, volume)?;
    let geometry = disks::geometry(reading, volume)?;
    Ok(Snapshot { lanes, expected, geometry, kernel: pool.machine.kernel() })
}

/// Opens the parity images of a volume on all disks that are there, but those named.
pub fn open_images(pool: &Pool, volume: &str, without: &[DiskId]) -> Result<Vec<ParityImage>> {
    let geometry = disks::geometry(pool.catalogue.reading(), volume)?;
    let mut parts: BTreeMap<ParityIndex, Vec<Part>> = BTreeMap::new();
    for member in pool.members_of(volume, Role::Parity).filter(|m| !without.contains(&m.row.id)) {
        let Ok(disk) = member.usable() else { continue };
        let part = open_part(pool, &member.row, disk, limits(member, geometry), geometry)?;
        parts.entry(ParityIndex::new(member.row.slot)).or_default().push(part);
    }
    Ok(parts.into_iter().map(|(index, parts)| ParityImage::new(index, parts)).collect())
}

/// What brings contents back from these images and the disks that are there, but those named.
pub fn recall<'a>(
    pool: &'a Pool,
    snapshot: &'a Snapshot,
    images: &'a [ParityImage],
    without: &'a [DiskId],
) -> Recall<'a> {
    Recall { places: pool, snapshot, images, without, memory: pool.restraint().memory }
}

/// The cells of a parity image that belong on the disk of a member.
pub fn cells_on(pool: &Pool, row: &DiskRow) -> Range<u32> {
    let mut after = pool
        .members_of(&row.volume, Role::Parity)
        .filter(|m| m.row.slot == row.slot && m.row.first_cell > row.first_cell);
    row.first_cell..after.next().map_or(u32::MAX, |m| m.row.first_cell)
}

/// How many of these cells lie on each parity disk of a volume: of an image that goes on over several disks each has its
/// share.
pub fn cells_by_disk<'a>(
    pool: &'a Pool,
    volume: &'a str,
    cells: &[CellIndex],
) -> impl Iterator<Item = (&'a Member, u64)> {
    let counts: Vec<(&Member, u64)> = pool
        .members_of(volume, Role::Parity)
        .map(|member| {
            let here = cells_on(pool, &member.row);
            (member, cells.iter().filter(|cell| here.contains(&cell.get())).count() as u64)
        })
        .collect();
    counts.into_iter()
}

/// Opens what of a parity image belongs on the disk of a member.
pub fn open_part(
    pool: &Pool,
    row: &DiskRow,
    disk: &Arc<dyn Disk>,
    limits: ImageLimits,
    geometry: CellGeometry,
) -> Result<Part> {
    let place = PartPlace { member: row.id, cells: cells_on(pool, row), limits };
    let identity = (pool.identity.pool, ParityIndex::new(row.slot), geometry);
    Part::open(Arc::clone(disk), place, identity, |id| parity_state::knows(pool.catalogue.reading(), id))
}

/// How large the image on a parity disk may become: its capacity, or what it has and what is free.
fn limits(member: &Member, geometry: CellGeometry) -> ImageLimits {
    image_limits(member.spec.as_ref(), member.filesystem.as_ref(), member.row.parity_bytes, geometry)
}

/// How large an image may become on a disk where `has` bytes of it are already.
pub fn image_limits(
    spec: Option<&DiskSpec>,
    filesystem: Option<&Filesystem>,
    has: ByteLength,
    geometry: CellGeometry,
) -> ImageLimits {
    let open = filesystem.map(|f| f.available.plus(has));
    let usable = [open, usable_bytes(spec, filesystem)].into_iter().flatten().min().unwrap_or_default();
    ImageLimits::for_bytes(usable, geometry)
}

/// How many cells all parity images of a volume can hold.
pub fn image_cells(pool: &Pool, volume: &str) -> Result<u32> {
    let geometry = disks::geometry(pool.catalogue.reading(), volume)?;
    let mut ends: BTreeMap<u8, u32> = BTreeMap::new();
    for member in pool.members_of(volume, Role::Parity) {
        // An image that goes on elsewhere ends with its last part.
        let end = member.row.first_cell.saturating_add(limits(member, geometry).cells());
        ends.insert(member.row.slot, end);
    }
    Ok(ends.into_values().min().unwrap_or(u32::MAX))
}
