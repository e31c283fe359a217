//! A volume as a model, and its files with their fates.

use super::model::VolumeModel;
use std::collections::HashSet;

use sieve_core::fate::{
    Composite, Exposures, Fate, Guard, fate_of_composite, guard_of_composite, guards, verdicts,
};
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::path::shown_with_bytes;
use sieve_core::units::{ByteLength, DiskId, ObjectId};

use super::reason::Traces;
use super::{FileFate, Reason};
use crate::fate::Unfinished;
use crate::pieces::copied_file;
use crate::pool::Pool;
use sieve_catalogue::{held_files, nodes, objects, pieces};
use sieve_disk::EntryKind;
use sieve_disk::Result;

/// What counts of a file.
#[derive(Clone, Copy, Debug)]
pub struct CountedFile {
    /// Its length.
    pub size: ByteLength,
    /// What becomes of it.
    pub fate: Fate,
    /// How many disks may die without losing it, or why none may.
    pub guard: Guard,
    /// The disk that it lies on, or the first of several.
    pub disk: Option<DiskId>,
}

/// The fates and guards of the objects of a model, in its order.
pub struct Evaluation {
    /// One for each object.
    pub fates: Vec<Fate>,
    /// One for each object.
    pub guards: Vec<Guard>,
    /// One for each file of several objects.
    pub(crate) composites: Vec<(Fate, Guard)>,
    /// Why contents do not come back; empty where that was not asked for.
    pub(crate) traces: Option<Traces>,
}

/// What has a source besides parity is whole.
fn come_back(fate: &mut Fate) {
    *fate = if fate.is_whole() { *fate } else { Fate::Rebuilt };
}

impl VolumeModel {
    /// Evaluates the loss of the disks named, besides those that are missing now; the guard is that of now.
    pub fn evaluate(&self, named: &[DiskId]) -> Evaluation {
        let mut fates = verdicts(&self.model, &self.lost_set(named)).fates;
        let guards = guards(&self.model, &self.missing);
        let composites = self.composites(&fates, &guards);
        for composite in &self.model.composites {
            // What parity does not bring back comes back from a copy on a survivor, or from one that parity brings back; a piece
            // from another object of its content, or from all of its file on a survivor.
            for same in composite.pieces.iter().chain([&composite.copies]) {
                if same.iter().any(|object| fates[*object as usize].is_whole()) {
                    same.iter().for_each(|object| come_back(&mut fates[*object as usize]));
                }
            }
            if composite.copies.iter().any(|copy| fates[*copy as usize] == Fate::Untouched) {
                composite.objects().for_each(|part| come_back(&mut fates[part as usize]));
            }
        }
        Evaluation { fates, guards, composites, traces: None }
    }

    /// The fates and guards of the files of several objects.
    fn composites(&self, fates: &[Fate], guards: &[Guard]) -> Vec<(Fate, Guard)> {
        if self.model.composites.is_empty() {
            return Vec::new();
        }
        let exposures = Exposures::new(&self.model, &self.missing, self.disks.len());
        let judge = |composite: &Composite| {
            let fate = fate_of_composite(&self.model, composite, fates);
            let level = guard_of_composite(&self.model, composite, &exposures, guards, &self.missing);
            let worst = composite.objects().find_map(|object| guards[object as usize].reason);
            (fate, Guard { level, reason: worst.filter(|_| level == 0) })
        };
        self.model.composites.iter().map(judge).collect()
    }

    /// The file of several objects that an object is part of.
    fn composite(&self, position: usize) -> Option<usize> {
        let key = u32::try_from(position).ok()?;
        self.composite_of.get(&key).map(|composite| *composite as usize)
    }

    /// What becomes of the file that an object is, or is a part of, and its guard; none of what the model does not have.
    pub fn of_object(&self, evaluation: &Evaluation, object: ObjectId) -> Option<(Fate, Guard)> {
        let position = self.object_index(object)?;
        let of_several = self.composite(position).map(|composite| evaluation.composites[composite]);
        Some(of_several.unwrap_or((evaluation.fates[position], evaluation.guards[position])))
    }

