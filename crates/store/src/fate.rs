//! From the catalogue to the model that the core computes fates from.

use std::collections::BTreeMap;

use serde::Serialize;
use sieve_core::fate::Fate;
use sieve_core::fate::{
    Cost, DiskIndex, Guard, LaneState, LostSet, Model, ObjectState, ParityState, Standing, StatedPiece,
    VersionState, guards, verdicts,
};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, GRANULE, ObjectId, ParityIndex, Slot, VersionId};

use crate::catalogue::{disks, objects, parity_state, versions};
use crate::disk::EntryKind;
use crate::error::Result;
use crate::label::Role;
use crate::pool::Pool;
use crate::scan::is_held;
use crate::sync::open_images;
use crate::window::without;

/// A volume as a model, and which of its parts is what in the catalogue.
pub struct VolumeModel {
    /// The volume.
    pub volume: String,
    /// What the core computes with.
    pub model: Model,
    /// The members, in the order of [`DiskIndex`].
    pub disks: Vec<DiskId>,
    /// For each file of the model its number; symlinks follow after them.
    object_ids: Vec<i64>,
    /// For each disk the first of its versions; the numbers rise within a disk.
    version_ids: Vec<i64>,
    version_ranges: Vec<(usize, usize)>,
    /// For each disk the position of its first symlink.
    first_symlink: BTreeMap<DiskId, usize>,
}

/// A file of a volume with its fate.
#[derive(Debug, Serialize)]
pub struct FileFate<'a> {
    /// The volume.
    pub volume: &'a str,
    /// Its path; what is not UTF-8 is shown escaped.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// The disks that it lies on.
    pub disks: [&'a str; 1],
    /// Its length.
    pub size_bytes: ByteLength,
    /// What becomes of it.
    pub fate: Fate,
    /// How many disks may die without losing it.
    pub guard: u8,
    /// Why none may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unguarded: Option<sieve_core::fate::Unguarded>,
    /// Its top folder, empty for what lies at the root.
    #[serde(skip)]
    pub top_folder: String,
}

/// The path as text and, where it is not UTF-8, its bytes in hexadecimal.
pub fn shown_path(path: &RelPath) -> (String, Option<String>) {
    match std::str::from_utf8(path.as_bytes()) {
        Ok(text) => (text.to_string(), None),
        Err(_) => {
            let hex = path.as_bytes().iter().map(|b| format!("{b:02x}")).collect();
            (path.to_string(), Some(hex))
        }
    }
}

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
        version_ranges: Vec::new(),
        first_symlink: BTreeMap::new(),
    };
    let data: Vec<DiskId> = pool.members_of(volume, Role::Data).map(|m| m.row.id).collect();
    for disk in &data {
        loaded.add_versions(pool, *disk)?;
    }
    let mut good = vec![false; loaded.model.versions.len()];
    loaded.add_objects(pool, &mut good)?;
    for disk in &data {
        loaded.add_lane(pool, *disk, &good)?;
    }
    loaded.note_unmapped();
    loaded.add_parities(pool)?;
    loaded.add_symlinks(pool, &data)?;
    let head = parity_state::head(pool.catalogue.reading())?.map(|h| h.number);
    for member in pool.members.iter().filter(|m| m.state.is_usable() && m.row.replica == head) {
        // Only members of the volume have an index; those of other volumes would only add to the guard.
        loaded.model.replicas.extend(loaded.index(member.row.id));
    }
    Ok(loaded)
}

impl VolumeModel {
    /// The index of a disk in the model.
    pub fn index(&self, disk: DiskId) -> Option<DiskIndex> {
        let position = self.disks.iter().position(|d| *d == disk)?;
        u16::try_from(position).ok().map(DiskIndex)
    }

    fn sure_index(&self, disk: DiskId) -> DiskIndex {
        self.index(disk).expect("the disk is a member of this volume")
    }

    /// The position of a content in the model.
    pub fn version_index(&self, disk: DiskId, version: VersionId) -> Option<u32> {
        let (start, end) = self.version_ranges[usize::from(self.index(disk)?.0)];
        let found = self.version_ids[start..end].binary_search(&version.get()).ok()?;
        u32::try_from(start + found).ok()
    }

    /// The position of an object in the model.
    pub fn object_index(&self, object: ObjectId) -> Option<usize> {
        self.object_ids.binary_search(&object.get()).ok()
    }

