//! From the catalogue to the model that the core computes fates from.

use sieve_catalogue::contents;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::path::Path;
use std::thread;

use rusqlite::{Connection, OpenFlags};
use sieve_core::fate::{
    DiskIndex, LaneState, LostSet, MOST_DISKS, Model, ObjectState, ParityState, Standing, StatedPiece,
    VersionState,
};
use sieve_core::lane::{Piece, Rows};
use sieve_core::units::{ByteLength, CellIndex, DiskId, GRANULE, ParityIndex, Slot, VersionId};

use super::model::VolumeModel;
use crate::images::{cells_on, open_images};
use crate::pool::Pool;
use sieve_catalogue as catalogue;
use sieve_catalogue::label::Role;
use sieve_catalogue::{disks, nodes, objects, parity_state, versions};
use sieve_disk::EntryKind;
use sieve_disk::Result;
use sieve_rows::window::without;

/// Loads a volume as it was last scanned.
///
/// # Errors
/// What the database says, or a parity table that is damaged.
pub fn load(pool: &Pool, volume: &str) -> Result<VolumeModel> {
    let mut loaded = VolumeModel {
        volume: volume.into(),
        model: Model::default(),
        disks: pool.members.iter().filter(|m| m.row.volume == volume).map(|m| m.row.id).collect(),
        object_ids: Vec::new(),
        version_ids: Vec::new(),
        first_symlink: BTreeMap::new(),
        missing: LostSet::new(),
        removed: Vec::new(),
        vanished: BTreeSet::new(),
        composite_of: HashMap::new(),
        is_held: HashSet::new(),
        pieced: HashMap::new(),
    };
    if loaded.disks.len() >= MOST_DISKS {
        let message = format!("the catalogue knows {} disks of volume {volume}", loaded.disks.len());
        return Err(catalogue::corrupt(message));
    }
    let away = pool.members.iter().filter(|m| !m.state.is_usable());
    loaded.missing = away.filter_map(|m| loaded.index(m.row.id)).collect();
    let data: Vec<DiskId> = pool.members_of(volume, Role::Data).map(|m| m.row.id).collect();
    let (objects, lanes) = loaded.read(pool, &data)?;
    loaded.add_objects(objects);
    loaded.doubt_out_of_sight(pool)?;
    let good = loaded.good_contents();
    for (disk, intervals) in data.iter().zip(lanes) {
        loaded.add_lane(pool, *disk, intervals, &good)?;
    }
    loaded.note_unmapped();
    loaded.add_parities(pool)?;
    let holders: Vec<DiskId> = pool.file_members(volume).map(|m| m.row.id).collect();
    loaded.add_symlinks(pool, &holders)?;
    loaded.add_copies(pool)?;
    loaded.add_pieces(pool)?;
    for member in pool.members.iter().filter(|m| m.state.is_usable()) {
        // What lies on the disk counts, whatever was noted of it. Only members of the volume have an index; those of other
        // volumes would only add to the guard.
        if let (Some(index), Some(stamp)) = (loaded.index(member.row.id), member.replica)
            && parity_state::knows(pool.catalogue.reading(), stamp.id)?
        {
            loaded.model.replicas.insert(index, u32::try_from(stamp.number).unwrap_or(u32::MAX));
        }
    }
    Ok(loaded)
}

/// The intervals of a lane, in order of their starts.
type Lane = Vec<(Rows, Piece)>;

fn lanes_of(c: &Connection, disks: &[DiskId]) -> Result<Vec<Lane>> {
    let lane = |disk: &DiskId| {
        let mut lane = Lane::new();
        parity_state::for_each_interval(c, *disk, |rows, piece| {
            lane.push((rows, piece));
            Ok(())
        })?;
        Ok(lane)
    };
    disks.iter().map(lane).collect()
}

/// All objects of the volume in the order of their numbers.
fn objects_of(c: &Connection, members: &[DiskId]) -> Result<Vec<ObjectRow>> {
    let mut objects = Vec::with_capacity(catalogue::rows_in(c, "object")?);
    contents::for_each_object(c, |object| {
        let Some(position) = members.iter().position(|member| *member == object.disk) else { return };
        objects.push(ObjectRow {
            id: object.id,
            disk: u16::try_from(position).unwrap_or(u16::MAX),
            size: object.size,
            version: object.version,
            older: object.older,
            standing: object.standing,
        });
    })?;
    Ok(objects)
}

/// An object as the catalogue has it.
struct ObjectRow {
    id: i64,
    disk: u16,
    size: ByteLength,
    version: Option<i64>,
    older: Option<i64>,
    standing: Standing,
}

