//! Whether what came to another place is guarded there, so that what it was may go (L8).

use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, VersionId};

use crate::member::Member;
use crate::pieces;
use crate::pieces::PiecedFile;
use crate::pool::Pool;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{parity_state, versions};
use sieve_disk::Result;

/// Which files of a volume a sync has passed.
pub struct Guarded<'a> {
    pool: &'a Pool,
    volume: &'a str,
    has_parity: bool,
    pieced: Vec<PiecedFile>,
    lanes: BTreeMap<DiskId, BTreeSet<VersionId>>,
}

impl<'a> Guarded<'a> {
    /// Looks at a volume.
    ///
    /// # Errors
    /// What the database says.
    pub fn new(pool: &'a Pool, volume: &'a str) -> Result<Self> {
        let has_parity = pool.members_of(volume, Role::Parity).next().is_some();
        Ok(Self { pool, volume, has_parity, pieced: pieces::files(pool, volume)?, lanes: BTreeMap::new() })
    }

    /// Whether all that is on the data disks under a name is guarded by parity, or is not to be.
    pub(super) fn everything_named(&mut self, name: &RelPath) -> Result<bool> {
        if !self.has_parity {
            return Ok(true);
        }
        let data = self.pool.members_of(self.volume, Role::Data);
        let mut places: Vec<(DiskId, RelPath)> = data.map(|member| (member.row.id, name.clone())).collect();
        let parts = self.pieced.iter().filter(|file| file.path == *name).flat_map(|file| &file.pieces);
        places.extend(parts.map(|piece| (piece.disk, piece.path.clone())));
        for (disk, path) in places {
            if let Some(object) = objects::by_path(self.pool.catalogue.reading(), disk, &path)?
                && !self.is_passed(&object)?
            {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Whether a content is under a name of the volume at this moment, on as many of its data disks as it is to be on, and
    /// guarded there as the volume promises (L1, L8).
    ///
    /// # Errors
    /// What the database says.
    pub fn has(&mut self, name: &RelPath, whole: &[u8; 32], copies: usize) -> Result<bool> {
        let reading = self.pool.catalogue.reading();
        let mut there = 0;
        for member in self.pool.members_of(self.volume, Role::Data) {
            let Some(object) = objects::by_path(reading, member.row.id, name)? else { continue };
            let version = object.version.filter(|_| object.standing == Standing::Same);
            let known = version.map(|version| versions::get(reading, version)).transpose()?;
            let is_it = known.is_some_and(|known| !known.unfinished && known.sum.whole == *whole);
            if !is_it || !is_there(member, name, &object) || !self.is_passed(&object)? {
                return Ok(false);
            }
            there += 1;
        }
        if there >= copies {
            return Ok(true);
        }
        let pieced = self.pieced.iter().find(|file| file.path == *name && file.whole == *whole);
        let pieces = pieced.map(|file| file.pieces.clone()).unwrap_or_default();
        for piece in &pieces {
            let Some(object) = objects::by_path(reading, piece.disk, &piece.path)? else { return Ok(false) };
            if !is_there(self.pool.member(piece.disk)?, &piece.path, &object) || !self.is_passed(&object)? {
                return Ok(false);
            }
        }
        Ok(there == 0 && !pieces.is_empty())
    }

    fn is_passed(&mut self, object: &ObjectRow) -> Result<bool> {
        if object.left_out || !self.has_parity {
            return Ok(true);
        }
        let Some(version) = object.version.filter(|_| object.standing == Standing::Same) else {
            return Ok(false);
        };
        let encoded = match self.lanes.entry(object.disk) {
            Entry::Occupied(entry) => entry.into_mut(),
            Entry::Vacant(entry) => {
                let lane = parity_state::lane(self.pool.catalogue.reading(), object.disk)?;
                entry.insert(lane.iter().map(|piece| piece.value.version).collect())
            }
        };
        Ok(encoded.contains(&version) || object.size == ByteLength::ZERO)
    }
}

/// Whether a file is under a name now as the catalogue knows it.
pub(super) fn is_there(member: &Member, path: &RelPath, object: &ObjectRow) -> bool {
    let opened = member.usable().and_then(|disk| disk.open(path)?.stat());
    opened.is_ok_and(|stat| object.matches(&stat))
}
