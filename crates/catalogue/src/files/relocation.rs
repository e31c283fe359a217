//! Files on their way from members to others, as an intent has them.

use serde::{Deserialize, Serialize};
use sieve_core::units::{ByteLength, DiskId, ObjectId};

/// What becomes of a source whose copy is in place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Leaving {
    /// It is held until a sync has passed the copy.
    Hold,
    /// It goes.
    Go,
}

/// One source: a disk, the object on it, and what becomes of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Source {
    /// The disk.
    pub disk: DiskId,
    /// The object.
    pub object: ObjectId,
    /// What becomes of it.
    pub leaving: Leaving,
}

/// Where a file goes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Destination {
    /// Whole on each of these disks.
    Whole(Vec<DiskId>),
    /// In pieces, in this order, each so long.
    Pieces(Vec<(DiskId, ByteLength)>),
}

impl Destination {
    /// The disks, in order.
    pub fn disks(&self) -> Vec<DiskId> {
        match self {
            Self::Whole(disks) => disks.clone(),
            Self::Pieces(pieces) => pieces.iter().map(|(disk, _)| *disk).collect(),
        }
    }
}

/// One file that moves.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Move {
    /// Where it lies now: copies of each other. The first is read, and all leave.
    pub from: Vec<Source>,
    /// Where it goes.
    pub to: Destination,
    /// Its length.
    pub size: ByteLength,
}