/// Reads on a connection of its own, beside the one that reads the rest; nothing if it cannot, or if a checkpoint came
/// between the two.
///
/// What other commands change between checkpoints makes contents unknown at most, and what is unknown counts as lost.
fn read_beside<T>(
    path: &Path,
    head: Option<Option<u64>>,
    read: impl FnOnce(&Connection) -> Result<T>,
) -> Result<Option<T>> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let Some(head) = head else { return Ok(None) };
    let Ok(beside) = Connection::open_with_flags(path, flags) else { return Ok(None) };
    let reading = beside.unchecked_transaction()?;
    if parity_state::head(&reading)?.map(|h| h.number) != head {
        return Ok(None);
    }
    read(&reading).map(Some)
}

fn finished<T>(reader: thread::ScopedJoinHandle<'_, T>) -> T {
    reader.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
}

impl VolumeModel {
    /// All contents of the volume in the order of their numbers.
    fn add_versions(&mut self, c: &Connection) -> Result<()> {
        let count = catalogue::rows_in(c, "version")?;
        self.version_ids.reserve_exact(count);
        self.model.versions.reserve_exact(count);
        versions::for_each(c, |id, disk, size, data, recorded| {
            if self.index(disk).is_some() {
                self.version_ids.push(id.get());
                let cell = sieve_core::checksum::cell_size(size) / GRANULE;
                self.model.versions.push(VersionState { size, cell, data, mapped: 0, recorded });
            }
        })
    }

    /// Reads contents, objects and lanes at once: the database takes most of the time.
    fn read(&mut self, pool: &Pool, data: &[DiskId]) -> Result<(Vec<ObjectRow>, Vec<Lane>)> {
        // One state of the catalogue for all that is read here.
        let reading = pool.catalogue.reading().unchecked_transaction()?;
        let head = parity_state::head(&reading)?.map(|h| h.number);
        let path = pool.catalogue.path();
        // What this reader has seen for itself, another connection does not know.
        let head = if pool.catalogue.has_own_state() { None } else { Some(head) };
        let members = self.disks.clone();
        let (objects, lanes) = thread::scope(|scope| -> Result<_> {
            let objects = scope.spawn(|| read_beside(path, head, |c| objects_of(c, &members)));
            let lanes = scope.spawn(|| read_beside(path, head, |c| lanes_of(c, data)));
            self.add_versions(&reading)?;
            Ok((finished(objects)?, finished(lanes)?))
        })?;
        Ok((
            objects.map_or_else(|| objects_of(&reading, &members), Ok)?,
            lanes.map_or_else(|| lanes_of(&reading, data), Ok)?,
        ))
    }

    fn add_objects(&mut self, rows: Vec<ObjectRow>) {
        let mut near = 0;
        self.object_ids.reserve_exact(rows.len());
        self.model.objects.reserve_exact(rows.len());
        for row in rows {
            let mut known = |version: Option<i64>| self.version_near(VersionId::new(version?), &mut near);
            let (version, older) = (known(row.version), known(row.older));
            let (disk, size, standing) = (DiskIndex(row.disk), row.size, row.standing);
            self.object_ids.push(row.id);
            self.model.objects.push(ObjectState { disk, size, version, standing, older, catalogued: None });
        }
    }

    /// What cannot be seen cannot be read either: it is neither promised, nor counted on for others (L7).
    fn doubt_out_of_sight(&mut self, pool: &Pool) -> Result<()> {
        for (disk, folders) in pool.out_of_sight.borrow().iter().filter(|(_, folders)| !folders.is_empty()) {
            for folder in folders {
                for object in objects::below(pool.catalogue.reading(), *disk, folder)? {
                    if let Some(position) = self.object_index(object) {
                        let standing = &mut self.model.objects[position].standing;
                        *standing = (*standing).max(Standing::Doubtful);
                    }
                }
            }
        }
        Ok(())
    }

    /// For each content whether it is the present one of an object.
    fn good_contents(&self) -> Vec<bool> {
        let mut good = vec![false; self.model.versions.len()];
        for version in self.model.objects.iter().filter_map(ObjectState::present) {
            good[version as usize] = true;
        }
        good
    }

