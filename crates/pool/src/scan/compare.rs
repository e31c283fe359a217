//! Comparing a disk with the catalogue, folder by folder: a folder that looks as it did when all in it was as the
//! catalogue says is passed over.

use std::collections::HashSet;
use std::sync::atomic::{AtomicBool, Ordering};

use rusqlite::Connection;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::walk::{Entry, Listing, OutOfSight, Reached, Walk};
use sieve_catalogue::folders;
use sieve_catalogue::folders::{FolderRow, InFolder};
use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_disk::{Disk, EntryKind, Stat};
use sieve_disk::{Error, Result};

/// What changed last so shortly before a scan may change again without its times showing it, on a filesystem with coarse
/// times: 3 seconds.
const FRESH: i64 = 3_000_000_000;

/// A file that is new, or not as it was.
pub(super) struct SeenFile {
    pub(super) stat: Stat,
    pub(super) left_out: bool,
    /// The object that had this name before.
    pub(super) before: Option<Box<ObjectRow>>,
}

/// What is different on a disk.
#[derive(Default)]
pub struct DiskChanges {
    pub(super) files: Vec<(RelPath, SeenFile)>,
    pub(super) vanished: Vec<(RelPath, ObjectRow)>,
    pub(super) nodes: Vec<(RelPath, Stat)>,
    pub(super) vanished_nodes: Vec<RelPath>,
    pub(super) left_out_changed: Vec<(ObjectRow, bool)>,
    /// Folders in which all was as it is known.
    pub(super) alike: Vec<FolderRow>,
    /// Folders of which that was known, and in which something is not.
    pub(super) unlike: Vec<RelPath>,
    pub(super) unchanged: u64,
    pub(super) known: u64,
    pub(super) left_alone: Vec<String>,
    /// Folders whose content cannot be seen now.
    pub(super) out_of_sight: Vec<OutOfSight>,
    /// Not all of the disk was looked at.
    pub(super) is_part: bool,
}

impl DiskChanges {
    pub(super) fn is_empty(&self) -> bool {
        self.files.is_empty()
            && self.vanished.is_empty()
            && self.nodes.is_empty()
            && self.vanished_nodes.is_empty()
            && self.left_out_changed.is_empty()
    }

    /// Whether there is nothing at all to record.
    pub(super) fn is_nothing(&self) -> bool {
        self.is_empty() && self.unlike.is_empty()
    }

    /// How many differences there are so far.
    fn count(&self) -> usize {
        self.files.len()
            + self.vanished.len()
            + self.nodes.len()
            + self.vanished_nodes.len()
            + self.left_out_changed.len()
    }
}

/// What is compared, and with what.
pub(super) struct Comparison<'a> {
    /// What is known.
    pub(super) c: &'a Connection,
    /// The disk.
    pub(super) id: DiskId,
    /// Its files.
    pub(super) disk: &'a dyn Disk,
    /// What its owner does not want guarded.
    pub(super) leave_out: &'a [String],
    /// Nanoseconds since 1970.
    pub(super) now: i64,
    /// Nobody wants to know any more.
    pub(super) is_over: &'a AtomicBool,
}

