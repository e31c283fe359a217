//! A volume on paper: disks that need not exist, a listing of files, and the same model as for a real one.

use crate::checksum::cell_size;
use crate::fate::{
    DiskIndex, Guard, LaneState, LostSet, Model, ObjectState, ParityState, Standing, StatedPiece, Verdicts,
    VersionState, guards, verdicts,
};
use crate::lane::Rows;
use crate::path::{PathError, RelPath};
use crate::placement::Placer;
use crate::pool::{PoolSpec, VolumeSpec};
use crate::units::{ByteLength, GRANULE, ParityIndex, Slot};

/// A volume on paper.
pub struct PaperVolume {
    name: String,
    /// Data disks, then parity disks: in the order of [`DiskIndex`].
    disks: Vec<PaperDisk>,
    data: usize,
    model: Model,
    placer: Placer,
    /// All paths one after another, and where each ends: a million of them in one piece of memory.
    paths: Vec<u8>,
    ends: Vec<u64>,
}

/// A disk of a volume on paper.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PaperDisk {
    /// Its name.
    pub name: String,
    /// All its space.
    pub capacity: ByteLength,
    /// What files, or parity, take of it.
    pub used: ByteLength,
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
}

impl PaperVolume {
    /// An empty volume as its pool file describes it.
    ///
    /// # Errors
    /// When the capacity of a disk is not known.
    pub fn new(pool: &PoolSpec, volume: &VolumeSpec) -> Result<Self, PaperError> {
        let capacity = |name: &str| {
            let known = pool.disk(name).and_then(|d| d.capacity);
            known.ok_or_else(|| PaperError::NoCapacity(name.into()))
        };
        let disk = |name: &str| {
            Ok(PaperDisk { name: name.into(), capacity: capacity(name)?, used: ByteLength::ZERO })
        };
        let disks = volume.members().map(disk).collect::<Result<Vec<_>, PaperError>>()?;
        let data = volume.data.len();
        let index = |position: usize| DiskIndex(u16::try_from(position).unwrap_or(u16::MAX));
        let slot = |position: usize| u8::try_from(position).unwrap_or(u8::MAX);
        let mut model = Model::default();
        for position in 0..data {
            model.lanes.push(LaneState {
                disk: index(position),
                slot: Slot::new(slot(position)),
                pieces: Vec::new(),
            });
        }
        let mut position = data;
        for (parity, names) in volume.parity.iter().enumerate() {
            let mut start = 0;
            for (part, _) in names.iter().enumerate() {
                let is_last = part + 1 == names.len();
                let end = if is_last { u64::MAX } else { start + disks[position].capacity.granules() };
                let (rows, parity) = (Rows::new(start, end), ParityIndex::new(slot(parity)));
                model.parities.push(ParityState::new(index(position), parity, rows, Vec::new()));
                (start, position) = (end, position + 1);
            }
        }
        model.replicas = (0..disks.len()).map(|disk| (index(disk), 1)).collect();
        let placer = Placer::new(volume.placement, disks[..data].iter().map(|d| d.capacity).collect());
        Ok(Self {
            name: volume.name.clone(),
            disks,
            data,
            model,
            placer,
            paths: Vec::new(),
            ends: Vec::new(),
        })
    }

    /// Puts a file where the volume's placement puts it; it counts as synced.
    ///
    /// # Errors
    /// When its path is none, or it fits on no disk.
    pub fn add(&mut self, path: &str, size: ByteLength) -> Result<(), PaperError> {
        let read = RelPath::new(path).map_err(|e| PaperError::Path(path.into(), e))?;
        let Some(disk) = self.placer.place(&read, size) else {
            return Err(PaperError::NoRoom(path.into(), size, self.placer.largest_free()));
        };
        let granules = size.granules();
        let version =
            u32::try_from(self.model.versions.len()).expect("a listing has fewer than 4 billion files");
        let (cell, recorded) = (cell_size(size) / GRANULE, 1);
        self.model.versions.push(VersionState { size, cell, data: granules, mapped: granules, recorded });
        self.model.objects.push(ObjectState {
            disk: DiskIndex(u16::try_from(disk).unwrap_or(u16::MAX)),
            size,
            version: Some(version),
            standing: Standing::Same,
            older: None,
            catalogued: None,
        });
        if granules > 0 {
            let start = self.disks[disk].used.granules();
            let rows = Rows::at(start, granules);
            self.model.lanes[disk].pieces.push(StatedPiece { rows, version, offset: 0, stale: false });
            self.disks[disk].used = ByteLength::new(rows.end() * GRANULE);
        }
        self.paths.extend_from_slice(path.as_bytes());
        self.ends.push(self.paths.len() as u64);
        Ok(())
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its disks with what is on them: data disks first; parity reaches as far as the fullest of them.
    pub fn disks(&self) -> Vec<PaperDisk> {
        let reach = self.disks[..self.data].iter().map(|d| d.used).max().unwrap_or_default();
        let parity = self.disks[self.data..].iter().map(|d| PaperDisk { used: reach, ..d.clone() });
        self.disks[..self.data].iter().cloned().chain(parity).collect()
    }

    /// How many of its disks hold files; the rest hold parity.
    pub const fn data_disks(&self) -> usize {
        self.data
    }

    /// The position of a disk.
    pub fn index(&self, disk: &str) -> Option<DiskIndex> {
        let position = self.disks.iter().position(|d| d.name == disk)?;
        u16::try_from(position).ok().map(DiskIndex)
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

    /// The fate of every file when these disks are lost.
    pub fn verdicts(&self, lost: &LostSet) -> Verdicts {
        verdicts(&self.model, lost)
    }

    /// The guard of every file.
    pub fn guards(&self) -> Vec<Guard> {
        guards(&self.model, &LostSet::new())
    }

    /// Every file in the order of the listing: path, size, the disk it lies on.
    pub fn files(&self) -> impl Iterator<Item = (&str, ByteLength, &str)> {
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        starts.zip(&self.ends).zip(&self.model.objects).map(|((start, end), object)| {
            let path = &self.paths[start as usize..*end as usize];
            let path = std::str::from_utf8(path).expect("only text was added");
            (path, object.size, self.disks[usize::from(object.disk.0)].name.as_str())
        })
    }
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
        let placed: Vec<_> = volume.files().map(|(path, _, disk)| format!("{path} {disk}")).collect();
        assert_eq!(placed, ["a d0", "b d1", "c d2", "d d2"]);
        assert_eq!(volume.guards().iter().map(|g| g.level).collect::<Vec<_>>(), [1, 1, 1, 3]);
        let lost = [volume.index("d0"), volume.index("d1")].into_iter().flatten().collect();
        // Beyond the end of b, a is alone in its rows: those come back, and the file is torn.
        assert_eq!(volume.verdicts(&lost).fates, [Fate::Torn, Fate::Gone, Fate::Untouched, Fate::Untouched]);
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
