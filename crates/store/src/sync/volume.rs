//! One volume before a sync: its lanes as they are and as they are to be, its parity images.

use std::collections::{BTreeSet, HashMap};

use sieve_core::fate::Standing;
use sieve_core::lane::{LaneMap, Rows, joined};
use sieve_core::pool::{DiskSpec, VolumeSpec};
use sieve_core::sync::{CellGeometry, Data, Wanted, WindowPlan, lane_change, plan_lane, plan_windows};
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, ParityIndex, Slot, VersionId};

use super::SyncPlan;
use crate::catalogue::objects::{path_of, standing_of};
use crate::catalogue::{disks, parity_state, unsigned, versions};
use crate::disk::Filesystem;
use crate::error::Result;
use crate::label::Role;
use crate::member::{Member, usable_bytes};
use crate::parity::{ImageLimits, ParityImage};
use crate::pool::Pool;
use crate::scan::is_held;
use crate::window::{Snapshot, SnapshotLane};

/// The cells of nearly every content.
const USUAL_CELL: u64 = sieve_core::checksum::SMALLEST_CELL / GRANULE;

/// What a volume's lanes are and what they are to be.
pub(super) struct VolumeSync {
    pub(super) snapshot: Snapshot,
    pub(super) target: Vec<LaneMap>,
    pub(super) no_room: Vec<VersionId>,
    /// Contents not read yet, under their provisional numbers.
    unread: Vec<VersionId>,
    /// Contents with larger cells than usual.
    large_cells: HashMap<VersionId, u64>,
}

impl VolumeSync {
    /// The work, cell by cell.
    pub(super) fn windows(&self, also: &BTreeSet<CellIndex>) -> Vec<WindowPlan> {
        let current: Vec<&LaneMap> = self.snapshot.lanes.iter().map(|l| &l.map).collect();
        let cell = |version| self.large_cells.get(&version).copied().unwrap_or(USUAL_CELL);
        plan_windows(&current, &self.target, also, self.snapshot.geometry, cell)
    }
}

/// The snapshot of a volume, as the catalogue has it.
pub(crate) fn load_snapshot(pool: &Pool, volume: &str) -> Result<Snapshot> {
    let reading = pool.catalogue.reading();
    let mut lanes = Vec::new();
    for member in pool.members_of(volume, Role::Data) {
        let map = parity_state::lane(reading, member.row.id)?;
        lanes.push(SnapshotLane { disk: member.row.id, slot: Slot::new(member.row.slot), map });
    }
    let expected = parity_state::parity_cells(reading, volume)?;
    let geometry = disks::geometry(reading, volume)?;
    Ok(Snapshot { lanes, expected, geometry, kernel: pool.machine.kernel() })
}

/// Opens the parity images of a volume on all disks that are there, but those named.
pub(crate) fn open_images(pool: &Pool, volume: &str, without: &[DiskId]) -> Result<Vec<ParityImage>> {
    let geometry = disks::geometry(pool.catalogue.reading(), volume)?;
    let mut images = Vec::new();
    for member in pool.members_of(volume, Role::Parity).filter(|m| !without.contains(&m.row.id)) {
        let Ok(disk) = member.usable() else { continue };
        images.push(ParityImage::open(
            std::sync::Arc::clone(disk),
            pool.identity.pool,
            ParityIndex::new(member.row.slot),
            geometry,
            limits(member, geometry),
            |id| parity_state::knows(pool.catalogue.reading(), id),
        )?);
    }
    Ok(images)
}

/// How large the image on a parity disk may become: its capacity, or what it has and what is free.
fn limits(member: &Member, geometry: CellGeometry) -> ImageLimits {
    image_limits(member.spec.as_ref(), member.filesystem.as_ref(), member.row.parity_bytes, geometry)
}

/// How large an image may become on a disk where `has` bytes of it are already.
pub(crate) fn image_limits(
    spec: Option<&DiskSpec>,
    filesystem: Option<&Filesystem>,
    has: ByteLength,
    geometry: CellGeometry,
) -> ImageLimits {
    let open = filesystem.map(|f| f.available.plus(has));
    let usable = [open, usable_bytes(spec, filesystem)].into_iter().flatten().min().unwrap_or_default();
    ImageLimits::for_bytes(usable, geometry)
}

/// Loads a volume with its target. Contents not read yet take part under provisional negative numbers when
/// `with_unread` is set.
pub(super) fn load(
    pool: &Pool,
    volume: &VolumeSpec,
    images: &[(u32, DiskId)],
    with_unread: bool,
) -> Result<VolumeSync> {
    let snapshot = load_snapshot(pool, &volume.name)?;
    let cells = images.iter().map(|(cells, _)| *cells).min().unwrap_or(u32::MAX);
    let limit = u64::from(cells) * snapshot.geometry.cell_rows();
    let mut sync = VolumeSync {
        snapshot,
        target: Vec::new(),
        no_room: Vec::new(),
        unread: Vec::new(),
        large_cells: HashMap::new(),
    };
    for lane in &sync.snapshot.lanes {
        let complete = complete_contents(pool, lane)?;
        let wanted = wanted(pool, lane.disk, with_unread, &complete, &mut sync.large_cells)?;
        sync.unread.extend(wanted.iter().map(|w| w.version).filter(|v| v.get() < 0));
        let target = plan_lane(&lane.map, &wanted, limit);
        sync.target.push(target.lane);
        sync.no_room.extend(target.no_room);
    }
    Ok(sync)
}

