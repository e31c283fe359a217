//! Files of several objects: copies on the disks of a mirrored volume, on caches and between the two; and pieces.

use std::collections::{BTreeMap, HashMap};

use rusqlite::Connection;
use sieve_core::fate::Composite;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::units::{DiskId, ObjectId};

use super::VolumeModel;
use crate::catalogue::{held_files, objects};
use crate::disk::EntryKind;
use crate::error::Result;
use crate::label::Role;
use crate::pieces;
use crate::pool::Pool;

/// An object under a path of the volume, with the content that it is known to have.
struct Known {
    object: ObjectId,
    whole: [u8; 32],
    held: bool,
}

/// The objects of the same content under the same path, by path.
type Groups = HashMap<Vec<u8>, Vec<Known>>;

impl VolumeModel {
    /// Finds the copies. What differs in its content is no copy, whatever it is called.
    pub(super) fn add_copies(&mut self, pool: &Pool) -> Result<()> {
        let is_mirrored = pool.volume(Some(&self.volume)).is_ok_and(|v| v.kind == VolumeKind::Mirrored);
        let data: Vec<DiskId> = pool.members_of(&self.volume, Role::Data).map(|m| m.row.id).collect();
        let caches: Vec<DiskId> = pool.members_of(&self.volume, Role::Cache).map(|m| m.row.id).collect();
        let reading = pool.catalogue.reading();
        let mut groups = Groups::new();
        for cache in &caches {
            add_names(reading, *cache, &mut groups, true)?;
            add_held(reading, *cache, &mut groups)?;
        }
        for disk in &data {
            add_names(reading, *disk, &mut groups, is_mirrored)?;
        }
        let mut groups: Vec<_> = groups.into_iter().filter(|(_, known)| known.len() > 1).collect();
        groups.sort_by(|a, b| a.0.cmp(&b.0));
        groups.into_iter().for_each(|(_, known)| self.add_group(known));
        if is_mirrored { self.add_symlink_copies(pool, &data) } else { Ok(()) }
    }

    /// Where another copy of an object can be read when these disks are lost, besides those that are missing.
    ///
    /// # Errors
    /// What the database says.
    pub(crate) fn copy_elsewhere(
        &self,
        pool: &Pool,
        position: usize,
        lost: &[DiskId],
    ) -> Result<Option<(DiskId, RelPath)>> {
        let key = u32::try_from(position).unwrap_or(u32::MAX);
        let Some(composite) = self.composite_of.get(&key) else { return Ok(None) };
        let Composite::Copies(parts) = &self.model.composites[*composite as usize] else { return Ok(None) };
        for part in parts.iter().filter(|part| **part != key) {
            let disk = self.disks[usize::from(self.model.objects[*part as usize].disk.0)];
            if lost.contains(&disk) || !pool.member(disk)?.state.is_usable() {
                continue;
            }
            let Some(object) = self.object_id(*part as usize) else { continue };
            if let Some(name) = objects::names(pool.catalogue.reading(), object)?.into_iter().next() {
                return Ok(Some((disk, name)));
            }
        }
        Ok(None)
    }

    /// A sync gives up what is held on the caches: then there is one copy less.
    pub(super) fn forget_held_copies(&mut self) {
        let is_held = std::mem::take(&mut self.is_held);
        self.composite_of.clear();
        for composite in &mut self.model.composites {
            if let Composite::Copies(parts) = composite {
                parts.retain(|part| !is_held.contains(part));
            }
        }
        self.model.composites.retain(|composite| composite.objects().len() > 1);
        for (number, composite) in (0..).zip(&self.model.composites) {
            self.composite_of.extend(composite.objects().iter().map(|part| (*part, number)));
        }
    }

    /// Files that lie in pieces: all of them are needed.
    pub(super) fn add_pieces(&mut self, pool: &Pool) -> Result<()> {
        for file in pieces::files(pool, &self.volume)? {
            let mut parts = Vec::new();
            for piece in &file.pieces {
                let object = objects::by_path(pool.catalogue.reading(), piece.disk, &piece.path)?;
                let position = object.and_then(|object| self.object_index(object.id));
                parts.extend(position.and_then(|position| u32::try_from(position).ok()));
            }
            if let (Some(first), true) = (parts.first(), parts.len() == file.pieces.len()) {
                let number = u32::try_from(self.model.composites.len()).unwrap_or(u32::MAX);
                self.pieced.insert(*first as usize, file);
                self.composite_of.extend(parts.iter().map(|part| (*part, number)));
                self.model.composites.push(Composite::Pieces(parts));
            }
        }
        Ok(())
    }

