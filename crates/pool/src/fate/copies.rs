//! Files of several objects: copies on the disks of a mirrored volume, on caches and between the two; and pieces.

use sieve_catalogue::contents;
use std::collections::{BTreeMap, HashMap};

use rusqlite::Connection;
use sieve_core::fate::Composite;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::units::{DiskId, ObjectId};

use super::model::VolumeModel;
use crate::pieces;
use crate::pieces::PiecedFile;
use crate::pool::Pool;
use sieve_catalogue::label::Role;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::piece_note::PieceNote;
use sieve_catalogue::{held_files, nodes, objects};
use sieve_disk::EntryKind;
use sieve_disk::Result;
use sieve_disk::copying;

/// An object under a path of the volume, with the content that it is known to have.
struct Known {
    pub object: ObjectId,
    whole: [u8; 32],
    held: bool,
}

/// Where the content of an object can be read besides its own disk.
#[derive(Clone, Debug)]
pub struct Elsewhere {
    disk: DiskId,
    path: RelPath,
    /// The object is this piece of the file that lies there.
    piece: Option<PieceNote>,
}

impl Elsewhere {
    /// Reads the content of the object, in order.
    ///
    /// # Errors
    /// Those of `take`, and what the disk says.
    pub fn read(&self, pool: &Pool, take: impl FnMut(&[u8]) -> Result<()>) -> Result<()> {
        let mut file = pool.member(self.disk)?.usable()?.open(&self.path)?;
        match &self.piece {
            Some(note) => note.cut(&mut *file, take),
            None => copying::for_each_part(&mut *file, 0, None, take),
        }
    }
}

/// The objects of the same content under the same path, by path.
type Groups = HashMap<Vec<u8>, Vec<Known>>;

impl VolumeModel {
    /// Finds the copies. What differs in its content is no copy, whatever it is called.
    pub(crate) fn add_copies(&mut self, pool: &Pool) -> Result<()> {
        let is_mirrored = pool.volume(Some(&self.volume)).is_ok_and(|v| v.kind == VolumeKind::Mirrored);
        let data: Vec<DiskId> = pool.members_of(&self.volume, Role::Data).map(|m| m.row.id).collect();
        let caches: Vec<DiskId> = pool.members_of(&self.volume, Role::Cache).map(|m| m.row.id).collect();
        let reading = pool.catalogue.reading();
        let mut groups = Groups::new();
        for cache in &caches {
            add_names(reading, *cache, &mut groups, true)?;
            add_held(reading, *cache, &mut groups)?;
        }
        // What left its tier is held there until parity has passed it where it is now.
        for disk in &data {
            add_held(reading, *disk, &mut groups)?;
        }
        let has_groups = !groups.is_empty();
        for disk in data.iter().filter(|_| is_mirrored || has_groups) {
            add_names(reading, *disk, &mut groups, is_mirrored)?;
        }
        let mut groups: Vec<_> = groups.into_iter().filter(|(_, known)| known.len() > 1).collect();
        groups.sort_by(|a, b| a.0.cmp(&b.0));
        groups.into_iter().for_each(|(_, known)| self.add_group(known));
        if is_mirrored { self.add_symlink_copies(pool, &data) } else { Ok(()) }
    }

    /// Where the content of an object can be read when these disks are lost, besides those that are missing: on a
    /// survivor that has a copy of it, or, for a piece, of its whole file.
    ///
    /// # Errors
    /// What the database says.
    pub fn copy_elsewhere(&self, pool: &Pool, position: usize, lost: &[DiskId]) -> Result<Option<Elsewhere>> {
        let key = u32::try_from(position).unwrap_or(u32::MAX);
        let Some(composite) = self.composite_of.get(&key) else { return Ok(None) };
        let composite = &self.model.composites[*composite as usize];
        let same = piece_of(composite, key).map(|number| composite.pieces[number].iter());
        let whole_files = composite.copies.iter().map(|copy| (copy, self.note_of(composite, key)));
        let sources = same.into_iter().flatten().map(|object| (object, None)).chain(whole_files);
        for (copy, piece) in sources.filter(|(copy, _)| **copy != key) {
            let disk = self.disks[usize::from(self.model.objects[*copy as usize].disk.0)];
            if lost.contains(&disk) || !pool.member(disk)?.state.is_usable() {
                continue;
            }
            let Some(object) = self.object_id(*copy as usize) else { continue };
            if let Some(path) = objects::names(pool.catalogue.reading(), object)?.into_iter().next() {
                return Ok(Some(Elsewhere { disk, path, piece }));
            }
        }
        Ok(None)
    }

