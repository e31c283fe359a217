//! The state of a volume, as far as it decides what survives.

use std::collections::{BTreeMap, BTreeSet};

use crate::lane::{Rows, joined};
use crate::units::{ByteLength, MAX_PARITIES, ParityIndex, Slot};

/// The position of a disk in the model's list of members.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DiskIndex(pub u16);

/// Which disks are taken to be lost.
pub type LostSet = BTreeSet<DiskIndex>;

/// One stretch of a lane in the snapshot, and whether its content can be read on its own disk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct StatedPiece {
    /// Where it lies.
    pub rows: Rows,
    /// The content, as a position in [`Model::versions`].
    pub version: u32,
    /// The first granule of the content that lies here.
    pub offset: u64,
    /// The snapshot's content is not (or perhaps not) what the disk holds.
    pub stale: bool,
}

/// The lane of one data disk.
#[derive(Clone, Debug)]
pub struct LaneState {
    /// The disk.
    pub disk: DiskIndex,
    /// Its coefficient in the code.
    pub slot: Slot,
    /// The snapshot's pieces in order; where there is none, the lane is zero.
    pub pieces: Vec<StatedPiece>,
}

/// One parity disk.
#[derive(Clone, Debug)]
pub struct ParityState {
    /// The disk.
    pub disk: DiskIndex,
    /// Its row in the code.
    pub index: ParityIndex,
    /// The rows of its image that lie on it: all, unless the image goes on over several disks.
    pub rows: Rows,
    /// The rows where it cannot be used, in order; those that lie elsewhere among them.
    pub invalid: Vec<Rows>,
}

impl ParityState {
    /// All rows: those of an image that lies on one disk.
    pub const ALL: Rows = Rows::new(0, u64::MAX);

    /// A disk with `rows` of an image, which cannot be used in some of them.
    pub fn new(disk: DiskIndex, index: ParityIndex, rows: Rows, invalid: Vec<Rows>) -> Self {
        let mut parity = Self { disk, index, rows, invalid: Vec::new() };
        parity.set_invalid(invalid);
        parity
    }

    /// Says anew where it cannot be used; what lies elsewhere stays elsewhere.
    pub fn set_invalid(&mut self, mut invalid: Vec<Rows>) {
        invalid.push(Rows::new(0, self.rows.start()));
        invalid.push(Rows::new(self.rows.end(), u64::MAX));
        invalid.retain(|rows| !rows.is_empty());
        self.invalid = joined(invalid);
    }
}

/// One content that the snapshot knows.
#[derive(Clone, Copy, Debug)]
pub struct VersionState {
    /// Its length.
    pub size: ByteLength,
    /// The size of its checksum cells, in granules.
    pub cell: u64,
    /// Granules of it that lie in a lane when it is fully in the snapshot: all but holes.
    pub data: u64,
    /// Granules of it that do lie in the lane.
    pub mapped: u64,
    /// The checkpoint from which on replicas of the catalogue know it, 0 while none does: what has no data at all comes back
    /// from one of those.
    pub recorded: u32,
}

/// How the content on disk stands to the last one that was checksummed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Standing {
    /// Size, times and inode are as they were.
    Same,
    /// Only the change time moved: a rename or a touch, or an edit that put the times back.
    Doubtful,
    /// The modification time or the inode moved, the size did not.
    Touched,
    /// It has another size, so it is another content.
    Changed,
    /// It was read: the content differs although size and times say that it does not.
    Suspect,
}

/// One file as it lies on one disk.
#[derive(Clone, Copy, Debug)]
pub struct ObjectState {
    /// The disk.
    pub disk: DiskIndex,
    /// Its present length.
    pub size: ByteLength,
    /// The content last checksummed, as a position in [`Model::versions`]; none while it is new.
    pub version: Option<u32>,
    /// Whether that content is still the present one.
    pub standing: Standing,
    /// The content of the last sync, where it is another one.
    pub older: Option<u32>,
    /// Symlinks and the like: everything about it is in the catalogue. The checkpoint from which on replicas know it, 0 while
    /// none does.
    pub catalogued: Option<u32>,
}

/// A file that consists of several objects, as positions in [`Model::objects`]: one copy of it is enough, and so are all
/// its pieces.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Composite {
    /// Pieces in order, each with all objects that have its content, of which one is enough; the first has its name. None
    /// where the file is whole wherever it is.
    pub pieces: Vec<Vec<u32>>,
    /// Objects with all of its content.
    pub copies: Vec<u32>,
}

impl Composite {
    /// A file in pieces, each of which is there once.
    pub fn of_pieces(pieces: Vec<u32>) -> Self {
        Self { pieces: pieces.into_iter().map(|piece| vec![piece]).collect(), copies: Vec::new() }
    }

