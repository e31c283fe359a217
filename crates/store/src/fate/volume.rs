//! A volume as a model, and its files with their fates.

use std::collections::{BTreeMap, BTreeSet};

use sieve_core::fate::{DiskIndex, Fate, Guard, LostSet, Model, guards, verdicts};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId, VersionId};

use super::reason::Traces;
use super::{FileFate, Reason, shown_path};
use crate::catalogue::{held_files, objects};
use crate::disk::EntryKind;
use crate::error::Result;
use crate::label::Role;
use crate::pool::Pool;
use crate::scan::is_held;

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
    pub(super) object_ids: Vec<i64>,
    /// The numbers of the contents, rising.
    pub(super) version_ids: Vec<i64>,
    /// For each disk the position of its first symlink.
    pub(super) first_symlink: BTreeMap<DiskId, usize>,
    /// Paths that are taken to be removed: what is in them is held, and no file of the volume.
    pub(super) removed: Vec<RelPath>,
    /// Objects that are taken to be lost for good already.
    pub(super) vanished: BTreeSet<usize>,
}

/// The fates and guards of the objects of a model, in its order.
pub struct Evaluation {
    /// One for each object.
    pub fates: Vec<Fate>,
    /// One for each object.
    pub guards: Vec<Guard>,
    /// Why contents do not come back; empty where that was not asked for.
    pub(super) traces: Option<Traces>,
}

impl VolumeModel {
    /// The index of a disk in the model.
    pub fn index(&self, disk: DiskId) -> Option<DiskIndex> {
        let position = self.disks.iter().position(|d| *d == disk)?;
        u16::try_from(position).ok().map(DiskIndex)
    }

    pub(super) fn sure_index(&self, disk: DiskId) -> DiskIndex {
        self.index(disk).expect("the disk is a member of this volume")
    }

    /// The position of a content in the model.
    pub fn version_index(&self, version: VersionId) -> Option<u32> {
        let found = self.version_ids.binary_search(&version.get()).ok()?;
        u32::try_from(found).ok()
    }