    /// The other objects with the content of one, as positions in the model; for a piece those of the same piece.
    pub fn other_copies(&self, position: usize) -> impl Iterator<Item = usize> {
        let key = u32::try_from(position).unwrap_or(u32::MAX);
        let composite =
            self.composite_of.get(&key).map(|composite| &self.model.composites[*composite as usize]);
        let same = composite.map(|composite| match piece_of(composite, key) {
            Some(number) => &composite.pieces[number],
            None => &composite.copies,
        });
        same.into_iter().flatten().filter(move |copy| **copy != key).map(|copy| *copy as usize)
    }

    /// What a piece says about itself; nothing for what is a whole file.
    fn note_of(&self, composite: &Composite, part: u32) -> Option<PieceNote> {
        let number = piece_of(composite, part)?;
        let file = self.pieced.get(&(composite.objects().next()? as usize))?;
        file.pieces.get(number).map(|piece| piece.note.clone())
    }

    /// A sync gives up what is held on the caches: then there is one copy less.
    pub fn forget_held_copies(&mut self) {
        let is_held = std::mem::take(&mut self.is_held);
        self.composite_of.clear();
        for composite in &mut self.model.composites {
            for same in composite.pieces.iter_mut().chain([&mut composite.copies]) {
                same.retain(|copy| !is_held.contains(copy));
            }
        }
        self.model.composites.retain(|composite| composite.objects().count() > 1);
        for (number, composite) in (0..).zip(&self.model.composites) {
            self.composite_of.extend(composite.objects().map(|part| (part, number)));
        }
    }

    /// Files that lie in pieces: all of them are needed, unless all of the file is held on a cache still.
    pub(crate) fn add_pieces(&mut self, pool: &Pool) -> Result<()> {
        let reading = pool.catalogue.reading();
        let files = pieces::files(pool, &self.volume)?;
        let twins = if files.is_empty() { PieceTwins::default() } else { self.piece_twins(pool)? };
        for file in files {
            let mut parts = Vec::new();
            for piece in &file.pieces {
                let object = objects::by_path(reading, piece.disk, &piece.path)?;
                let Some(position) = object.as_ref().and_then(|object| self.object_index(object.id)) else {
                    break;
                };
                let mut same: Vec<u32> = u32::try_from(position).into_iter().collect();
                if let Some(content) =
                    object.map(|object| content_of(reading, &object)).transpose()?.flatten()
                {
                    let twins = twins.get(&piece.path).into_iter().flatten();
                    let alike = twins.filter(|(twin, whole)| *whole == content && !same.contains(twin));
                    let alike: Vec<u32> = alike.map(|(twin, _)| *twin).collect();
                    same.extend(alike);
                }
                parts.push(same);
            }
            let Some(first) =
                parts.first().map(|piece| piece[0]).filter(|_| parts.len() == file.pieces.len())
            else {
                continue;
            };
            let copies = self.held_wholes(pool, &file)?;
            self.is_held.extend(&copies);
            self.is_held.extend(parts.iter().flat_map(|piece| &piece[1..]));
            self.pieced.insert(first as usize, file);
            // Copies of each other were found to be that before.
            match copies.first().and_then(|copy| self.composite_of.get(copy)).copied() {
                Some(number) => {
                    self.composite_of.extend(parts.iter().flatten().map(|part| (*part, number)));
                    self.model.composites[number as usize].pieces = parts;
                }
                None => self.add_composite(Composite { pieces: parts, copies }),
            }
        }
        Ok(())
    }

    /// The objects that are a piece by name, or were and are held where they were until parity has passed them where they are
    /// now; with what each is known to hold.
    fn piece_twins(&self, pool: &Pool) -> Result<PieceTwins> {
        let reading = pool.catalogue.reading();
        let named = sieve_catalogue::pieces::all(reading, &self.volume)?.into_iter();
        let mut found: Vec<(DiskId, RelPath, RelPath)> =
            named.map(|row| (row.disk, row.path.clone(), row.path)).collect();
        for member in pool.members_of(&self.volume, Role::Data) {
            let held = held_files::all(reading, member.row.id)?.into_iter();
            let was_piece = held.filter(|held| held.original.is_piece());
            found.extend(was_piece.map(|held| (member.row.id, held.original, held.path)));
        }
        let mut twins = PieceTwins::default();
        for (disk, piece, path) in found {
            let Some(object) = objects::by_path(reading, disk, &path)? else { continue };
            let position = self.object_index(object.id).and_then(|p| u32::try_from(p).ok());
            if let (Some(position), Some(whole)) = (position, content_of(reading, &object)?) {
                twins.entry(piece).or_default().push((position, whole));
            }
        }
        Ok(twins)
    }

