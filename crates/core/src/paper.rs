//! A volume on paper: disks that need not exist, a listing of files, and the same model as for a real one.
//!
//! Files go where a real volume of this kind would put them, by the same rules, and count as settled and synced: what is to
//! stay on a cache lies there, everything else on the disks.

use crate::checksum::cell_size;
use crate::fate::{
    Composite, DiskIndex, Exposures, Fate, Guard, LaneState, LostSet, Model, ObjectState, ParityState,
    Standing, StatedPiece, VersionState, fate_of_composite, guard_of_composite, guards, verdicts,
};
use crate::landing::{Ground, Lander, Spot};
use crate::lane::Rows;
use crate::path::{PathError, RelPath};
use crate::pool::{Landing, PoolSpec, Role, VolumeSpec};
use crate::units::{ByteLength, GRANULE, ParityIndex, Slot};

/// A volume on paper.
pub struct PaperVolume {
    volume: VolumeSpec,
    /// Data disks, then parity disks, then caches: in the order of [`DiskIndex`].
    disks: Vec<PaperDisk>,
    model: Model,
    lander: Lander,
    /// The positions in `disks` of the disks that take files, in the order that the lander knows them.
    grounds: Vec<usize>,
    limit: Option<ByteLength>,
    files: Vec<PaperFile>,
    /// All paths one after another, and where each ends: a million of them in one piece of memory.
    paths: Vec<u8>,
    ends: Vec<u64>,
}

/// A disk of a volume on paper.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PaperDisk {
    /// Its name.
    pub name: String,
    /// What it does.
    pub role: Role,
    /// All its space.
    pub capacity: ByteLength,
    /// What files, or parity, take of it.
    pub used: ByteLength,
}

/// A file: its first object in the model, and the entry that joins several of them.
struct PaperFile {
    size: ByteLength,
    object: u32,
    composite: Option<u32>,
}

/// Why a volume cannot be put on paper, or a file not into it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PaperError {
    /// Nobody said how large a disk is.
    #[error("disk `{0}` needs a capacity: on paper nothing else tells its size")]
    NoCapacity(String),
    /// A path is none.
    #[error("`{0}` is no path in a volume: {1}")]
    Path(String, PathError),
    /// A file fits on no disk.
    #[error("`{0}` ({1}) fits on no disk: the most that is free on one is {2}")]
    NoRoom(String, ByteLength, ByteLength),
    /// The volume may not hold so much.
    #[error("with `{0}` ({1}) the volume would hold more than its limit of {2}")]
    Limit(String, ByteLength, ByteLength),
}

fn index(position: usize) -> DiskIndex {
    DiskIndex(u16::try_from(position).unwrap_or(u16::MAX))
}

fn number(position: usize) -> u32 {
    u32::try_from(position).expect("a listing has fewer than 4 billion files")
}

impl PaperVolume {
    /// An empty volume as its pool file describes it.
    ///
    /// # Errors
    /// When the capacity of a disk is not known.
    pub fn new(pool: &PoolSpec, volume: &VolumeSpec) -> Result<Self, PaperError> {
        let disk = |(role, _, name): (Role, u8, &String)| {
            let capacity = pool.disk(name).and_then(|d| d.capacity);
            let capacity = capacity.ok_or_else(|| PaperError::NoCapacity(name.clone()))?;
            Ok(PaperDisk { name: name.clone(), role, capacity, used: ByteLength::ZERO })
        };
        let disks = volume.roles().map(disk).collect::<Result<Vec<_>, PaperError>>()?;
        let takes_files = |position: &usize| disks[*position].role != Role::Parity;
        let grounds: Vec<usize> = (0..disks.len()).filter(takes_files).collect();
        let data = disks.iter().filter(|disk| disk.role == Role::Data);
        let space = data.map(|disk| disk.capacity).fold(ByteLength::ZERO, ByteLength::plus);
        Ok(Self {
            lander: lander(volume, &disks, ByteLength::ZERO),
            limit: volume.limit.map(|limit| limit.of(space)),
            model: empty_model(volume, &disks),
            volume: volume.clone(),
            grounds,
            disks,
            files: Vec::new(),
            paths: Vec::new(),
            ends: Vec::new(),
        })
    }

