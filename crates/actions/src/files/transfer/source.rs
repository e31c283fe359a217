//! A volume as one tree that files are copied out of.

use std::collections::HashMap;
use std::sync::Arc;

use sieve_catalogue::label::Role;
use sieve_catalogue::{objects, versions};
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::DiskId;
use sieve_disk::{Disk, EntryKind, ReadFile, Result, Stat};
use sieve_disk::{Error, Kind};
use sieve_pool::pieces;
use sieve_pool::pieces::{Joined, PiecedFile};
use sieve_pool::pool::Pool;

use crate::files::put::Source;

/// What lies in a volume: folders of all its disks together, files in pieces as wholes, copies once.
pub(super) struct OfVolume {
    name: String,
    /// Data disks before caches: what a sync has passed comes first.
    disks: Vec<(DiskId, Arc<dyn Disk>)>,
    pieced: HashMap<RelPath, Whole>,
}

/// A file in pieces, with what it takes to read it.
struct Whole {
    file: PiecedFile,
    disks: Vec<Arc<dyn Disk>>,
}

impl OfVolume {
    pub(super) fn open(pool: &Pool, volume: &VolumeSpec) -> Result<Self> {
        let mut disks = Vec::new();
        for role in [Role::Data, Role::Cache] {
            for member in pool.members_of(&volume.name, role) {
                disks.push((member.row.id, Arc::clone(member.usable()?)));
            }
        }
        let mut pieced = HashMap::new();
        for file in pieces::files(pool, &volume.name)? {
            let on = |piece: &sieve_catalogue::pieces::PieceRow| {
                Ok(Arc::clone(pool.member(piece.disk)?.usable()?))
            };
            let disks = file.pieces.iter().map(on).collect::<Result<_>>()?;
            pieced.insert(file.path.clone(), Whole { file, disks });
        }
        Ok(Self { name: volume.name.clone(), disks, pieced })
    }

    /// The first disk that has something of that name.
    fn place(&self, path: &RelPath) -> Result<Option<(DiskId, &dyn Disk, Stat)>> {
        for (id, disk) in &self.disks {
            if let Some(stat) = disk.stat(path)? {
                return Ok(Some((*id, &**disk, stat)));
            }
        }
        Ok(None)
    }

    fn on(&self, path: &RelPath) -> Result<&dyn Disk> {
        let place = self.place(path)?;
        place.map(|(_, disk, _)| disk).ok_or_else(|| self.gone(path))
    }

    fn gone(&self, path: &RelPath) -> Error {
        let message = format!("{}: it is no longer there", self.shown(path));
        Error::new(Kind::NotFound, "file.not-found", message)
    }
}

impl Source for OfVolume {
    fn stat(&self, path: &RelPath) -> Result<Option<Stat>> {
        if path.is_ours() {
            return Ok(None);
        }
        if let Some((_, _, stat)) = self.place(path)? {
            return Ok(Some(stat));
        }
        let looks = self.pieced.get(path).map(Whole::stat).transpose()?;
        Ok(looks.flatten())
    }

    fn list(&self, folder: &RelPath) -> Result<Vec<Vec<u8>>> {
        let mut names = Vec::new();
        for (_, disk) in &self.disks {
            if disk.stat(folder)?.is_some_and(|stat| stat.kind == EntryKind::Folder) {
                names.extend(disk.list(folder)?);
            }
        }
        let here = self.pieced.keys().filter(|path| path.parent().unwrap_or_default() == *folder);
        names.extend(here.map(|path| path.file_name().to_vec()));
        names.sort_unstable();
        names.dedup();
        Ok(names)
    }

    fn open(&self, path: &RelPath) -> Result<Box<dyn ReadFile>> {
        match self.place(path)? {
            Some((_, disk, _)) => disk.open(path),
            None => Ok(Box::new(self.pieced.get(path).ok_or_else(|| self.gone(path))?.open()?)),
        }
    }

    fn read_link(&self, path: &RelPath) -> Result<Vec<u8>> {
        self.on(path)?.read_link(path)
    }

    fn extended_attributes(&self, path: &RelPath) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        match (self.place(path)?, self.pieced.get(path)) {
            (None, Some(whole)) => whole.extended_attributes(),
            _ => self.on(path)?.extended_attributes(path),
        }
    }

    fn shown(&self, path: &RelPath) -> String {
        format!("{}:/{path}", self.name)
    }

    fn known(&self, pool: &Pool, path: &RelPath, stat: &Stat) -> Result<Option<[u8; 32]>> {
        let reading = pool.catalogue.reading();
        let Some((disk, _, _)) = self.place(path)? else {
            return Ok(self.pieced.get(path).map(|whole| whole.file.whole));
        };
        let object = objects::by_path(reading, disk, path)?;
        let object = object.filter(|object| object.matches(stat) && object.standing == Standing::Same);
        let known =
            object.and_then(|o| o.version).map(|version| versions::get(reading, version)).transpose()?;
        Ok(known.filter(|known| !known.unfinished).map(|known| known.sum.whole))
    }
}

impl Whole {
    fn parts(&self) -> impl Iterator<Item = (&sieve_catalogue::pieces::PieceRow, &dyn Disk)> {
        self.file.pieces.iter().zip(self.disks.iter().map(|disk| &**disk))
    }

    fn open(&self) -> Result<Joined> {
        Joined::open(&self.file, self.parts().map(|(_, disk)| disk))
    }

    fn stat(&self) -> Result<Option<Stat>> {
        let Some((first, disk)) = self.parts().next() else { return Ok(None) };
        Ok(disk.stat(&first.path)?.map(|stat| Joined::stat_of(stat, &self.file)))
    }

    fn extended_attributes(&self) -> Result<Vec<(Vec<u8>, Vec<u8>)>> {
        match self.parts().next() {
            Some((first, disk)) => disk.extended_attributes(&first.path),
            None => Ok(Vec::new()),
        }
    }
}