impl Comparison<'_> {
    /// Walks the whole disk beside the catalogue.
    pub(super) fn of_all(&self) -> Result<DiskChanges> {
        let walk = Walk::begin(self.disk, self.leave_out)?;
        // One look at the locks of the catalogue for all of it.
        let _reading = self.c.unchecked_transaction()?;
        self.go(walk, self.begin())
    }

    /// Walks what is at some paths, and below them. Nothing where that is not enough to tell what became of a file: it may have
    /// another name now, or this name may be of a file that had another. Taken for a new file, and the other for one that is
    /// gone, it would lose its guard (L8).
    pub(super) fn of_paths(&self, paths: &[RelPath]) -> Result<Option<DiskChanges>> {
        let mut walk = Walk::begin_at(self.disk, self.leave_out)?;
        let _reading = self.c.unchecked_transaction()?;
        let mut comparing = self.begin();
        for path in paths {
            match walk.reach(path)? {
                Reached::OutOfSight => {}
                Reached::Folder(stat) => comparing.place(path, Some(stat), false)?,
                Reached::Other(stat, left_out) => comparing.place(path, Some(stat), left_out)?,
                Reached::Nothing => comparing.place(path, None, false)?,
            }
        }
        let mut changes = self.go(walk, comparing)?;
        changes.is_part = true;
        Ok(changes.are_of_known_names(self.c, self.id)?.then_some(changes))
    }

    fn begin(&self) -> Comparing<'_> {
        Comparing { c: self.c, disk: self.id, now: self.now, changes: DiskChanges::default() }
    }

    fn go(&self, mut walk: Walk<'_>, mut comparing: Comparing<'_>) -> Result<DiskChanges> {
        while let Some(listing) = walk.next()? {
            comparing.folder(&listing)?;
            if self.is_over.load(Ordering::Relaxed) {
                return Err(Error::stopped());
            }
        }
        let mut changes = comparing.changes;
        changes.left_alone = walk.left_alone;
        changes.out_of_sight = walk.out_of_sight;
        Ok(changes)
    }
}

struct Comparing<'a> {
    c: &'a Connection,
    disk: DiskId,
    now: i64,
    changes: DiskChanges,
}