    /// The same, still empty, where the largest file that is likely to come is so large: what stays free of caches and fast disks
    /// goes by that, unless the pool file says it.
    #[must_use]
    pub fn expecting(self, largest: ByteLength) -> Self {
        Self { lander: lander(&self.volume, &self.disks, largest), ..self }
    }

    /// Puts a file where the volume puts it once it has settled; it counts as synced.
    ///
    /// # Errors
    /// When its path is none, it fits on no disk, or the volume may not hold so much.
    pub fn add(&mut self, path: &str, size: ByteLength) -> Result<(), PaperError> {
        let read = RelPath::new(path).map_err(|e| PaperError::Path(path.into(), e))?;
        let stays = self.volume.has_cache() && self.volume.landing_of(&read) == Landing::Stay;
        let spot = if stays { self.lander.land(&read, size) } else { self.lander.on_disks(&read, size) };
        let Some(spot) = spot else {
            return Err(PaperError::NoRoom(path.into(), size, self.lander.placer().largest_free()));
        };
        let shares: Vec<(usize, ByteLength)> = match &spot {
            Spot::Whole(grounds) => grounds.iter().map(|ground| (*ground, size)).collect(),
            Spot::Pieces(pieces) => pieces.iter().map(|piece| (piece.disk, piece.length)).collect(),
        };
        let shares: Vec<_> =
            shares.into_iter().map(|(ground, length)| (self.grounds[ground], length)).collect();
        self.refuse_beyond_limit(path, size, &shares)?;
        let objects: Vec<u32> =
            shares.into_iter().map(|(disk, length)| self.add_object(disk, length)).collect();
        let object = objects[0];
        let composite = (objects.len() > 1).then(|| {
            self.model.composites.push(match spot {
                Spot::Whole(_) => Composite::of_copies(objects),
                Spot::Pieces(_) => Composite::of_pieces(objects),
            });
            number(self.model.composites.len() - 1)
        });
        self.files.push(PaperFile { size, object, composite });
        self.paths.extend_from_slice(path.as_bytes());
        self.ends.push(self.paths.len() as u64);
        Ok(())
    }

    fn refuse_beyond_limit(
        &self,
        path: &str,
        size: ByteLength,
        shares: &[(usize, ByteLength)],
    ) -> Result<(), PaperError> {
        let Some(limit) = self.limit else { return Ok(()) };
        let is_data = |disk: usize| self.disks[disk].role == Role::Data;
        let coming = shares.iter().filter(|(disk, _)| is_data(*disk)).map(|(_, length)| *length);
        let all = coming.fold(self.held(), ByteLength::plus);
        if all > limit { Err(PaperError::Limit(path.into(), size, limit)) } else { Ok(()) }
    }

    /// An object on a disk, at the end of what is on it.
    fn add_object(&mut self, disk: usize, size: ByteLength) -> u32 {
        let granules = size.granules();
        let version = number(self.model.versions.len());
        let (cell, recorded) = (cell_size(size) / GRANULE, 1);
        // What lies on a cache is in no lane: parity does not have it.
        let mapped = if self.disks[disk].role == Role::Data { granules } else { 0 };
        self.model.versions.push(VersionState { size, cell, data: granules, mapped, recorded });
        self.model.objects.push(ObjectState {
            disk: index(disk),
            size,
            version: Some(version),
            standing: Standing::Same,
            older: None,
            catalogued: None,
        });
        if granules > 0 {
            let rows = Rows::at(self.disks[disk].used.granules(), granules);
            if let Some(lane) = self.model.lanes.iter_mut().find(|lane| lane.disk == index(disk)) {
                lane.pieces.push(StatedPiece { rows, version, offset: 0, stale: false });
            }
            self.disks[disk].used = ByteLength::new(rows.end() * GRANULE);
        }
        number(self.model.objects.len() - 1)
    }

    /// What the data disks hold.
    fn held(&self) -> ByteLength {
        let data = self.disks.iter().filter(|disk| disk.role == Role::Data);
        data.map(|disk| disk.used).fold(ByteLength::ZERO, ByteLength::plus)
    }