/// The contents of unsettled objects that are all in the snapshot.
fn complete_contents(pool: &Pool, lane: &SnapshotLane) -> Result<BTreeSet<VersionId>> {
    let mut statement = pool.catalogue.reading().prepare_cached(
        "SELECT v.id, v.data_granules FROM object o JOIN version v ON v.id IN (o.version, o.older)
         WHERE o.disk = ?1 AND o.standing <> 0",
    )?;
    let mut missing: HashMap<VersionId, i64> = statement
        .query_map([lane.disk.get()], |row| Ok((VersionId::new(row.get(0)?), row.get(1)?)))?
        .collect::<rusqlite::Result<_>>()?;
    if !missing.is_empty() {
        for piece in lane.map.iter() {
            if let Some(granules) = missing.get_mut(&piece.value.version) {
                *granules -= piece.rows.length().cast_signed();
            }
        }
    }
    Ok(missing.into_iter().filter(|(_, granules)| *granules == 0).map(|(version, _)| version).collect())
}

/// The contents that a lane is to hold, in the order of their paths.
fn wanted(
    pool: &Pool,
    disk: DiskId,
    with_unread: bool,
    complete: &BTreeSet<VersionId>,
    large_cells: &mut HashMap<VersionId, u64>,
) -> Result<Vec<Wanted>> {
    let member = pool.member(disk)?;
    let mut statement = pool.catalogue.reading().prepare_cached(
        "SELECT n.path, o.id, o.size, o.standing, v.id, v.size, v.data, o.older, o.version IS NULL
         FROM name n JOIN object o ON o.id = n.object LEFT JOIN version v ON v.id = o.version
         WHERE n.disk = ?1 AND o.left_out = 0 ORDER BY n.path",
    )?;
    let mut rows = statement.query([disk.get()])?;
    let mut wanted = Vec::new();
    let mut seen = BTreeSet::new();
    while let Some(row) = rows.next()? {
        let path = path_of(row.get_ref(0)?.as_blob().unwrap_or_default())?;
        let object: i64 = row.get(1)?;
        // With hard links an object counts under its first name.
        if is_held(&path) || !seen.insert(object) {
            continue;
        }
        let standing: i64 = row.get(3)?;
        let version: Option<i64> = row.get(4)?;
        if let (0, Some(version)) = (standing, version) {
            let size = ByteLength::new(unsigned(row.get(5)?));
            let packed: Option<Vec<u8>> = row.get(6)?;
            let data = versions::data_ranges(packed.as_deref(), size)?;
            note_cell(large_cells, VersionId::new(version), size);
            wanted.push(Wanted { version: VersionId::new(version), data: Data::new(&data) });
            continue;
        }
        // What could not be read stays in parity as it is there, if it is all there; its rows do not change.
        let kept = [version, row.get::<_, Option<i64>>(7)?].into_iter().flatten().map(VersionId::new);
        // What differs although its times say that it does not is not taken, read or not.
        let is_taken = with_unread && standing_of(standing) != Standing::Suspect;
        for version in kept.filter(|v| !is_taken && complete.contains(v)) {
            wanted.push(Wanted { version, data: Data::Dense(0) });
        }
        if is_taken {
            let provisional = VersionId::new(-object);
            let size = ByteLength::new(unsigned(row.get(2)?));
            note_cell(large_cells, provisional, size);
            let data = member.usable()?.open(&path).and_then(|file| file.data_ranges());
            wanted.push(Wanted { version: provisional, data: Data::new(&data.unwrap_or_default()) });
        }
    }
    Ok(wanted)
}

fn note_cell(large_cells: &mut HashMap<VersionId, u64>, version: VersionId, size: ByteLength) {
    let cell = sieve_core::checksum::cell_size(size) / GRANULE;
    if cell != USUAL_CELL {
        large_cells.insert(version, cell);
    }
}

/// What the coming sync would make of a volume.
pub(crate) struct Coming {
    /// The lanes; contents not read yet have the negative number of their object.
    pub(crate) lanes: Vec<(DiskId, LaneMap)>,
    /// Contents that get parity, and are not read yet: the negative numbers of their objects.
    pub(crate) unread: Vec<VersionId>,
    /// The rows whose parity is computed anew.
    pub(crate) dirty: Vec<Rows>,
}

