//! Bringing the catalogue up to date with what a scan found.

use sieve_catalogue::contents;
use std::collections::{HashMap, HashSet};

use rusqlite::Transaction;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::{ByteLength, DiskId, ObjectId};

use super::compare::{DiskChanges, SeenFile};
use super::report::ScanReport;
use crate::member::{Member, State};
use crate::pool::Pool;
use sieve_catalogue::gone;
use sieve_catalogue::gone::GoneRow;
use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{disks, folders};
use sieve_disk::Result;
use sieve_disk::{Attributes, Disk, EntryKind, Stat};

/// What is known while the files of a scan are told apart.
#[derive(Default)]
struct Seen {
    /// Objects that kept their name, or lost it, by inode.
    known: HashMap<u64, ObjectRow>,
    /// Inodes that gave their name to another file and have a different one now.
    elsewhere: HashSet<u64>,
    /// Objects with several names, by inode, once the first name was met.
    linked: HashMap<u64, ObjectId>,
    /// Objects that were met under a new name.
    moved: HashSet<ObjectId>,
}

struct Applier<'a> {
    transaction: &'a Transaction<'a>,
    disk_id: DiskId,
    disk: &'a dyn Disk,
    now: i64,
    report: ScanReport,
}

/// What can be told before anything is recorded.
pub(super) fn report_of(member: &Member, changes: &DiskChanges) -> ScanReport {
    ScanReport {
        disk: member.row.name.clone(),
        files: changes.unchanged + changes.files.iter().filter(|(p, _)| !p.is_held()).count() as u64,
        known: changes.known,
        left_alone: changes.left_alone.clone(),
        out_of_sight: changes.out_of_sight.iter().map(|folder| folder.why.clone()).collect(),
        ..ScanReport::default()
    }
}

pub(super) fn apply(
    pool: &Pool,
    member: &Member,
    disk: &dyn Disk,
    changes: DiskChanges,
) -> Result<ScanReport> {
    let report = report_of(member, &changes);
    pool.catalogue.transaction(|transaction| {
        if !changes.is_empty() {
            sieve_catalogue::mark_changed(transaction)?;
        }
        let now = pool.machine.now();
        let mut applier = Applier { transaction, disk_id: member.row.id, disk, now, report };
        applier.files(&changes.files, changes.vanished)?;
        applier.nodes(changes.nodes, &changes.vanished_nodes)?;
        folders::keep(transaction, member.row.id, &changes.alike)?;
        changes.unlike.iter().try_for_each(|path| folders::forget(transaction, member.row.id, path))?;
        for (object, left_out) in changes.left_out_changed {
            contents::set_left_out(transaction, object.id, left_out)?;
        }
        if matches!(member.state, State::OlderCopy { .. }) {
            // An older copy was put back: nothing on it is taken at its word until it has been read.
            contents::doubt_all(transaction, member.row.id)?;
        }
        if !changes.is_part {
            disks::set_scanned(transaction, member.row.id, pool.machine.now())?;
        }
        Ok(applier.report)
    })
}

