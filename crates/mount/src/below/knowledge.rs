//! What the catalogue tells a mounted volume: what lies on disks that are not there, which files lie in pieces, and what of
//! a disk parity guards. Nothing is ever written here.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};

use sieve_catalogue::folders::InFolder;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{disks, held_files, nodes, objects, versions};
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::{Attributes, EntryKind, Result};
use sieve_pool::fate::Unfinished;
use sieve_pool::pieces;
use sieve_pool::pieces::PiecedFile;
use sieve_pool::pool::Pool;

use crate::guarded;
use crate::tree::number::Number;

/// What is known of a volume.
pub(crate) struct Knowledge {
    volume: String,
    /// Only then files may lie in pieces.
    is_spanned: bool,
    pool: Mutex<Pool>,
    pieced: Mutex<Pieced>,
}

type PiecedFiles = Arc<BTreeMap<RelPath, Arc<PiecedFile>>>;

/// The files in pieces as they were when the catalogue was seen like this.
#[derive(Default)]
struct Pieced {
    seen: Option<i64>,
    files: PiecedFiles,
}

/// Something that lies on a disk that is not there.
pub(crate) struct Absent {
    pub(crate) disk: DiskId,
    pub(crate) number: Number,
    pub(crate) what: AbsentThing,
}

/// What it is.
pub(crate) enum AbsentThing {
    File(ObjectRow, Attributes),
    Other(NodeRow),
}

impl Knowledge {
    pub(crate) fn of(pool: Pool, spec: &VolumeSpec) -> Self {
        let is_spanned = spec.kind == VolumeKind::Spanned;
        Self { volume: spec.name.clone(), is_spanned, pool: Mutex::new(pool), pieced: Mutex::default() }
    }

    fn pool(&self) -> MutexGuard<'_, Pool> {
        guarded(&self.pool)
    }

    /// What one of these disks has at a path; a copy that was not finished is none.
    pub(crate) fn absent(&self, disks: &[DiskId], path: &RelPath) -> Result<Option<Absent>> {
        let pool = self.pool();
        let reading = pool.catalogue.reading();
        for disk in disks {
            if let Some(object) = objects::by_path(reading, *disk, path)?
                && !Unfinished::look(&pool)?.has(*disk, path)
            {
                let attributes = objects::attributes(reading, object.id)?;
                let number = Number::on(*disk, object.inode);
                let what = AbsentThing::File(object, attributes);
                return Ok(Some(Absent { disk: *disk, number, what }));
            }
            if let Some(node) = nodes::get(reading, *disk, path)? {
                let number = Number::of_path(path);
                return Ok(Some(Absent { disk: *disk, number, what: AbsentThing::Other(node) }));
            }
        }
        Ok(None)
    }

    /// The names that these disks have in a folder.
    pub(crate) fn absent_in(
        &self,
        disks: &[DiskId],
        folder: &RelPath,
    ) -> Result<Vec<(Vec<u8>, EntryKind, Number)>> {
        let pool = self.pool();
        let reading = pool.catalogue.reading();
        let mut found = Vec::new();
        for disk in disks {
            objects::for_each_known_in(reading, *disk, folder, |name, entry| {
                if let InFolder::Entry(known) = entry {
                    let number = Number::on(*disk, known.stamp.inode);
                    found.push((name.to_vec(), EntryKind::File, number));
                }
                Ok(())
            })?;
            nodes::for_each_in_folder(reading, *disk, folder, |name, entry| {
                if let (InFolder::Entry(node), Ok(path)) = (entry, folder.join(name)) {
                    found.push((name.to_vec(), node.kind, Number::of_path(&path)));
                }
                Ok(())
            })?;
        }
        Ok(found)
    }

    /// The file of an inode, whatever it is called, of which a content is known: parity may have it.
    pub(crate) fn known(&self, disk: DiskId, inode: u64) -> Result<Option<ObjectRow>> {
        objects::known_by_inode(self.pool().catalogue.reading(), disk, inode)
    }

    /// How much of a disk is held.
    pub(crate) fn held(&self, disk: DiskId) -> Result<ByteLength> {
        held_files::bytes(self.pool().catalogue.reading(), disk)
    }

    /// Where the content of a file that is not there is held: it went from one disk to another, and no sync has passed it.
    pub(crate) fn held_as(&self, object: &ObjectRow, path: &RelPath) -> Result<Vec<(RelPath, ObjectRow)>> {
        let pool = self.pool();
        let reading = pool.catalogue.reading();
        let whole = |object: &ObjectRow| -> Result<Option<[u8; 32]>> {
            let known = object.version.filter(|_| object.standing == Standing::Same);
            Ok(known.map(|version| versions::get(reading, version)).transpose()?.map(|row| row.sum.whole))
        };
        let Some(wanted) = whole(object)? else { return Ok(Vec::new()) };
        let mut found = Vec::new();
        for member in pool.file_members(&self.volume) {
            let held = held_files::all(reading, member.row.id)?.into_iter();
            for held in held.filter(|held| held.original == *path) {
                let Some(copy) = objects::by_path(reading, member.row.id, &held.path)? else { continue };
                if whole(&copy)? == Some(wanted) {
                    found.push((held.path, copy));
                }
            }
        }
        Ok(found)
    }

    /// The attributes of an object.
    pub(crate) fn attributes(&self, object: &ObjectRow) -> Result<Attributes> {
        objects::attributes(self.pool().catalogue.reading(), object.id)
    }

    /// What is known of a file by its place.
    pub(crate) fn object_at(&self, disk: DiskId, path: &RelPath) -> Result<Option<ObjectRow>> {
        objects::by_path(self.pool().catalogue.reading(), disk, path)
    }

    /// How much of a disk files take, as far as the last look at all of it knew, and when that was.
    pub(crate) fn used(&self, disk: DiskId) -> Result<(ByteLength, i64)> {
        let pool = self.pool();
        let rows = disks::all(pool.catalogue.reading())?;
        let looked_at = rows.iter().find(|row| row.id == disk).and_then(|row| row.scanned_at).unwrap_or(0);
        Ok((objects::taken(pool.catalogue.reading(), disk)?.bytes, looked_at))
    }

    /// The names of disks.
    pub(crate) fn names_of(&self, disks: impl Iterator<Item = DiskId>) -> Vec<String> {
        let pool = self.pool();
        disks.filter_map(|disk| Some(pool.member(disk).ok()?.row.name.clone())).collect()
    }

    /// The files in pieces.
    pub(crate) fn pieced(&self) -> Result<PiecedFiles> {
        if !self.is_spanned {
            return Ok(PiecedFiles::default());
        }
        let pool = self.pool();
        let seen = pool.catalogue.seen();
        let mut known = guarded(&self.pieced);
        if seen.is_none() || known.seen != seen {
            let unfinished = Unfinished::look(&pool)?;
            let whole = pieces::files(&pool, &self.volume)?;
            let whole = whole.into_iter().filter(|file| !unfinished.has_pieced(&file.path));
            let files = whole.map(|file| (file.path.clone(), Arc::new(file))).collect();
            *known = Pieced { seen, files: Arc::new(files) };
        }
        Ok(Arc::clone(&known.files))
    }
}