/// Plans the coming sync of a volume, without doing it.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn coming_sync(pool: &Pool, volume: &str) -> Result<Coming> {
    let volumes = pool.volumes();
    let spec = volumes.iter().find(|v| v.name == volume).ok_or_else(|| {
        crate::Error::new(crate::Kind::Internal, "volume.unknown", format!("there is no volume `{volume}`"))
    })?;
    let images = open_images(pool, volume, &[])?;
    let sync = load(pool, spec, &image_cells(pool, volume)?, true)?;
    let also = invalid_cells(pool, volume, &sync.snapshot, &images)?;
    let cells: Vec<CellIndex> = sync.windows(&also).iter().map(|w| w.cell).collect();
    let dirty = joined_rows(sync.snapshot.geometry, &cells);
    let lanes = sync.snapshot.lanes.iter().map(|l| l.disk).zip(sync.target).collect();
    let no_room: BTreeSet<VersionId> = sync.no_room.into_iter().collect();
    let unread = sync.unread.into_iter().filter(|v| !no_room.contains(v)).collect();
    Ok(Coming { lanes, unread, dirty })
}

/// Cells that some parity disk does not have as it should, or has damaged.
pub(super) fn invalid_cells(
    pool: &Pool,
    volume: &str,
    snapshot: &Snapshot,
    images: &[ParityImage],
) -> Result<BTreeSet<CellIndex>> {
    let mut cells: BTreeSet<CellIndex> =
        images.iter().flat_map(|image| image.missing(&snapshot.expected)).collect();
    for member in pool.members_of(volume, Role::Parity) {
        cells.extend(parity_state::damaged_parity(pool.catalogue.reading(), member.row.id)?);
    }
    Ok(cells)
}

/// How many cells the image on each parity disk of a volume can hold.
pub(super) fn image_cells(pool: &Pool, volume: &str) -> Result<Vec<(u32, DiskId)>> {
    let geometry = disks::geometry(pool.catalogue.reading(), volume)?;
    let members = pool.members_of(volume, Role::Parity);
    Ok(members.map(|m| (limits(m, geometry).cells(), m.row.id)).collect())
}

/// Adds the work for a volume to a plan.
pub(super) fn estimate(pool: &Pool, volume: &VolumeSpec, plan: &mut SyncPlan) -> Result<()> {
    let images = open_images(pool, &volume.name, &[])?;
    let sync = load(pool, volume, &image_cells(pool, &volume.name)?, true)?;
    let also = invalid_cells(pool, &volume.name, &sync.snapshot, &images)?;
    let windows = sync.windows(&also);
    plan.cells += windows.len() as u64;
    let name = |disk: DiskId| pool.member(disk).map(|m| m.row.name.clone());
    for (lane, target) in sync.snapshot.lanes.iter().zip(&sync.target) {
        plan.changes.insert(name(lane.disk)?, lane_change(&lane.map, target));
        let unread = super::checksum::unread(pool.catalogue.reading(), lane.disk)?;
        plan.files_to_checksum += unread.len() as u64;
        let bytes = plan.read_bytes.entry(name(lane.disk)?).or_default();
        for id in unread {
            let size = crate::catalogue::objects::get(pool.catalogue.reading(), id)?.map(|o| o.size);
            *bytes = bytes.plus(size.unwrap_or_default());
        }
    }
    let mut sizes: HashMap<VersionId, ByteLength> = HashMap::new();
    for read in windows.iter().flat_map(|w| &w.reads) {
        let disk = sync.snapshot.lanes[read.lane].disk;
        let size = match sizes.get(&read.version) {
            Some(size) => *size,
            None => *sizes.entry(read.version).or_insert(size_of(pool, read.version)?),
        };
        let cell = sieve_core::checksum::cell_size(size);
        let length = cell.min(size.exact().saturating_sub(read.cell * cell));
        let bytes = plan.read_bytes.entry(name(disk)?).or_default();
        *bytes = bytes.plus(ByteLength::new(length));
        if sizes.len() > 4096 {
            sizes.clear();
        }
    }
    for member in pool.members_of(&volume.name, Role::Parity) {
        let written = windows.len() as u64 * sync.snapshot.geometry.cell_bytes();
        plan.written_bytes.insert(member.row.name.clone(), ByteLength::new(written));
    }
    Ok(())
}

/// The size of a content, or of an object under its provisional number.
fn size_of(pool: &Pool, version: VersionId) -> Result<ByteLength> {
    let sql = if version.get() < 0 {
        "SELECT size FROM object WHERE id = -?1"
    } else {
        "SELECT size FROM version WHERE id = ?1"
    };
    let size: i64 =
        pool.catalogue.reading().prepare_cached(sql)?.query_row([version.get()], |row| row.get(0))?;
    Ok(ByteLength::new(unsigned(size)))
}

/// The rows of contiguous cells, joined.
pub(super) fn joined_rows(geometry: CellGeometry, cells: &[CellIndex]) -> Vec<Rows> {
    joined(cells.iter().map(|cell| geometry.rows(*cell)).collect())
}
