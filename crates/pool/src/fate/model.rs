//! The model of a volume that the core decides fates by, and which of its parts is what in the catalogue.

use crate::pieces::PiecedFile;
use sieve_core::fate::{DiskIndex, LostSet, Model};
use sieve_core::path::RelPath;
use sieve_core::units::{DiskId, ObjectId, VersionId};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// A volume as a model, and which of its parts is what in the catalogue.
#[derive(Clone)]
pub struct VolumeModel {
    /// The volume.
    pub volume: String,
    /// What the core computes with.
    pub model: Model,
    /// The members, in the order of [`DiskIndex`].
    pub disks: Vec<DiskId>,
    /// The members that are not there: they are lost in any case.
    pub missing: LostSet,
    /// For each file of the model its number; symlinks follow after them.
    pub(crate) object_ids: Vec<i64>,
    /// The numbers of the contents, rising.
    pub(crate) version_ids: Vec<i64>,
    /// For each disk the position of its first symlink.
    pub(crate) first_symlink: BTreeMap<DiskId, usize>,
    /// Paths that are taken to be removed: what is in them is held, and no file of the volume.
    pub removed: Vec<RelPath>,
    /// Objects that are taken to be lost for good already.
    pub vanished: BTreeSet<usize>,
    /// The file of several objects that an object is part of, as a position in the model's list.
    pub composite_of: HashMap<u32, u32>,
    /// Files in pieces, by the position of their first piece.
    pub(crate) pieced: HashMap<usize, PiecedFile>,
    /// Objects of such files that are held, so that the file has no name there.
    pub is_held: HashSet<u32>,
}

impl VolumeModel {
    /// The index of a disk in the model.
    pub fn index(&self, disk: DiskId) -> Option<DiskIndex> {
        let position = self.disks.iter().position(|d| *d == disk)?;
        u16::try_from(position).ok().map(DiskIndex)
    }

    /// The index in the model of a disk of this volume.
    pub fn sure_index(&self, disk: DiskId) -> DiskIndex {
        self.index(disk).expect("the disk is a member of this volume")
    }

    /// The position of a content in the model.
    pub fn version_index(&self, version: VersionId) -> Option<u32> {
        let found = self.version_ids.binary_search(&version.get()).ok()?;
        u32::try_from(found).ok()
    }

    /// The position of a content that is likely to come soon after the one before: `near` is where that was.
    pub(crate) fn version_near(&self, version: VersionId, near: &mut usize) -> Option<u32> {
        const AHEAD: usize = 64;
        let ahead = self.version_ids.get(*near..).unwrap_or_default();
        let ahead = &ahead[..ahead.len().min(AHEAD)];
        let found = match ahead.iter().position(|id| *id == version.get()) {
            Some(steps) => *near + steps,
            None => self.version_ids.binary_search(&version.get()).ok()?,
        };
        *near = found;
        u32::try_from(found).ok()
    }

    /// The number of a content of the model; none for one that is only taken to be there.
    pub fn version_id(&self, index: u32) -> Option<VersionId> {
        self.version_ids.get(index as usize).copied().map(VersionId::new)
    }

    /// The number of an object of the model; symlinks have none.
    pub fn object_id(&self, position: usize) -> Option<ObjectId> {
        self.object_ids.get(position).copied().map(ObjectId::new)
    }

    /// The position of an object in the model.
    pub fn object_index(&self, object: ObjectId) -> Option<usize> {
        self.object_ids.binary_search(&object.get()).ok()
    }

    /// The members that are not there, besides those named: all are counted as lost.
    pub fn lost_set(&self, named: &[DiskId]) -> LostSet {
        named.iter().filter_map(|id| self.index(*id)).chain(self.missing.iter().copied()).collect()
    }

    /// The checkpoint of the newest replica of the catalogue that is left when these are lost, 0 where none is: what lives
    /// in the catalogue alone comes back as far as that knows it.
    pub fn newest_replica(&self, named: &[DiskId]) -> u32 {
        let gone = self.lost_set(named);
        let left = self.model.replicas.iter().filter(|(disk, _)| !gone.contains(disk));
        left.map(|(_, of)| *of).max().unwrap_or(0)
    }

    /// The same volume without some of its parity disks.
    #[must_use]
    pub fn without_parity(mut self, disks: &[DiskId]) -> Self {
        let gone: Vec<DiskIndex> = disks.iter().filter_map(|disk| self.index(*disk)).collect();
        self.model.parities.retain(|parity| !gone.contains(&parity.disk));
        self
    }
}