    fn add_versions(&mut self, pool: &Pool, disk: DiskId) -> Result<()> {
        let start = self.version_ids.len();
        versions::for_each(pool.catalogue.reading(), disk, |id, size, data, recorded| {
            self.version_ids.push(id.get());
            let cell = sieve_core::checksum::cell_size(size) / GRANULE;
            self.model.versions.push(VersionState { size, cell, data, mapped: 0, recorded });
        })?;
        let index = usize::from(self.sure_index(disk).0);
        self.version_ranges.resize(self.version_ranges.len().max(index + 1), (0, 0));
        self.version_ranges[index] = (start, self.version_ids.len());
        Ok(())
    }

    /// All objects of the volume in the order of their numbers.
    fn add_objects(&mut self, pool: &Pool, good: &mut [bool]) -> Result<()> {
        let mut statement = pool
            .catalogue
            .reading()
            .prepare_cached("SELECT id, size, version, standing, older, disk FROM object ORDER BY id")?;
        let mut rows = statement.query([])?;
        while let Some(row) = rows.next()? {
            let disk = DiskId::new(row.get(5)?);
            let Some(index) = self.index(disk) else { continue };
            let known = |version: Option<i64>| self.version_index(disk, VersionId::new(version?));
            let (version, older) = (known(row.get(2)?), known(row.get(4)?));
            let standing = objects::standing_of(row.get(3)?);
            if let (Some(version), Standing::Same) = (version, standing) {
                good[version as usize] = true;
            }
            let size = ByteLength::new(crate::catalogue::unsigned(row.get(1)?));
            self.object_ids.push(row.get(0)?);
            self.model.objects.push(ObjectState {
                disk: index,
                size,
                version,
                standing,
                older,
                catalogued: None,
            });
        }
        Ok(())
    }

    fn add_lane(&mut self, pool: &Pool, disk: DiskId, good: &[bool]) -> Result<()> {
        let mut damaged: BTreeMap<u32, Vec<Rows>> = BTreeMap::new();
        for (version, cell) in parity_state::damaged_contents(pool.catalogue.reading(), disk)? {
            if let Some(index) = self.version_index(disk, version) {
                let size = self.model.versions[index as usize].cell;
                damaged.entry(index).or_default().push(Rows::at(cell * size, size));
            }
        }
        let mut pieces = Vec::new();
        for interval in parity_state::lane(pool.catalogue.reading(), disk)?.iter() {
            let Some(version) = self.version_index(disk, interval.value.version) else {
                return Err(crate::catalogue::corrupt(
                    "the catalogue's snapshot refers to a content that it does not know".into(),
                ));
            };
            self.model.versions[version as usize].mapped += interval.rows.length();
            let whole = StatedPiece {
                rows: interval.rows,
                version,
                offset: interval.value.offset,
                stale: !good[version as usize],
            };
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
            let invalid = match images.iter().find(|image| image.index() == index) {
                None => vec![Rows::new(0, u64::MAX)],
                Some(image) => {
                    let mut cells = image.missing(&expected);
                    cells.extend(parity_state::damaged_parity(reading, member.row.id)?);
                    cells.sort_unstable();
                    cells.dedup();
                    cells.into_iter().map(|cell| geometry.rows(cell)).collect()
                }
            };
            self.model.parities.push(ParityState { disk: self.sure_index(member.row.id), index, invalid });
        }
        Ok(())
    }