    /// The position of a content that is likely to come soon after the one before: `near` is where that was.
    pub(super) fn version_near(&self, version: VersionId, near: &mut usize) -> Option<u32> {
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
    pub(super) fn version_id(&self, index: u32) -> Option<VersionId> {
        self.version_ids.get(index as usize).copied().map(VersionId::new)
    }

    /// The number of an object of the model; symlinks have none.
    pub(super) fn object_id(&self, position: usize) -> Option<ObjectId> {
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

    /// Whether a replica of the catalogue is left when these are lost: what lives in the catalogue alone comes back.
    pub fn keeps_a_replica(&self, named: &[DiskId]) -> bool {
        let gone = self.lost_set(named);
        self.model.replicas.iter().any(|disk| !gone.contains(disk))
    }

    /// The same volume without some of its parity disks.
    #[must_use]
    pub fn without_parity(mut self, disks: &[DiskId]) -> Self {
        let gone: Vec<DiskIndex> = disks.iter().filter_map(|disk| self.index(*disk)).collect();
        self.model.parities.retain(|parity| !gone.contains(&parity.disk));
        self
    }

    /// Evaluates the loss of the disks named, besides those that are missing now; the guard is that of now.
    pub fn evaluate(&self, named: &[DiskId]) -> Evaluation {
        let fates = verdicts(&self.model, &self.lost_set(named)).fates;
        Evaluation { fates, guards: guards(&self.model, &self.missing), traces: None }
    }

    /// Evaluates a loss, and traces why what does not come back does not.
    pub fn evaluate_with_reasons(&self, named: &[DiskId]) -> Evaluation {
        let lost = self.lost_set(named);
        let mut evaluation = self.evaluate(named);
        let mut wanted = vec![false; self.model.versions.len()];
        let objects = self.model.objects.iter().zip(&evaluation.fates);
        for (object, _) in objects.filter(|(_, fate)| !fate.is_whole()) {
            object.present().into_iter().chain(object.past()).for_each(|c| wanted[c as usize] = true);
        }
        let is_wanted = |version: u32| wanted[version as usize];
        evaluation.traces = Some(Traces::new(&self.model, &lost, is_wanted));
        evaluation
    }

    /// How many names of files each object of the model has, in its order; what is held has none.
    ///
    /// # Errors
    /// What the database says.
    pub fn name_counts(&self, pool: &Pool) -> Result<Vec<u32>> {
        let mut counts = vec![0; self.object_ids.len()];
        let mut count = |object: i64, by: i32| {
            if let Ok(position) = self.object_ids.binary_search(&object) {
                counts[position] = u32::saturating_add_signed(counts[position], by);
            }
        };
        objects::for_each_link(pool.catalogue.reading(), |object| count(object, 1))?;
        for member in pool.members_of(&self.volume, Role::Data) {
            for held in held_files::all(pool.catalogue.reading(), member.row.id)? {
                if let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, &held.path)? {
                    count(object.id.get(), -1);
                }
            }
            for removed in &self.removed {
                objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
                    if path.is_within(removed) && !is_held(&path) {
                        count(object.id.get(), -1);
                    }
                    Ok(())
                })?;
            }
        }
        for position in &self.vanished {
            counts[*position] = 0;
        }
        // Symlinks follow after the files, one name each.
        counts.resize(self.model.objects.len(), 1);
        Ok(counts)
    }

    /// Calls `visit` with every file of the volume: each name of each file, and symlinks. Held files are
    /// not files of the volume.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    pub fn for_each_file(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        mut visit: impl FnMut(FileFate<'_>) -> Result<()>,
    ) -> Result<()> {
        for member in pool.members_of(&self.volume, Role::Data) {
            let disk = member.row.name.as_str();
            let mut show = |path: &RelPath, size: ByteLength, position: usize| {
                self.file(pool, evaluation, disk, path, size, position)?.map_or(Ok(()), &mut visit)
            };
            objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
                match self.object_index(object.id) {
                    Some(position) if !is_held(&path) => show(&path, object.size, position),
                    _ => Ok(()),
                }
            })?;
            let mut position = self.first_symlink.get(&member.row.id).copied().unwrap_or(usize::MAX);
            objects::for_each_node(pool.catalogue.reading(), member.row.id, |path, node| {
                if node.kind == EntryKind::Symlink && position < evaluation.fates.len() {
                    position += 1;
                    return show(&path, ByteLength::ZERO, position - 1);
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// A file with its fate; nothing for one that is taken to be removed, or lost for good already.
    fn file<'a>(
        &'a self,
        pool: &Pool,
        evaluation: &Evaluation,
        disk: &'a str,
        path: &RelPath,
        size: ByteLength,
        position: usize,
    ) -> Result<Option<FileFate<'a>>> {
        if self.vanished.contains(&position) || self.removed.iter().any(|r| path.is_within(r)) {
            return Ok(None);
        }
        let (text, path_hex) = shown_path(path);
        let top = path.top_folder().map(|f| String::from_utf8_lossy(f).into_owned());
        Ok(Some(FileFate {
            volume: &self.volume,
            path: text,
            path_hex,
            disks: [disk],
            size_bytes: size,
            fate: evaluation.fates[position],
            guard: evaluation.guards[position].level,
            unguarded: evaluation.guards[position].reason,
            reason: self.reason(pool, evaluation, position)?,
            top_folder: top.unwrap_or_default(),
            position,
            content: self.model.objects[position].present().and_then(|v| self.version_id(v)),
        }))
    }

    /// Calls `visit` with the file of that path on each disk that has one; symlinks have no story.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    pub fn files_at(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        path: &RelPath,
        mut visit: impl FnMut(FileFate<'_>, Vec<Rows>) -> Result<()>,
    ) -> Result<()> {
        for member in pool.members_of(&self.volume, Role::Data) {
            let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, path)? else {
                continue;
            };
            let Some(position) = self.object_index(object.id) else { continue };
            let found = self.file(pool, evaluation, &member.row.name, path, object.size, position)?;
            if let Some(file) = found {
                visit(file, self.model.rows_of(&self.model.objects[position]))?;
            }
        }
        Ok(())
    }

    fn reason(&self, pool: &Pool, evaluation: &Evaluation, position: usize) -> Result<Option<Reason>> {
        match &evaluation.traces {
            Some(traces) if !evaluation.fates[position].is_whole() => {
                Reason::of(self, pool, traces, position).map(Some)
            }
            _ => Ok(None),
        }
    }
}