    /// Whether a name of an object stands for its file: of several copies only the first does, or the first with the name.
    fn stands_for_file(&self, pool: &Pool, position: usize, path: &RelPath) -> Result<bool> {
        let key = u32::try_from(position).unwrap_or(u32::MAX);
        let Some(composite) = self.composite_of.get(&key) else { return Ok(true) };
        let mut parts = self.model.composites[*composite as usize].objects();
        let is_one_name = self.object_id(position).is_none() || self.pieced.contains_key(&position);
        if is_one_name {
            return Ok(parts.next() == Some(key)); // symlinks and pieces have one name each
        }
        for part in parts.take_while(|part| *part != key) {
            let disk = self.disks[usize::from(self.model.objects[part as usize].disk.0)];
            let named = objects::by_path(pool.catalogue.reading(), disk, path)?;
            if named.and_then(|object| self.object_index(object.id)) == Some(part as usize) {
                return Ok(false);
            }
        }
        Ok(true)
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

    /// Whether parity encodes all of what an object holds now.
    pub fn is_encoded(&self, object: ObjectId) -> bool {
        let present = self.object_index(object).and_then(|position| self.model.objects[position].present());
        present.is_some_and(|version| self.model.versions[version as usize].is_complete())
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
        for member in pool.file_members(&self.volume) {
            for held in held_files::all(pool.catalogue.reading(), member.row.id)? {
                if let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, &held.path)? {
                    count(object.id.get(), -1);
                }
            }
            for copy in pieces::unknown(pool.catalogue.reading(), member.row.id)? {
                if let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, &copy)? {
                    count(object.id.get(), -1);
                }
            }
            for removed in &self.removed {
                objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
                    if path.is_within(removed) && !path.is_held() {
                        count(object.id.get(), -1);
                    }
                    Ok(())
                })?;
            }
        }
        for position in self.vanished.iter().copied().chain(self.unfinished(pool)?) {
            counts[position] = 0;
        }
        // Symlinks follow after the files, one name each.
        counts.resize(self.model.objects.len(), 1);
        Ok(counts)
    }

    /// What was made by a move that is not finished: its source is the file still, and counts alone. A copy that is known to
    /// be one counts with its source.
    fn unfinished(&self, pool: &Pool) -> Result<HashSet<usize>> {
        let unfinished = Unfinished::look(pool)?;
        let mut positions = HashSet::new();
        for (disk, name) in unfinished.copies() {
            let object = objects::by_path(pool.catalogue.reading(), *disk, name)?;
            positions.extend(object.and_then(|object| self.object_index(object.id)));
        }
        for file in self.pieced.values().filter(|file| unfinished.has_pieced(&file.path)) {
            for piece in &file.pieces {
                let object = objects::by_path(pool.catalogue.reading(), piece.disk, &piece.path)?;
                positions.extend(object.and_then(|object| self.object_index(object.id)));
            }
        }
        let goes_with_its_source = |position: &usize| {
            let composite = self.composite(*position).map(|number| &self.model.composites[number]);
            composite.is_some_and(|all| all.objects().any(|part| !positions.contains(&(part as usize))))
        };
        let alone = positions.iter().copied().filter(|position| !goes_with_its_source(position));
        Ok(alone.collect())
    }

    /// Calls `visit` with every file of the volume: each name of each file, and symlinks. Held files are
    /// not files of the volume, and copies are one file.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    pub fn for_each_file(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        visit: impl FnMut(FileFate<'_>) -> Result<()>,
    ) -> Result<()> {
        self.walk(pool, evaluation, true, visit)
    }

    /// Calls `visit` with the length, fate and guard of every file that [`Self::for_each_file`] shows, in no order.
    ///
    /// # Errors
    /// What the database says.
    pub fn for_each_counted(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        mut visit: impl FnMut(CountedFile),
    ) -> Result<()> {
        if !self.model.composites.is_empty() || !self.removed.is_empty() {
            // Which name stands for several copies, the names say.
            return self.for_each_file(pool, evaluation, |file| {
                let guard = Guard { level: file.guard, reason: file.unguarded };
                let disk = self.disk_of(file.position);
                visit(CountedFile { size: file.size_bytes, fate: file.fate, guard, disk });
                Ok(())
            });
        }
        for (position, names) in self.name_counts(pool)?.into_iter().enumerate() {
            let (size, fate) = (self.model.objects[position].size, evaluation.fates[position]);
            let (guard, disk) = (evaluation.guards[position], self.disk_of(position));
            (0..names).for_each(|_| visit(CountedFile { size, fate, guard, disk }));
        }
        Ok(())
    }

    /// The disk of an object.
    fn disk_of(&self, position: usize) -> Option<DiskId> {
        let index = self.model.objects.get(position)?.disk;
        self.disks.get(usize::from(index.0)).copied()
    }

    /// As [`Self::for_each_file`], disk by disk: each copy counts by itself.
    ///
    /// # Errors
    /// Those of `visit`, and of the database.
    pub fn for_each_copy(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        visit: impl FnMut(FileFate<'_>) -> Result<()>,
    ) -> Result<()> {
        self.walk(pool, evaluation, false, visit)
    }

    fn walk(
        &self,
        pool: &Pool,
        evaluation: &Evaluation,
        as_files: bool,
        mut visit: impl FnMut(FileFate<'_>) -> Result<()>,
    ) -> Result<()> {
        let unfinished = if as_files { self.unfinished(pool)? } else { HashSet::new() };
        for member in pool.file_members(&self.volume) {
            let mut show = |path: &RelPath, size: ByteLength, position: usize| {
                if unfinished.contains(&position) {
                    return Ok(());
                }
                if as_files && !self.stands_for_file(pool, position, path)? {
                    return Ok(());
                }
                let composite = if as_files { self.composite(position) } else { None };
                self.file(pool, evaluation, path, size, (position, composite))?.map_or(Ok(()), &mut visit)
            };
            objects::for_each_path(pool.catalogue.reading(), member.row.id, |path, object, size| match self
                .object_index(object)
            {
                Some(position) if path.is_piece() && as_files => match self.pieced.get(&position) {
                    Some(file) => show(&file.path, file.size, position),
                    None => Ok(()),
                },
                // What is on its way to become a file is none beside its pieces.
                Some(position) if !path.is_held() && copied_file(&path).is_none() => {
                    show(&path, size, position)
                }
                _ => Ok(()),
            })?;
            let mut position = self.first_symlink.get(&member.row.id).copied().unwrap_or(usize::MAX);
            nodes::for_each(pool.catalogue.reading(), member.row.id, |path, node| {
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
        pool: &'a Pool,
        evaluation: &Evaluation,
        path: &RelPath,
        size: ByteLength,
        (position, composite): (usize, Option<usize>),
    ) -> Result<Option<FileFate<'a>>> {
        if self.vanished.contains(&position) || self.removed.iter().any(|r| path.is_within(r)) {
            return Ok(None);
        }
        let (fate, guard) = composite.map_or_else(
            || (evaluation.fates[position], evaluation.guards[position]),
            |composite| evaluation.composites[composite],
        );
        let (text, path_hex) = shown_with_bytes(path);
        let top = path.top_folder().map(|f| String::from_utf8_lossy(f).into_owned());
        Ok(Some(FileFate {
            volume: &self.volume,
            path: text,
            path_hex,
            disks: self.disks_of(pool, composite, position),
            size_bytes: size,
            fate,
            guard: guard.level,
            unguarded: guard.reason,
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
        for member in pool.file_members(&self.volume) {
            let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, path)? else {
                continue;
            };
            let Some(position) = self.object_index(object.id) else { continue };
            if !self.stands_for_file(pool, position, path)? {
                continue;
            }
            let at = (position, self.composite(position));
            let found = self.file(pool, evaluation, path, object.size, at)?;
            if let Some(file) = found {
                visit(file, self.model.rows_of(&self.model.objects[position]))?;
            }
        }
        for (position, file) in self.pieced.iter().filter(|(_, file)| file.path == *path) {
            let at = (*position, self.composite(*position));
            if let Some(found) = self.file(pool, evaluation, path, file.size, at)? {
                visit(found, self.model.rows_of(&self.model.objects[*position]))?;
            }
        }
        Ok(())
    }

    /// The names of the disks that the parts of a file lie on under its name.
    fn disks_of<'a>(&'a self, pool: &'a Pool, composite: Option<usize>, position: usize) -> Vec<&'a str> {
        let parts: Vec<u32> = match composite {
            Some(composite) => self.model.composites[composite].objects().collect(),
            None => vec![u32::try_from(position).unwrap_or(u32::MAX)],
        };
        let named = parts.into_iter().filter(|part| !self.is_held.contains(part));
        let disks = named.map(|part| self.disks[usize::from(self.model.objects[part as usize].disk.0)]);
        let names = disks.filter_map(|disk| pool.member(disk).ok()).map(|member| member.row.name.as_str());
        let mut names: Vec<&str> = names.collect();
        names.dedup(); // several pieces may lie on one
        names
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
