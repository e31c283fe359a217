//! What readers make of moves and of pieces that are under way, or were cut off: until a source is gone, it is the file, and
//! what was made of it is none yet. Recovery is for those who hold the locks (L3).

use std::collections::HashSet;

use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::pool::Pool;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::relocation::{Destination, Move};
use sieve_catalogue::{objects, pieces};
use sieve_disk::Result;

/// Names that are to become files.
#[derive(Default)]
pub struct Unfinished {
    copies: HashSet<(DiskId, RelPath)>,
    pieced: HashSet<RelPath>,
}

impl Unfinished {
    /// Looks at what is written down of moves.
    ///
    /// # Errors
    /// What the database says.
    pub fn look(pool: &Pool) -> Result<Self> {
        let mut unfinished = Self::default();
        let reading = pool.catalogue.reading();
        for (_, intent) in intents::all(reading)? {
            match intent {
                Intent::Relocate { moves } => unfinished.add_moves(pool, &moves)?,
                // Who was cut off before these were recorded takes them back: nobody was told that they are there.
                Intent::Pieces { pieces } => {
                    for (disk, piece) in pieces {
                        unfinished.pieced.extend(pieces::file_of(reading, disk, &piece)?);
                    }
                }
                // Until the first of its pieces is held, they are the file.
                Intent::Whole { disk, path, pieces, .. } => {
                    let mut is_there = true;
                    for (disk, piece) in &pieces {
                        is_there &= objects::by_path(reading, *disk, &objects::path_of(piece)?)?.is_some();
                    }
                    if is_there {
                        unfinished.copies.insert((disk, objects::path_of(&path)?));
                    }
                }
                _ => {}
            }
        }
        Ok(unfinished)
    }

    fn add_moves(&mut self, pool: &Pool, moves: &[Move]) -> Result<()> {
        let reading = pool.catalogue.reading();
        for file in moves {
            for source in &file.from {
                for name in objects::names(reading, source.object)?.into_iter().filter(|n| !n.is_held()) {
                    match &file.to {
                        Destination::Whole(disks) => {
                            self.copies.extend(disks.iter().map(|disk| (*disk, name.clone())));
                        }
                        Destination::Pieces(_) => {
                            self.pieced.insert(name);
                        }
                    }
                }
            }
        }
        Ok(())
    }

    /// Whether a name on a disk is a copy whose source is still the file.
    pub fn has(&self, disk: DiskId, path: &RelPath) -> bool {
        !self.copies.is_empty() && self.copies.contains(&(disk, path.clone()))
    }

    /// The copies whose source is still the file: their disks and names.
    pub(crate) fn copies(&self) -> impl Iterator<Item = &(DiskId, RelPath)> {
        self.copies.iter()
    }

    /// Whether a file in pieces has a source that is still the file.
    pub fn has_pieced(&self, path: &RelPath) -> bool {
        self.pieced.contains(path)
    }

    /// Whether a name is one of either.
    pub fn names(&self, path: &RelPath) -> bool {
        self.pieced.contains(path) || self.copies.iter().any(|(_, name)| name == path)
    }
}