impl Comparing<'_> {
    /// What is at a path by itself; what is in a folder comes with the folder.
    fn place(&mut self, path: &RelPath, stat: Option<Stat>, left_out: bool) -> Result<()> {
        let (c, disk) = (self.c, self.disk);
        let kind = stat.map(|stat| stat.kind);
        let changes = &mut self.changes;
        let before = objects::by_path(c, disk, path)?;
        changes.known += u64::from(before.is_some());
        match (stat.filter(|_| kind == Some(EntryKind::File)), before) {
            (Some(stat), before) => changes.file(path.clone(), stat, left_out, before),
            (None, Some(object)) => changes.vanished.push((path.clone(), object)),
            (None, None) => {}
        }
        let node = nodes::get(c, disk, path)?;
        match (stat.filter(|_| kind != Some(EntryKind::File)), node) {
            (Some(stat), Some(node)) if is_same(&node, &stat) => {}
            // Our own folders are none of the volume.
            (Some(stat), _) if !path.is_ours() => changes.nodes.push((path.clone(), stat)),
            (Some(_), _) => {}
            (None, Some(_)) => {
                changes.unlike.push(path.clone());
                changes.vanished_nodes.push(path.clone());
            }
            (None, None) => {}
        }
        if kind != Some(EntryKind::Folder) {
            changes.lost_below(c, disk, path)?;
            changes.lost_nodes_below(c, disk, path)?;
        }
        Ok(())
    }

    fn folder(&mut self, listing: &Listing) -> Result<()> {
        let looks = if listing.is_ours() { None } else { looks_of(listing) };
        let known = match looks {
            Some(_) => folders::get(self.c, self.disk, &listing.path)?,
            None => None,
        };
        if let (Some(looks), Some(known)) = (looks, &known)
            && looks == known.looks
        {
            self.changes.unchanged += known.files;
            self.changes.known += known.files;
            return Ok(());
        }
        let (before, files) = (self.changes.count(), self.changes.unchanged);
        self.files(listing)?;
        if !listing.is_ours() {
            self.nodes(listing)?;
        }
        let is_alike = self.changes.count() == before;
        match looks.filter(|_| is_alike && !listing.is_told && self.is_settled(listing)) {
            Some(looks) => {
                let (path, files) = (listing.path.clone(), self.changes.unchanged - files);
                self.changes.alike.push(FolderRow { path, looks, files });
            }
            None if known.is_some() => self.changes.unlike.push(listing.path.clone()),
            None => {}
        }
        Ok(())
    }

    /// Nothing about it is so new that a further change might not show.
    fn is_settled(&self, listing: &Listing) -> bool {
        let stats = listing.stat.iter().chain(listing.entries.iter().map(|entry| &entry.stat));
        stats.into_iter().all(|stat| stat.ctime.max(stat.mtime) < self.now.saturating_sub(FRESH))
    }

    /// The files of a folder, and the names that the catalogue has in it.
    fn files(&mut self, listing: &Listing) -> Result<()> {
        // What is held is no file of the volume; a piece is of one.
        let (c, disk, counts) = (self.c, self.disk, !listing.path.is_held());
        let changes = &mut self.changes;
        let mut found = listing.entries.iter().filter(|entry| entry.stat.kind == EntryKind::File).peekable();
        objects::for_each_known_in(c, disk, &listing.path, |name, known| {
            let known = match known {
                InFolder::Entry(known) => known,
                InFolder::Below => return changes.vanished_below(c, disk, listing, name),
            };
            changes.known += u64::from(counts);
            while let Some(new) = found.next_if(|entry| entry.name.as_slice() < name) {
                changes.add(listing, new, None)?;
            }
            match found.next_if(|entry| entry.name == name) {
                Some(entry) if known.stamp.is_of(&entry.stat) && known.left_out == entry.left_out => {
                    changes.unchanged += u64::from(counts);
                    Ok(())
                }
                Some(entry) => changes.add(listing, entry, objects::get(c, known.object)?),
                None => {
                    let path = in_folder(&listing.path, name)?;
                    changes.vanished.extend(objects::get(c, known.object)?.map(|object| (path, object)));
                    Ok(())
                }
            }
        })?;
        found.try_for_each(|entry| changes.add(listing, entry, None))
    }

    /// Folders, symlinks and special files of a folder, and those that the catalogue has in it.
    fn nodes(&mut self, listing: &Listing) -> Result<()> {
        let (c, disk) = (self.c, self.disk);
        let changes = &mut self.changes;
        let mut found = listing.entries.iter().filter(|entry| entry.stat.kind != EntryKind::File).peekable();
        nodes::for_each_in_folder(c, disk, &listing.path, |name, node| {
            let InFolder::Entry(node) = node else {
                return changes.vanished_nodes_below(c, disk, listing, name);
            };
            while let Some(new) = found.next_if(|entry| entry.name.as_slice() < name) {
                changes.nodes.push((in_folder(&listing.path, &new.name)?, new.stat));
            }
            match found.next_if(|entry| entry.name == name) {
                Some(entry) if is_same(node, &entry.stat) => {}
                Some(entry) => changes.nodes.push((in_folder(&listing.path, name)?, entry.stat)),
                None if listing.out_of_sight.iter().any(|covered| covered == name) => {}
                None => {
                    changes.unlike.push(in_folder(&listing.path, name)?);
                    changes.vanished_nodes.push(in_folder(&listing.path, name)?);
                }
            }
            Ok(())
        })?;
        for entry in found {
            changes.nodes.push((in_folder(&listing.path, &entry.name)?, entry.stat));
        }
        Ok(())
    }
}

impl DiskChanges {
    fn add(&mut self, listing: &Listing, entry: &Entry, before: Option<ObjectRow>) -> Result<()> {
        self.file(in_folder(&listing.path, &entry.name)?, entry.stat, entry.left_out, before);
        Ok(())
    }

    fn file(&mut self, path: RelPath, stat: Stat, left_out: bool, before: Option<ObjectRow>) {
        if let Some(object) = &before
            && object.matches(&stat)
        {
            self.unchanged += u64::from(!path.is_held());
            if object.left_out != left_out {
                self.left_out_changed.push((object.clone(), left_out));
            }
            return;
        }
        self.files.push((path, SeenFile { stat, left_out, before: before.map(Box::new) }));
    }