    /// What the volume holds and what it may hold, where that is less than its disks could.
    pub fn limit(&self) -> Option<(ByteLength, ByteLength)> {
        self.limit.map(|limit| (self.held(), limit))
    }

    /// What its pool file says.
    pub const fn volume(&self) -> &VolumeSpec {
        &self.volume
    }

    /// Its disks with what is on them: data disks, parity, caches; parity reaches as far as the fullest data disk.
    pub fn disks(&self) -> Vec<PaperDisk> {
        let mut disks = self.disks.clone();
        let data = self.disks.iter().filter(|disk| disk.role == Role::Data);
        let reach = data.map(|disk| disk.used).max().unwrap_or_default();
        let mut position = self.volume.data.len();
        for image in &self.volume.parity {
            let mut left = reach;
            for _ in image {
                disks[position].used = left.min(disks[position].capacity);
                left = left.minus(disks[position].used);
                position += 1;
            }
        }
        disks
    }

    /// The position of a disk.
    pub fn index(&self, disk: &str) -> Option<DiskIndex> {
        self.disks.iter().position(|d| d.name == disk).map(index)
    }

    /// What the fates are computed from.
    pub const fn model(&self) -> &Model {
        &self.model
    }

    /// Takes it that there is one more parity drive, which is none of [`Self::disks`].
    pub fn add_parity(&mut self) {
        self.model.add_parity(self.disks.len());
    }

    /// The name of a disk.
    pub fn disk_name(&self, disk: DiskIndex) -> &str {
        self.disks.get(usize::from(disk.0)).map_or("another parity drive", |known| &known.name)
    }

    /// The fate of every file when these disks are lost, in the order of the listing.
    pub fn fates(&self, lost: &LostSet) -> Vec<Fate> {
        let of_objects = verdicts(&self.model, lost).fates;
        let fate = |file: &PaperFile| match file.composite {
            Some(composite) => {
                fate_of_composite(&self.model, &self.model.composites[composite as usize], &of_objects)
            }
            None => of_objects[file.object as usize],
        };
        self.files.iter().map(fate).collect()
    }

    /// The guard of every file, in the order of the listing.
    pub fn guards(&self) -> Vec<Guard> {
        let none = LostSet::new();
        let of_objects = guards(&self.model, &none);
        if self.model.composites.is_empty() {
            return self.files.iter().map(|file| of_objects[file.object as usize]).collect();
        }
        let exposures = Exposures::new(&self.model, &none, self.disks.len() + 1);
        let guard = |file: &PaperFile| {
            let Some(composite) = file.composite else { return of_objects[file.object as usize] };
            let composite = &self.model.composites[composite as usize];
            let level = guard_of_composite(&self.model, composite, &exposures, &of_objects, &none);
            let worst = composite.objects().find_map(|object| of_objects[object as usize].reason);
            Guard { level, reason: worst.filter(|_| level == 0) }
        };
        self.files.iter().map(guard).collect()
    }

    /// The objects that a file consists of, as positions in the model.
    pub fn objects_of(&self, file: usize) -> Vec<usize> {
        match self.files[file].composite {
            Some(composite) => {
                self.model.composites[composite as usize].objects().map(|object| object as usize).collect()
            }
            None => vec![self.files[file].object as usize],
        }
    }

    /// How many names each object of the model has, with those files that `is_there`: copies and pieces have that of their
    /// first.
    pub fn name_counts(&self, is_there: impl Fn(&str) -> bool) -> Vec<u32> {
        let mut counts = vec![0; self.model.objects.len()];
        for (file, (path, ..)) in self.files.iter().zip(self.files()) {
            counts[file.object as usize] = u32::from(is_there(path));
        }
        counts
    }

    /// Every file in the order of the listing: path, size, the disks it lies on.
    pub fn files(&self) -> impl Iterator<Item = (&str, ByteLength, Vec<&str>)> {
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        starts.zip(&self.ends).zip(&self.files).enumerate().map(|(position, ((start, end), file))| {
            let path = &self.paths[start as usize..*end as usize];
            let path = std::str::from_utf8(path).expect("only text was added");
            let disks = self.objects_of(position).into_iter().map(|object| self.model.objects[object].disk);
            (path, file.size, disks.map(|disk| self.disk_name(disk)).collect())
        })
    }
}