    fn add_symlinks(&mut self, pool: &Pool, data: &[DiskId]) -> Result<()> {
        for disk in data {
            self.first_symlink.insert(*disk, self.model.objects.len());
            let index = self.sure_index(*disk);
            objects::for_each_node(pool.catalogue.reading(), *disk, |_, node| {
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

    /// The members that are not there, besides those named: all are counted as lost.
    pub fn lost_set(&self, pool: &Pool, named: &[DiskId]) -> LostSet {
        let unusable = pool.members.iter().filter(|m| !m.state.is_usable()).map(|m| m.row.id);
        named.iter().copied().chain(unusable).filter_map(|id| self.index(id)).collect()
    }

    /// Whether a replica of the catalogue is left when these are lost: what lives in the catalogue alone comes back.
    pub fn keeps_a_replica(&self, pool: &Pool, named: &[DiskId]) -> bool {
        let gone = self.lost_set(pool, named);
        self.model.replicas.iter().any(|disk| !gone.contains(disk))
    }

    /// Evaluates the loss of the disks named, besides those that are missing now; the guard is that of now.
    pub fn evaluate(&self, pool: &Pool, named: &[DiskId]) -> Evaluation {
        let fates = verdicts(&self.model, &self.lost_set(pool, named)).fates;
        Evaluation { fates, guards: guards(&self.model, &self.lost_set(pool, &[])) }
    }

    /// How many names of files each object of the model has, in its order; what is held has none.
    ///
    /// # Errors
    /// What the database says.
    pub fn name_counts(&self, pool: &Pool) -> Result<Vec<u32>> {
        let mut counts = vec![0; self.object_ids.len()];
        for member in pool.members_of(&self.volume, Role::Data) {
            objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
                if let Some(position) = self.object_index(object.id).filter(|_| !is_held(&path)) {
                    counts[position] += 1;
                }
                Ok(())
            })?;
        }
        // Symlinks follow after the files, one name each.
        counts.resize(self.model.objects.len(), 1);
        Ok(counts)
    }

    /// What does not come back in its present state when the disks named are lost, besides those missing now.
    pub fn cost(&self, pool: &Pool, name_counts: &[u32], named: &[DiskId]) -> Cost {
        let fates = verdicts(&self.model, &self.lost_set(pool, named)).fates;
        let mut cost = Cost::default();
        for ((object, fate), names) in self.model.objects.iter().zip(fates).zip(name_counts) {
            cost.add(fate, *names, object.size);
        }
        cost
    }

    /// Calls `visit` with every file of the volume: each name of each file, and symlinks. Held files are
    /// not files of the volume.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    pub fn for_each_file(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        mut visit: impl FnMut(FileFate<'_>) -> Result<()>,
    ) -> Result<()> {
        for member in pool.members_of(&self.volume, Role::Data) {
            let disk = member.row.name.as_str();
            let mut show = |path: &RelPath, size: ByteLength, position: usize| {
                let (text, path_hex) = shown_path(path);
                let top = path.top_folder().map(|f| String::from_utf8_lossy(f).into_owned());
                visit(FileFate {
                    volume: &self.volume,
                    path: text,
                    path_hex,
                    disks: [disk],
                    size_bytes: size,
                    fate: evaluation.fates[position],
                    guard: evaluation.guards[position].level,
                    unguarded: evaluation.guards[position].reason,
                    top_folder: top.unwrap_or_default(),
                })
            };
            objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
                match self.object_index(object.id) {
                    Some(position) if !is_held(&path) => show(&path, object.size, position),
                    _ => Ok(()),
                }
            })?;
            let mut position = self.first_symlink.get(&member.row.id).copied().unwrap_or(usize::MAX);
            objects::for_each_node(pool.catalogue.reading(), member.row.id, |path, node| {
                if node.kind == EntryKind::Symlink && position < evaluation.fates.len() {
                    position += 1;
                    return show(&path, ByteLength::ZERO, position - 1);
                }
                Ok(())
            })?;
        }
        Ok(())
    }
}

/// The fates and guards of the objects of a model, in its order.
pub struct Evaluation {
    /// One for each object.
    pub fates: Vec<Fate>,
    /// One for each object.
    pub guards: Vec<Guard>,
}

/// Cuts a piece where its content is damaged.
fn split_by_damage(piece: StatedPiece, damaged: &[Rows], pieces: &mut Vec<StatedPiece>) {
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

/// Files and bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Count {
    /// Names of files.
    pub files: u64,
    /// Their bytes; a file with several names counts under each.
    pub bytes: ByteLength,
}

impl Count {
    /// Counts one more file.
    pub fn add(&mut self, bytes: ByteLength) {
        self.files += 1;
        self.bytes = self.bytes.plus(bytes);
    }
}

/// Files and bytes by fate.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Totals {
    /// On disks that are not lost.
    pub untouched: Count,
    /// Their present content comes back.
    pub rebuilt: Count,
    /// The content of the last sync comes back.
    pub older: Count,
    /// Some pieces come back.
    pub torn: Count,
    /// Nothing comes back.
    pub gone: Count,
}

impl Totals {
    /// The count of one fate.
    pub fn of(&self, fate: Fate) -> Count {
        match fate {
            Fate::Untouched => self.untouched,
            Fate::Rebuilt => self.rebuilt,
            Fate::Older => self.older,
            Fate::Torn => self.torn,
            Fate::Gone => self.gone,
        }
    }

    /// Counts one more file.
    pub fn add(&mut self, fate: Fate, bytes: ByteLength) {
        match fate {
            Fate::Untouched => &mut self.untouched,
            Fate::Rebuilt => &mut self.rebuilt,
            Fate::Older => &mut self.older,
            Fate::Torn => &mut self.torn,
            Fate::Gone => &mut self.gone,
        }
        .add(bytes);
    }

    /// Whether the present content of every file survives.
    pub fn all_survive(&self) -> bool {
        self.older.files + self.torn.files + self.gone.files == 0
    }
}