impl Applier<'_> {
    /// Decides, for every file that is new or different, which object it is.
    fn files(&mut self, files: &[(RelPath, SeenFile)], vanished: Vec<(RelPath, ObjectRow)>) -> Result<()> {
        // What was made again between the walk and now, the next scan sees.
        let mut vanished_now = Vec::new();
        for (path, object) in vanished {
            if self.disk.stat(&path)?.is_none_or(|s| s.kind != EntryKind::File) {
                vanished_now.push((path, object));
            }
        }
        let mut seen = Seen::default();
        let still = files.iter().filter_map(|(_, f)| f.before.as_deref().filter(|o| o.inode == f.stat.inode));
        for object in still.chain(vanished_now.iter().map(|(_, object)| object)) {
            seen.known.entry(object.inode).or_insert_with(|| object.clone());
        }
        let replaced =
            files.iter().filter_map(|(_, f)| f.before.as_deref().filter(|o| o.inode != f.stat.inode));
        let replaced: HashSet<u64> = replaced.map(|o| o.inode).collect();
        seen.elsewhere = files.iter().map(|(_, f)| f.stat.inode).filter(|i| replaced.contains(i)).collect();
        for (path, file) in files {
            self.file(path, file, &mut seen)?;
        }
        for (path, object) in &vanished_now {
            let moved = seen.moved.contains(&object.id);
            self.report.gone += u64::from(!moved && !path.is_held());
            if !moved && !path.is_held() {
                let (version, older) = (object.version, object.older);
                let row = GoneRow { path: path.clone(), version, older, since: self.now };
                gone::insert(self.transaction, self.disk_id, &row)?;
            }
            objects::remove_name(self.transaction, self.disk_id, path)?;
        }
        let had_names = files.iter().filter_map(|(_, file)| file.before.as_deref());
        for object in had_names.chain(vanished_now.iter().map(|(_, object)| object)) {
            objects::forget_if_nameless(self.transaction, object.id)?;
        }
        Ok(())
    }

    fn file(&mut self, path: &RelPath, file: &SeenFile, seen: &mut Seen) -> Result<()> {
        let inode = file.stat.inode;
        if file.before.is_none() && objects::by_path(self.transaction, self.disk_id, path)?.is_some() {
            return Ok(()); // recorded by another command since the walk
        }
        if let Some(id) = seen.linked.get(&inode) {
            return objects::set_name(self.transaction, self.disk_id, path, *id);
        }
        let same_name = file.before.as_deref().filter(|o| o.inode == inode);
        // A file that moved keeps its inode, size and modification time.
        let moved =
            || seen.known.get(&inode).filter(|o| o.size == file.stat.size && o.mtime == file.stat.mtime);
        // Saved by way of a new file: the name goes on with another inode.
        let saved_anew = || {
            let object = file.before.as_deref()?;
            (!seen.elsewhere.contains(&object.inode)
                && object.inode != inode
                && objects::names(self.transaction, object.id).ok()?.len() == 1)
                .then_some(object)
        };
        let id = match same_name.or_else(moved).or_else(saved_anew) {
            Some(object) => {
                self.update(object, &file.stat, path)?;
                object.id
            }
            None => {
                let linked = self.linked_object(&file.stat)?;
                match linked {
                    Some(object) => {
                        self.update(&object, &file.stat, path)?;
                        object.id
                    }
                    None => self.insert(path, file)?,
                }
            }
        };
        if file.before.as_ref().is_none_or(|o| o.id != id) {
            objects::set_name(self.transaction, self.disk_id, path, id)?;
        }
        if file.stat.links > 1 {
            seen.linked.insert(inode, id);
        }
        if file.before.is_none() && seen.known.contains_key(&inode) {
            seen.moved.insert(id);
        }
        Ok(())
    }

    /// A further name of an object whose other names did not change is found by its inode.
    fn linked_object(&self, stat: &Stat) -> Result<Option<ObjectRow>> {
        if stat.links < 2 {
            return Ok(None);
        }
        contents::by_inode(self.transaction, self.disk_id, stat)
    }

    fn insert(&mut self, path: &RelPath, file: &SeenFile) -> Result<ObjectId> {
        if !path.is_held() {
            self.report.new += 1;
            self.report.changed_bytes = self.report.changed_bytes.plus(file.stat.size);
        }
        let extended = self.extended(path, &file.stat);
        objects::insert(
            self.transaction,
            self.disk_id,
            &file.stat,
            extended.pack_extended().as_deref(),
            None,
            file.left_out,
        )
    }

    fn update(&mut self, object: &ObjectRow, stat: &Stat, path: &RelPath) -> Result<()> {
        let seen = if object.size != stat.size {
            Standing::Changed
        } else if object.mtime != stat.mtime || object.inode != stat.inode {
            Standing::Touched
        } else {
            Standing::Doubtful
        };
        let standing = match (object.version, seen) {
            (None, _) => Standing::Same,
            (_, Standing::Doubtful) => object.standing.max(seen),
            _ if object.standing == Standing::Changed => Standing::Changed,
            _ => seen,
        };
        if seen == Standing::Doubtful && object.matches_but_for_ctime(stat) {
            self.report.renamed += 1;
        } else {
            self.report.changed += 1;
            self.report.changed_bytes = self.report.changed_bytes.plus(stat.size);
        }
        self.report.emptied += u64::from(stat.size == ByteLength::ZERO && object.size > ByteLength::ZERO);
        objects::set_stat(self.transaction, object.id, stat, standing)?;
        let extended = self.extended(path, stat);
        objects::set_extended(self.transaction, object.id, extended.pack_extended().as_deref())
    }

    fn extended(&self, path: &RelPath, stat: &Stat) -> Attributes {
        // A file that cannot be opened is met again, with a message, when it is to be read.
        Attributes::of(stat, self.disk.extended_attributes(path).unwrap_or_default())
    }

    fn nodes(&mut self, nodes: Vec<(RelPath, Stat)>, vanished: &[RelPath]) -> Result<()> {
        for path in vanished {
            if self.disk.stat(path)?.is_none_or(|s| s.kind == EntryKind::File) {
                nodes::remove(self.transaction, self.disk_id, path)?;
            }
        }
        for (path, stat) in nodes {
            let target = match stat.kind {
                EntryKind::Symlink => match self.disk.read_link(&path) {
                    Ok(target) => Some(target),
                    Err(_) => continue, // gone again
                },
                _ => None,
            };
            let attributes = match stat.kind {
                EntryKind::Folder => self.extended(&path, &stat),
                _ => Attributes::of(&stat, Vec::new()),
            };
            let node = NodeRow { kind: stat.kind, attributes, ctime: stat.ctime, target, recorded: 0 };
            nodes::set(self.transaction, self.disk_id, &path, &node)?;
        }
        Ok(())
    }
}
