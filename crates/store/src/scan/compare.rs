//! Comparing a disk with the catalogue: both in tree order, side by side.

use rusqlite::Connection;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::walk::{Found, Walk};
use crate::catalogue::objects::{self, Known, NodeRow, ObjectRow};
use crate::disk::{Disk, EntryKind, Stat};
use crate::error::Result;

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
    pub(super) unchanged: u64,
    pub(super) known: u64,
    pub(super) left_alone: Vec<String>,
}

/// Walks the disk and the catalogue's names together, first the files, then folders and symlinks.
pub(super) fn compare(
    c: &Connection,
    disk_id: DiskId,
    disk: &dyn Disk,
    leave_out: &[String],
) -> Result<DiskChanges> {
    let mut sides = Sides {
        walk: Walk::begin(disk, leave_out)?,
        next: None,
        others: Vec::new(),
        changes: DiskChanges::default(),
    };
    sides.advance()?;
    objects::for_each_known(c, disk_id, |key, known| sides.known(c, key, known))?;
    while let Some(found) = sides.next {
        sides.changes.add(sides.walk.path(), found, None);
        sides.advance()?;
    }
    let Sides { walk, others, mut changes, .. } = sides;
    compare_nodes(c, disk_id, others, &mut changes)?;
    changes.left_alone = walk.left_alone;
    Ok(changes)
}

/// The disk and the catalogue, side by side.
struct Sides<'a> {
    walk: Walk<'a>,
    /// The next ordinary file on the disk; its place is that of the walk.
    next: Option<Found>,
    /// What else was passed on the way.
    others: Vec<(Vec<u8>, RelPath, Stat)>,
    changes: DiskChanges,
}

impl Sides<'_> {
    /// Goes on to the next ordinary file; what else is passed on the way is put aside.
    fn advance(&mut self) -> Result<()> {
        self.next = None;
        while let Some(found) = self.walk.next()? {
            if found.stat.kind == EntryKind::File {
                self.next = Some(found);
                return Ok(());
            }
            let path = self.walk.path();
            if !path.is_ours() {
                self.others.push((self.walk.key().to_vec(), path, found.stat));
            }
        }
        Ok(())
    }

    /// A name that the catalogue knows: what comes before it on the disk is new, and it is there, or it is gone.
    fn known(&mut self, c: &Connection, key: &[u8], known: &Known) -> Result<()> {
        self.changes.known += u64::from(!is_held_key(key));
        while let Some(found) = self.next
            && self.walk.key() < key
        {
            self.changes.add(self.walk.path(), found, None);
            self.advance()?;
        }
        let object = || objects::get(c, known.object);
        match self.next {
            Some(found) if self.walk.key() == key => {
                if known.stamp.is_of(&found.stat) && known.left_out == found.left_out {
                    self.changes.unchanged += u64::from(!is_held_key(key));
                } else {
                    self.changes.add(self.walk.path(), found, object()?);
                }
                self.advance()
            }
            _ => {
                let path = objects::path_of(key)?;
                self.changes.vanished.extend(object()?.map(|object| (path, object)));
                Ok(())
            }
        }
    }
}

fn is_held_key(key: &[u8]) -> bool {
    key.starts_with(b".zinc-sieve\0held\0")
}

impl DiskChanges {
    pub(super) fn is_empty(&self) -> bool {
        self.files.is_empty()
            && self.vanished.is_empty()
            && self.nodes.is_empty()
            && self.vanished_nodes.is_empty()
            && self.left_out_changed.is_empty()
    }

    fn add(&mut self, path: RelPath, found: Found, before: Option<ObjectRow>) {
        if let Some(object) = &before
            && object.matches(&found.stat)
        {
            self.unchanged += u64::from(!super::is_held(&path));
            if object.left_out != found.left_out {
                self.left_out_changed.push((object.clone(), found.left_out));
            }
            return;
        }
        let before = before.map(Box::new);
        self.files.push((path, SeenFile { stat: found.stat, left_out: found.left_out, before }));
    }
}

fn compare_nodes(
    c: &Connection,
    disk_id: DiskId,
    others: Vec<(Vec<u8>, RelPath, Stat)>,
    changes: &mut DiskChanges,
) -> Result<()> {
    let mut found = others.into_iter().peekable();
    objects::for_each_node(c, disk_id, |path, node| {
        let key = path.tree_key();
        while let Some((_, path, stat)) = found.next_if(|(k, ..)| *k < key) {
            changes.nodes.push((path, stat));
        }
        match found.next_if(|(k, ..)| *k == key) {
            Some((_, path, stat)) if !is_same(&node, &stat) => changes.nodes.push((path, stat)),
            Some(_) => {}
            None => changes.vanished_nodes.push(path),
        }
        Ok(())
    })?;
    changes.nodes.extend(found.map(|(_, path, stat)| (path, stat)));
    Ok(())
}

/// The times of a folder move with everything in it, so they alone are taken up but do not matter.
fn is_same(node: &NodeRow, stat: &Stat) -> bool {
    node.kind == stat.kind && node.ctime == stat.ctime && node.attributes.mtime == stat.mtime
}