    /// Symlinks of one path and one target.
    fn add_symlink_copies(&mut self, pool: &Pool, data: &[DiskId]) -> Result<()> {
        type PathAndTarget = (Vec<u8>, Option<Vec<u8>>);
        let mut groups: BTreeMap<PathAndTarget, Vec<u32>> = BTreeMap::new();
        for disk in data {
            let first = self.first_symlink.get(disk).copied().unwrap_or(usize::MAX);
            let mut position = u32::try_from(first).unwrap_or(u32::MAX);
            objects::for_each_node(pool.catalogue.reading(), *disk, |path, node| {
                if node.kind == EntryKind::Symlink {
                    groups.entry((path.tree_key(), node.target)).or_default().push(position);
                    position = position.saturating_add(1);
                }
                Ok(())
            })?;
        }
        for parts in groups.into_values().filter(|parts| parts.len() > 1) {
            let number = u32::try_from(self.model.composites.len()).unwrap_or(u32::MAX);
            self.composite_of.extend(parts.iter().map(|part| (*part, number)));
            self.model.composites.push(Composite::Copies(parts));
        }
        Ok(())
    }

    fn add_group(&mut self, mut known: Vec<Known>) {
        // What has a name comes first: it stands for the file.
        known.sort_by_key(|one| (one.held, one.object));
        while let Some(first) = known.first() {
            let whole = first.whole;
            let (same, others): (Vec<Known>, Vec<Known>) =
                known.into_iter().partition(|one| one.whole == whole);
            known = others;
            let parts: Vec<(u32, bool)> = same
                .iter()
                .filter_map(|one| Some((u32::try_from(self.object_index(one.object)?).ok()?, one.held)))
                .filter(|(part, _)| !self.composite_of.contains_key(part))
                .collect();
            if parts.len() > 1 {
                let number = u32::try_from(self.model.composites.len()).unwrap_or(u32::MAX);
                self.composite_of.extend(parts.iter().map(|(part, _)| (*part, number)));
                self.is_held.extend(parts.iter().filter(|(_, held)| *held).map(|(part, _)| *part));
                self.model
                    .composites
                    .push(Composite::Copies(parts.into_iter().map(|(part, _)| part).collect()));
            }
        }
    }
}

/// Named objects of a disk whose content is known, with the path of the name.
const NAMED: &str = "
    SELECT n.path, o.id, v.whole FROM name n JOIN object o ON o.id = n.object JOIN version v ON v.id = o.version
    WHERE n.disk = ?1 AND o.standing = 0 AND v.id NOT IN (SELECT version FROM unfinished)";

/// Adds all names of a disk, or only those that are known already.
fn add_names(c: &Connection, disk: DiskId, groups: &mut Groups, all: bool) -> Result<()> {
    let mut statement = c.prepare_cached(NAMED)?;
    let mut rows = statement.query([disk.get()])?;
    while let Some(row) = rows.next()? {
        let path = row.get_ref(0)?.as_blob().unwrap_or_default();
        if path.starts_with(b".zinc-sieve\0") {
            continue;
        }
        let known = Known { object: ObjectId::new(row.get(1)?), whole: row.get(2)?, held: false };
        match groups.get_mut(path) {
            Some(group) => group.push(known),
            None if all => {
                groups.insert(path.to_vec(), vec![known]);
            }
            None => {}
        }
    }
    Ok(())
}

/// What is held on a cache is a copy of what has settled.
fn add_held(c: &Connection, cache: DiskId, groups: &mut Groups) -> Result<()> {
    let originals: HashMap<Vec<u8>, Vec<u8>> = held_files::all(c, cache)?
        .into_iter()
        .map(|row| (row.path.tree_key(), row.original.tree_key()))
        .collect();
    if originals.is_empty() {
        return Ok(());
    }
    let mut statement = c.prepare_cached(NAMED)?;
    let mut rows = statement.query([cache.get()])?;
    while let Some(row) = rows.next()? {
        let path = row.get_ref(0)?.as_blob().unwrap_or_default();
        if let Some(original) = originals.get(path) {
            let known = Known { object: ObjectId::new(row.get(1)?), whole: row.get(2)?, held: true };
            groups.entry(original.clone()).or_default().push(known);
        }
    }
    Ok(())
}
