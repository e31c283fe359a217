//! Putting files in: copied, synced, verified, and only then given their names.

mod copy;
mod plan;

use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

pub use copy::execute;
pub use plan::plan;

use crate::disk::{EntryKind, RealDisk};
use crate::fate::Count;

/// What is put where.
pub struct PutPlan {
    /// For each source the folder that it lies in.
    sources: Vec<RealDisk>,
    /// The folder of the volume that everything goes to.
    folder: RelPath,
    items: Vec<Item>,
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// What is left alone, in words.
    pub skipped: Vec<String>,
    /// Files that are there already and are replaced; what they were is held.
    pub replaced: u64,
}

/// One file, symlink or folder. There may be millions, so it is kept small.
struct Item {
    /// Its path below the folder of its source, and below the folder that it goes to.
    path: RelPath,
    size: ByteLength,
    kind: EntryKind,
    source: u32,
    /// The member it goes to, by its position in the pool.
    member: u16,
    /// It takes the place of the file of this name on that member.
    replaces: Option<u16>,
    /// It is a further name of this file, which is put as well.
    link_of: Option<Box<RelPath>>,
    /// It goes in pieces: the members, and how much each takes.
    pieces: Option<Box<[(u16, ByteLength)]>>,
}

impl PutPlan {
    fn source(&self, item: &Item) -> &RealDisk {
        &self.sources[item.source as usize]
    }

    /// Where something goes, by its path below the folder of its source.
    fn target(&self, path: &RelPath) -> RelPath {
        path.below(&self.folder)
    }
}

/// What was put.
#[derive(Debug, Default, Serialize)]
pub struct PutReport {
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// What was left alone, in words.
    pub skipped: Vec<String>,
    /// Files that were replaced.
    pub replaced: u64,
}
