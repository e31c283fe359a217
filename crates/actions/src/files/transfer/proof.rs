//! Whether the other volume has what is to be taken away, at this moment and guarded (L1, L8).

use std::collections::HashMap;

use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::units::DiskId;
use sieve_disk::{EntryKind, Result};
use sieve_pool::held::Guarded;
use sieve_pool::pieces;
use sieve_pool::pool::Pool;

use crate::files::moves::LeftAlone;
use crate::files::read::content_of;

const NOT_THE_SAME: &str = "the other volume has not the same content under this name, guarded";
const NOT_THERE: &str = "it came after the rest was copied";

/// Looks at both volumes.
pub(super) struct Proof<'a> {
    pool: &'a Pool,
    to: &'a str,
    guarded: Guarded<'a>,
    /// How many disks are to have a file.
    copies: usize,
    /// For each piece in the first volume the file that it belongs to, and its checksum.
    pieces: HashMap<(DiskId, RelPath), (RelPath, [u8; 32])>,
}

impl<'a> Proof<'a> {
    pub(super) fn new(pool: &'a Pool, from: &str, to: &'a str) -> Result<Self> {
        let spec = pool.volume(Some(to))?;
        let copies = if spec.kind == VolumeKind::Mirrored { spec.copies } else { 1 };
        let mut belongs = HashMap::new();
        // What an interrupted removal left of a file is proven by what it says itself.
        for file in pieces::files(pool, from)?.into_iter().chain(pieces::rests(pool, from)?) {
            for piece in file.pieces {
                belongs.insert((piece.disk, piece.path), (file.path.clone(), file.whole));
            }
        }
        Ok(Self { pool, to, guarded: Guarded::new(pool, to)?, copies, pieces: belongs })
    }

    /// What of the first volume has to stay, and why.
    pub(super) fn stays(&mut self, disk: DiskId, path: &RelPath) -> Result<Option<LeftAlone>> {
        let name = self.pieces.get(&(disk, path.clone())).map_or(path, |(name, _)| name).to_string();
        Ok(self.why(disk, path)?.map(|why| LeftAlone { path: name, why: why.into() }))
    }

    fn why(&mut self, disk: DiskId, path: &RelPath) -> Result<Option<&'static str>> {
        if let Some((name, whole)) = self.pieces.get(&(disk, path.clone())) {
            let has_it = self.guarded.has(name, whole, self.copies)?;
            return Ok((!has_it).then_some(NOT_THE_SAME));
        }
        let from = self.pool.member(disk)?.usable()?;
        let Some(stat) = from.stat(path)? else { return Ok(None) };
        match stat.kind {
            EntryKind::File => {
                let content = content_of(self.pool, self.pool.member(disk)?, path)?;
                let Some(content) = content else { return Ok(Some(NOT_THE_SAME)) };
                let has_it = self.guarded.has(path, &content.whole, self.copies)?;
                Ok((!has_it).then_some(NOT_THE_SAME))
            }
            EntryKind::Symlink => {
                let target = from.read_link(path)?;
                self.any(path, stat.kind, |disk| Ok(disk.read_link(path)? == target))
            }
            kind => self.any(path, kind, |_| Ok(true)),
        }
    }

    /// Whether a disk of the other volume has something of the same name that is as wanted.
    fn any(
        &self,
        path: &RelPath,
        kind: EntryKind,
        is_it: impl Fn(&dyn sieve_disk::Disk) -> Result<bool>,
    ) -> Result<Option<&'static str>> {
        for member in self.pool.file_members(self.to) {
            let disk = member.usable()?;
            if disk.stat(path)?.is_some_and(|stat| stat.kind == kind) && is_it(&**disk)? {
                return Ok(None);
            }
        }
        Ok(Some(NOT_THERE))
    }
}