    /// What the catalogue has below a folder that is not there.
    fn vanished_below(&mut self, c: &Connection, disk: DiskId, listing: &Listing, name: &[u8]) -> Result<()> {
        if is_walked(listing, name) {
            return Ok(());
        }
        self.lost_below(c, disk, &in_folder(&listing.path, name)?)
    }

    fn lost_below(&mut self, c: &Connection, disk: DiskId, folder: &RelPath) -> Result<()> {
        objects::for_each_name_below(c, disk, folder, |path, object| {
            self.known += 1;
            self.vanished.push((path, object));
            Ok(())
        })
    }

    fn vanished_nodes_below(
        &mut self,
        c: &Connection,
        disk: DiskId,
        listing: &Listing,
        name: &[u8],
    ) -> Result<()> {
        if is_walked(listing, name) {
            return Ok(());
        }
        self.lost_nodes_below(c, disk, &in_folder(&listing.path, name)?)
    }

    fn lost_nodes_below(&mut self, c: &Connection, disk: DiskId, folder: &RelPath) -> Result<()> {
        nodes::for_each_below(c, disk, folder, |path| {
            self.unlike.push(path.clone());
            self.vanished_nodes.push(path);
            Ok(())
        })
    }

    /// Whether each name that was known is still there, and no file came here from a name that was not looked at.
    fn are_of_known_names(&self, c: &Connection, disk: DiskId) -> Result<bool> {
        let other_inode = |file: &&SeenFile| file.before.as_ref().is_none_or(|o| o.inode != file.stat.inode);
        let come: HashSet<u64> =
            self.files.iter().map(|(_, file)| file).filter(other_inode).map(|file| file.stat.inode).collect();
        Ok(self.vanished.is_empty() && (come.is_empty() || !objects::has_inode(c, disk, &come)?))
    }
}

/// Whether a folder in this one is walked by itself.
fn is_walked(listing: &Listing, name: &[u8]) -> bool {
    let is_our_folder = listing.path.is_root() && name == sieve_core::path::OUR_FOLDER;
    let position = listing.entries.binary_search_by(|entry| entry.name.as_slice().cmp(name));
    let is_out_of_sight = listing.out_of_sight.iter().any(|covered| covered == name);
    is_our_folder
        || is_out_of_sight
        || position.is_ok_and(|position| listing.entries[position].stat.kind == EntryKind::Folder)
}

fn in_folder(folder: &RelPath, name: &[u8]) -> Result<RelPath> {
    folder.join(name).map_err(|why| sieve_catalogue::corrupt(format!("a path is not valid: {why}")))
}

/// The times of a folder move with everything in it, so they alone are taken up but do not matter.
fn is_same(node: &NodeRow, stat: &Stat) -> bool {
    node.kind == stat.kind && node.ctime == stat.ctime && node.attributes.mtime == stat.mtime
}

/// All that is compared of a folder, and its own times, in one number. Nothing if it is not there.
fn looks_of(listing: &Listing) -> Option<[u8; 16]> {
    let own = listing.stat.as_ref()?;
    let mut bytes = Vec::with_capacity(64 * (listing.entries.len() + 1));
    let stat = |bytes: &mut Vec<u8>, stat: &Stat| {
        bytes.extend_from_slice(&stat.inode.to_le_bytes());
        bytes.extend_from_slice(&stat.mtime.to_le_bytes());
        bytes.extend_from_slice(&stat.ctime.to_le_bytes());
    };
    stat(&mut bytes, own);
    for entry in &listing.entries {
        bytes.extend_from_slice(&(entry.name.len() as u64).to_le_bytes());
        bytes.extend_from_slice(&entry.name);
        bytes.extend_from_slice(&[entry.stat.kind as u8, u8::from(entry.left_out)]);
        bytes.extend_from_slice(&entry.stat.size.exact().to_le_bytes());
        stat(&mut bytes, &entry.stat);
    }
    let hash = blake3::hash(&bytes);
    hash.as_bytes().first_chunk().copied()
}
