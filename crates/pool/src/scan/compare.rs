//! Comparing a disk with the catalogue, folder by folder: a folder that looks as it did when all in it was as the
//! catalogue says is passed over.

use std::sync::atomic::{AtomicBool, Ordering};

use rusqlite::Connection;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::walk::{Entry, Listing, OutOfSight, Walk};
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

/// Walks the disk beside the catalogue; `now` is the time, nanoseconds since 1970.
pub(super) fn compare(
    c: &Connection,
    disk_id: DiskId,
    disk: &dyn Disk,
    leave_out: &[String],
    now: i64,
    is_over: &AtomicBool,
) -> Result<DiskChanges> {
    let mut walk = Walk::begin(disk, leave_out)?;
    let mut comparing = Comparing { c, disk: disk_id, now, changes: DiskChanges::default() };
    // One look at the locks of the catalogue for all of it.
    let reading = c.unchecked_transaction()?;
    while let Some(listing) = walk.next()? {
        comparing.folder(&listing)?;
        if is_over.load(Ordering::Relaxed) {
            return Err(Error::stopped());
        }
    }
    drop(reading);
    let mut changes = comparing.changes;
    changes.left_alone = walk.left_alone;
    changes.out_of_sight = walk.out_of_sight;
    Ok(changes)
}

struct Comparing<'a> {
    c: &'a Connection,
    disk: DiskId,
    now: i64,
    changes: DiskChanges,
}

impl Comparing<'_> {
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
        let (c, disk, is_ours) = (self.c, self.disk, listing.is_ours());
        let changes = &mut self.changes;
        let mut found = listing.entries.iter().filter(|entry| entry.stat.kind == EntryKind::File).peekable();
        objects::for_each_known_in(c, disk, &listing.path, |name, known| {
            let known = match known {
                InFolder::Entry(known) => known,
                InFolder::Below => return changes.vanished_below(c, disk, listing, name),
            };
            changes.known += u64::from(!is_ours);
            while let Some(new) = found.next_if(|entry| entry.name.as_slice() < name) {
                changes.add(listing, new, None)?;
            }
            match found.next_if(|entry| entry.name == name) {
                Some(entry) if known.stamp.is_of(&entry.stat) && known.left_out == entry.left_out => {
                    changes.unchanged += u64::from(!is_ours);
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
        if let Some(object) = &before
            && object.matches(&entry.stat)
        {
            self.unchanged += u64::from(!listing.is_ours());
            if object.left_out != entry.left_out {
                self.left_out_changed.push((object.clone(), entry.left_out));
            }
            return Ok(());
        }
        let seen = SeenFile { stat: entry.stat, left_out: entry.left_out, before: before.map(Box::new) };
        self.files.push((in_folder(&listing.path, &entry.name)?, seen));
        Ok(())
    }

    /// What the catalogue has below a folder that is not there.
    fn vanished_below(&mut self, c: &Connection, disk: DiskId, listing: &Listing, name: &[u8]) -> Result<()> {
        if is_walked(listing, name) {
            return Ok(());
        }
        objects::for_each_name_below(c, disk, &in_folder(&listing.path, name)?, |path, object| {
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
        nodes::for_each_below(c, disk, &in_folder(&listing.path, name)?, |path| {
            self.unlike.push(path.clone());
            self.vanished_nodes.push(path);
            Ok(())
        })
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