    fn add_lane(&mut self, pool: &Pool, disk: DiskId, intervals: Lane, good: &[bool]) -> Result<()> {
        let mut damaged: BTreeMap<u32, Vec<Rows>> = BTreeMap::new();
        for (version, cell) in parity_state::damaged_contents(pool.catalogue.reading(), disk)? {
            if let Some(index) = self.version_index(version) {
                let size = self.model.versions[index as usize].cell;
                damaged.entry(index).or_default().push(Rows::at(cell * size, size));
            }
        }
        let mut pieces: Vec<StatedPiece> = Vec::new();
        let mut near = 0;
        let mut end = 0;
        for (rows, content) in intervals {
            let Some(version) = self.version_near(content.version, &mut near).filter(|_| rows.start() >= end)
            else {
                return Err(catalogue::corrupt(
                    "the catalogue's snapshot contradicts itself, or refers to a content that it does not know"
                        .into(),
                ));
            };
            end = rows.end();
            self.model.versions[version as usize].mapped += rows.length();
            let whole = StatedPiece { rows, version, offset: content.offset, stale: !good[version as usize] };
            match damaged.get(&version) {
                Some(cells) if !whole.stale => split_by_damage(whole, cells, &mut pieces),
                _ => pieces.push(whole),
            }
        }
        let slot = Slot::new(pool.member(disk)?.row.slot);
        self.model.lanes.push(LaneState { disk: self.sure_index(disk), slot, pieces });
        Ok(())
    }

    /// Contents that are only partly in the snapshot, after an interrupted sync: what of them is not.
    fn note_unmapped(&mut self) {
        let partial = |v: &VersionState| v.mapped > 0 && v.mapped < v.data;
        for (index, version) in self.model.versions.iter().enumerate().filter(|(_, v)| partial(v)) {
            let mut missing = vec![Rows::new(0, version.size.granules())];
            let index = u32::try_from(index).unwrap_or(u32::MAX);
            for piece in self.model.lanes.iter().flat_map(|l| &l.pieces).filter(|p| p.version == index) {
                missing = without(&missing, Rows::at(piece.offset, piece.rows.length()));
            }
            self.model.unmapped.insert(index, missing);
        }
    }

    fn add_parities(&mut self, pool: &Pool) -> Result<()> {
        let reading = pool.catalogue.reading();
        let geometry = disks::geometry(reading, &self.volume)?;
        let expected = parity_state::parity_cells(reading, &self.volume)?;
        let images = open_images(pool, &self.volume, &[])?;
        for member in pool.members_of(&self.volume, Role::Parity) {
            let index = ParityIndex::new(member.row.slot);
            let invalid = match images.iter().find_map(|image| image.part_on(member.row.id)) {
                None => vec![Rows::new(0, u64::MAX)],
                Some(part) => {
                    let mut cells = part.missing(&expected);
                    cells.extend(parity_state::damaged_parity(reading, member.row.id)?);
                    cells.sort_unstable();
                    cells.dedup();
                    cells.into_iter().map(|cell| geometry.rows(cell)).collect()
                }
            };
            let cells = cells_on(pool, &member.row);
            let (first, behind) = (CellIndex::new(cells.start), CellIndex::new(cells.end));
            let end = if cells.end == u32::MAX { u64::MAX } else { geometry.rows(behind).start() };
            let rows = Rows::new(geometry.rows(first).start(), end);
            self.model.parities.push(ParityState::new(self.sure_index(member.row.id), index, rows, invalid));
        }
        Ok(())
    }

    fn add_symlinks(&mut self, pool: &Pool, data: &[DiskId]) -> Result<()> {
        for disk in data {
            self.first_symlink.insert(*disk, self.model.objects.len());
            let index = self.sure_index(*disk);
            nodes::for_each(pool.catalogue.reading(), *disk, |_, node| {
                if node.kind == EntryKind::Symlink {
                    self.model.objects.push(ObjectState {
                        disk: index,
                        size: ByteLength::ZERO,
                        version: None,
                        standing: Standing::Same,
                        older: None,
                        catalogued: Some(node.recorded),
                    });
                }
                Ok(())
            })?;
        }
        Ok(())
    }
}

/// Cuts a piece where its content is damaged.
pub fn split_by_damage(piece: StatedPiece, damaged: &[Rows], pieces: &mut Vec<StatedPiece>) {
    let content = Rows::at(piece.offset, piece.rows.length());
    let mut add = |part: Rows, stale: bool| {
        let rows = Rows::at(piece.rows.start() + (part.start() - piece.offset), part.length());
        if !rows.is_empty() {
            pieces.push(StatedPiece { rows, offset: part.start(), stale, ..piece });
        }
    };
    let mut from = content.start();
    for cell in damaged.iter().map(|cell| cell.intersection(content)).filter(|c| !c.is_empty()) {
        add(Rows::new(from, cell.start()), false);
        add(cell, true);
        from = cell.end();
    }
    add(Rows::new(from, content.end()), false);
}
