//! Comparing a disk with the catalogue: both in tree order, side by side.

use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::walk::{Found, Walk};
use crate::catalogue::Catalogue;
use crate::catalogue::objects::{self, NodeRow, ObjectRow};
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
    catalogue: &Catalogue,
    disk_id: DiskId,
    disk: &dyn Disk,
    leave_out: &[String],
) -> Result<DiskChanges> {
    let mut changes = DiskChanges::default();
    let mut walk = Walk::begin(disk, leave_out)?;
    let mut others: Vec<(Vec<u8>, RelPath, Stat)> = Vec::new();
    let mut next = next_file(&mut walk, &mut others)?;
    objects::for_each_name(catalogue.reading(), disk_id, |path, object| {
        changes.known += u64::from(!super::is_held(&path));
        let key = path.tree_key();
        while let Some((found_key, _)) = &next
            && *found_key < key
        {
            let (_, found) = next.take().expect("just looked at");
            changes.add(found, None);
            next = next_file(&mut walk, &mut others)?;
        }
        match &next {
            Some((found_key, _)) if *found_key == key => {
                let (_, found) = next.take().expect("just looked at");
                changes.add(found, Some(object));
                next = next_file(&mut walk, &mut others)?;
            }
            _ => changes.vanished.push((path, object)),
        }
        Ok(())
    })?;
    while let Some((_, found)) = next {
        changes.add(found, None);
        next = next_file(&mut walk, &mut others)?;
    }
    compare_nodes(catalogue, disk_id, others, &mut changes)?;
    changes.left_alone = walk.left_alone;
    Ok(changes)
}

/// The next ordinary file; what else is passed on the way is put aside.
fn next_file(
    walk: &mut Walk<'_>,
    others: &mut Vec<(Vec<u8>, RelPath, Stat)>,
) -> Result<Option<(Vec<u8>, Found)>> {
    while let Some(found) = walk.next()? {
        if found.stat.kind == EntryKind::File {
            return Ok(Some((found.path.tree_key(), found)));
        }
        if !found.path.is_ours() {
            others.push((found.path.tree_key(), found.path, found.stat));
        }
    }
    Ok(None)
}

impl DiskChanges {
    pub(super) fn is_empty(&self) -> bool {
        self.files.is_empty()
            && self.vanished.is_empty()
            && self.nodes.is_empty()
            && self.vanished_nodes.is_empty()
            && self.left_out_changed.is_empty()
    }

    fn add(&mut self, found: Found, before: Option<ObjectRow>) {
        if let Some(object) = &before
            && object.matches(&found.stat)
        {
            self.unchanged += u64::from(!super::is_held(&found.path));
            if object.left_out != found.left_out {
                self.left_out_changed.push((object.clone(), found.left_out));
            }
            return;
        }
        let before = before.map(Box::new);
        self.files.push((found.path, SeenFile { stat: found.stat, left_out: found.left_out, before }));
    }
}

fn compare_nodes(
    catalogue: &Catalogue,
    disk_id: DiskId,
    others: Vec<(Vec<u8>, RelPath, Stat)>,
    changes: &mut DiskChanges,
) -> Result<()> {
    let mut found = others.into_iter().peekable();
    objects::for_each_node(catalogue.reading(), disk_id, |path, node| {
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