/// Who finds places on disks that are empty.
fn lander(volume: &VolumeSpec, disks: &[PaperDisk], largest: ByteLength) -> Lander {
    let ground = |disk: &PaperDisk| Ground {
        name: disk.name.clone(),
        is_cache: disk.role == Role::Cache,
        total: disk.capacity,
        free: disk.capacity,
    };
    let grounds: Vec<Ground> = disks.iter().filter(|disk| disk.role != Role::Parity).map(ground).collect();
    Lander::new(volume, &grounds, largest)
}

/// The disks of a volume, without a file.
fn empty_model(volume: &VolumeSpec, disks: &[PaperDisk]) -> Model {
    let slot = |position: usize| u8::try_from(position).unwrap_or(u8::MAX);
    let mut model = Model::default();
    let data = volume.data.len();
    for position in 0..data {
        let slot = Slot::new(slot(position));
        model.lanes.push(LaneState { disk: index(position), slot, pieces: Vec::new() });
    }
    let mut position = data;
    for (parity, names) in volume.parity.iter().enumerate() {
        let mut start = 0;
        for (number, _) in names.iter().enumerate() {
            let is_last = number + 1 == names.len();
            let end = if is_last { u64::MAX } else { start + disks[position].capacity.granules() };
            let (rows, parity) = (Rows::new(start, end), ParityIndex::new(slot(parity)));
            model.parities.push(ParityState::new(index(position), parity, rows, Vec::new()));
            (start, position) = (end, position + 1);
        }
    }
    model.replicas = (0..disks.len()).map(|disk| (index(disk), 1)).collect();
    model
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fate::Fate;
    use crate::pool::parse;

    fn volume(parity: usize) -> PaperVolume {
        let names: Vec<String> = (0..3 + parity).map(|n| format!("\"d{n}\"")).collect();
        let disks: String =
            names.iter().map(|n| format!("[[disk]]\nname = {n}\ncapacity = \"1 GB\"\n")).collect();
        let (data, parity) = names.split_at(3);
        let text = format!(
            "[pool]\nname = \"p\"\n{disks}[[volume]]\nname = \"v\"\nkind = \"unstriped\"\ndata = [{}]\nparity = [{}]\n",
            data.join(","),
            parity.join(",")
        );
        let spec = parse(&text).spec.unwrap();
        PaperVolume::new(&spec, &spec.volumes[0]).unwrap()
    }

    #[test]
    fn files_are_placed_and_their_fates_told() {
        let mut volume = volume(1);
        for (path, megabytes) in [("a", 300), ("b", 200), ("c", 100), ("d", 0)] {
            volume.add(path, ByteLength::new(megabytes * 1_000_000)).unwrap();
        }
        let placed: Vec<_> =
            volume.files().map(|(path, _, disks)| format!("{path} {}", disks.join("+"))).collect();
        assert_eq!(placed, ["a d0", "b d1", "c d2", "d d2"]);
        assert_eq!(volume.guards().iter().map(|g| g.level).collect::<Vec<_>>(), [1, 1, 1, 3]);
        let lost = [volume.index("d0"), volume.index("d1")].into_iter().flatten().collect();
        // Beyond the end of b, a is alone in its rows: those come back, and the file is torn.
        assert_eq!(volume.fates(&lost), [Fate::Torn, Fate::Gone, Fate::Untouched, Fate::Untouched]);
        let used: Vec<u64> = volume.disks().iter().map(|d| d.used.exact() / 1_000_000).collect();
        assert_eq!(used, [300, 200, 100, 300], "parity reaches as far as the fullest disk");
    }

    #[test]
    fn what_does_not_fit_or_is_no_path_is_named() {
        let mut volume = volume(0);
        assert!(matches!(volume.add("big", ByteLength::new(2_000_000_000)), Err(PaperError::NoRoom(..))));
        assert!(matches!(volume.add("../x", ByteLength::ZERO), Err(PaperError::Path(..))));
        assert_eq!(volume.files().count(), 0);
    }
}