    /// Objects that are held on the caches with all of a file that lies in pieces.
    fn held_wholes(&self, pool: &Pool, file: &PiecedFile) -> Result<Vec<u32>> {
        let reading = pool.catalogue.reading();
        let mut found = Vec::new();
        for cache in pool.members_of(&self.volume, Role::Cache) {
            for held in held_files::all(reading, cache.row.id)?.iter().filter(|h| h.original == file.path) {
                let Some(object) = objects::by_path(reading, cache.row.id, &held.path)? else { continue };
                if content_of(reading, &object)? == Some(file.whole) {
                    let position = self.object_index(object.id).and_then(|p| u32::try_from(p).ok());
                    found.extend(position);
                }
            }
        }
        Ok(found)
    }

    fn add_composite(&mut self, composite: Composite) {
        let number = u32::try_from(self.model.composites.len()).unwrap_or(u32::MAX);
        self.composite_of.extend(composite.objects().map(|part| (part, number)));
        self.model.composites.push(composite);
    }

    /// Symlinks of one path and one target.
    fn add_symlink_copies(&mut self, pool: &Pool, data: &[DiskId]) -> Result<()> {
        type PathAndTarget = (Vec<u8>, Option<Vec<u8>>);
        let mut groups: BTreeMap<PathAndTarget, Vec<u32>> = BTreeMap::new();
        for disk in data {
            let first = self.first_symlink.get(disk).copied().unwrap_or(usize::MAX);
            let mut position = u32::try_from(first).unwrap_or(u32::MAX);
            nodes::for_each(pool.catalogue.reading(), *disk, |path, node| {
                if node.kind == EntryKind::Symlink {
                    groups.entry((path.tree_key(), node.target)).or_default().push(position);
                    position = position.saturating_add(1);
                }
                Ok(())
            })?;
        }
        for parts in groups.into_values().filter(|parts| parts.len() > 1) {
            self.add_composite(Composite::of_copies(parts));
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
            let position =
                |one: &Known| Some((u32::try_from(self.object_index(one.object)?).ok()?, one.held));
            let mut parts: Vec<(u32, bool)> = same.iter().filter_map(position).collect();
            parts.dedup();
            // A further name of a file that has copies under its first one: all of them are copies of one content.
            let known = parts.iter().find_map(|(part, _)| self.composite_of.get(part).copied());
            parts.retain(|(part, _)| !self.composite_of.contains_key(part));
            if known.is_none() && parts.len() < 2 {
                continue;
            }
            self.is_held.extend(parts.iter().filter(|(_, held)| *held).map(|(part, _)| *part));
            let parts: Vec<u32> = parts.into_iter().map(|(part, _)| part).collect();
            match known {
                Some(number) => {
                    self.composite_of.extend(parts.iter().map(|part| (*part, number)));
                    self.model.composites[number as usize].copies.extend(parts);
                }
                None => self.add_composite(Composite::of_copies(parts)),
            }
        }
    }
}

/// By the path of a piece the objects that may be it, and what they hold.
type PieceTwins = HashMap<RelPath, Vec<(u32, [u8; 32])>>;

/// Which of the pieces of a file an object is.
fn piece_of(composite: &Composite, part: u32) -> Option<usize> {
    composite.pieces.iter().position(|piece| piece.contains(&part))
}

/// What an object is known to hold at present.
fn content_of(reading: &Connection, object: &ObjectRow) -> Result<Option<[u8; 32]>> {
    Ok(contents::present(reading, object)?.map(|sum| sum.whole))
}

/// Adds all names of a disk, or only those that are known already.
fn add_names(c: &Connection, disk: DiskId, groups: &mut Groups, all: bool) -> Result<()> {
    contents::for_each_known(c, disk, |path, object, whole| {
        if path.starts_with(b".zinc-sieve\0") {
            return;
        }
        let known = Known { object, whole, held: false };
        match groups.get_mut(path) {
            Some(group) => group.push(known),
            None if all => {
                groups.insert(path.to_vec(), vec![known]);
            }
            None => {}
        }
    })
}

/// What is held is a copy of what has settled, or changed its tier.
fn add_held(c: &Connection, cache: DiskId, groups: &mut Groups) -> Result<()> {
    let originals: HashMap<Vec<u8>, Vec<u8>> = held_files::all(c, cache)?
        .into_iter()
        .filter(|row| !row.original.is_piece()) // those count with their piece
        .map(|row| (row.path.tree_key(), row.original.tree_key()))
        .collect();
    if originals.is_empty() {
        return Ok(());
    }
    contents::for_each_known(c, cache, |path, object, whole| {
        if let Some(original) = originals.get(path) {
            groups.entry(original.clone()).or_default().push(Known { object, whole, held: true });
        }
    })
}