    /// A file with copies.
    pub const fn of_copies(copies: Vec<u32>) -> Self {
        Self { pieces: Vec::new(), copies }
    }

    /// Its objects; the first of them stands for the file.
    pub fn objects(&self) -> impl Iterator<Item = u32> + Clone {
        self.pieces.iter().flatten().chain(&self.copies).copied()
    }
}

/// Everything that decides what survives.
#[derive(Clone, Debug, Default)]
pub struct Model {
    /// The data disks' lanes.
    pub lanes: Vec<LaneState>,
    /// The parity disks.
    pub parities: Vec<ParityState>,
    /// The contents.
    pub versions: Vec<VersionState>,
    /// For contents that are only partly in the snapshot: the granules that are not.
    pub unmapped: BTreeMap<u32, Vec<Rows>>,
    /// The objects. What waits on a cache is an object of a disk without a lane, and new until it has moved.
    pub objects: Vec<ObjectState>,
    /// The files that consist of several objects; every other object is a file by itself.
    pub composites: Vec<Composite>,
    /// The disks that carry a replica of the catalogue, each with the checkpoint that it is of.
    pub replicas: BTreeMap<DiskIndex, u32>,
}

impl Model {
    /// The disks with a replica that knows what replicas know from this checkpoint on; none of what none knows.
    pub fn replicas_with(&self, recorded: u32) -> impl Iterator<Item = DiskIndex> {
        self.replicas.iter().filter(move |(_, of)| recorded > 0 && **of >= recorded).map(|(disk, _)| *disk)
    }

    /// Adds a parity drive that is computed wherever all of a row can be had, as the disk after the last of so many;
    /// nothing where there are eight already.
    pub fn add_parity(&mut self, disks: usize) {
        let is_free = |index: &u8| self.parities.iter().all(|parity| parity.index.get() != *index);
        let free = (0..MAX_PARITIES as u8).find(is_free);
        if let (Some(index), Ok(disk)) = (free, u16::try_from(disks)) {
            let stale = self.lanes.iter().flat_map(|lane| &lane.pieces).filter(|piece| piece.stale);
            let invalid = joined(stale.map(|piece| piece.rows).collect());
            let index = ParityIndex::new(index);
            self.parities.push(ParityState::new(DiskIndex(disk), index, ParityState::ALL, invalid));
        }
    }

    /// Moves objects to the end of another data disk, as a move and a sync would; nothing where that has no lane.
    pub fn move_objects(&mut self, objects: &[u32], to: DiskIndex) {
        let Some(target) = self.lanes.iter().position(|lane| lane.disk == to) else { return };
        let versions: BTreeSet<u32> =
            objects.iter().filter_map(|object| self.objects[*object as usize].version).collect();
        let mut moved = Vec::new();
        for lane in self.lanes.iter_mut().filter(|lane| lane.disk != to) {
            moved.extend(lane.pieces.extract_if(.., |piece| versions.contains(&piece.version)));
        }
        let pieces = &mut self.lanes[target].pieces;
        let mut next = pieces.last().map_or(0, |piece| piece.rows.end());
        for piece in moved {
            let rows = Rows::new(next, next + piece.rows.length());
            next = rows.end();
            pieces.push(StatedPiece { rows, stale: false, ..piece });
        }
        for object in objects {
            self.objects[*object as usize].disk = to;
        }
    }

    /// The rows that the snapshot gives to an object's present content, or else to an older one.
    pub fn rows_of(&self, object: &ObjectState) -> Vec<Rows> {
        let contents = object.present().into_iter().chain(object.past());
        let lane = self.lanes.iter().find(|lane| lane.disk == object.disk);
        let rows = |content: u32| -> Vec<Rows> {
            let pieces = lane.into_iter().flat_map(|lane| &lane.pieces);
            joined(pieces.filter(|piece| piece.version == content).map(|piece| piece.rows).collect())
        };
        contents.map(rows).find(|rows| !rows.is_empty()).unwrap_or_default()
    }
}

impl VersionState {
    /// Whether all of it is in the snapshot.
    pub fn is_complete(&self) -> bool {
        if self.data == 0 { self.recorded > 0 } else { self.mapped == self.data }
    }

    /// The number of its checksum cells.
    pub fn cells(&self) -> u64 {
        self.size.granules().div_ceil(self.cell)
    }
}

impl ObjectState {
    /// The content that is known to be the present one.
    pub fn present(&self) -> Option<u32> {
        self.version.filter(|_| self.standing == Standing::Same)
    }

    /// The contents that would do as an older state, the newest first.
    pub fn past(&self) -> impl Iterator<Item = u32> {
        let outdated = self.version.filter(|_| self.standing != Standing::Same);
        outdated.into_iter().chain(self.older)
    }
}
