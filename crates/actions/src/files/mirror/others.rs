//! Symlinks and empty folders of a mirrored volume.

use sieve_catalogue::label::Role;
use sieve_catalogue::nodes;
use sieve_catalogue::nodes::NodeRow;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_disk::Result;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk, EntryKind};
use sieve_pool::looks::looks_of;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use std::collections::BTreeMap;

/// Folders and symlinks are on as many disks as files.
pub(super) fn follow(pool: &Pool, volume: &VolumeSpec) -> Result<()> {
    let members: Vec<&Member> = pool.members_of(&volume.name, Role::Data).collect();
    let copies = volume.copies.min(members.len());
    let mut found: BTreeMap<RelPath, Vec<(usize, EntryKind)>> = BTreeMap::new();
    for (disk, member) in members.iter().enumerate() {
        nodes::for_each(pool.catalogue.reading(), member.row.id, |path, node| {
            if node.kind != EntryKind::Special {
                found.entry(path).or_default().push((disk, node.kind));
            }
            Ok(())
        })?;
    }
    let mut made = Vec::new();
    for (path, on) in found.iter().filter(|(_, on)| on.len() < copies) {
        let (first, kind) = on[0];
        let source = members[first].usable()?;
        let lacking = (0..members.len()).filter(|disk| on.iter().all(|(has, _)| has != disk));
        for disk in lacking.take(copies - on.len()) {
            make_node(pool, &**source, members[disk], path, kind)?;
            made.push((disk, path.clone()));
        }
    }
    // The innermost first: what is made in a folder moves its times.
    for (disk, path) in made.iter().rev() {
        let source = members[found[path][0].0].usable()?;
        if let Some(stat) = source.stat(path)?.filter(|stat| stat.kind == EntryKind::Folder) {
            members[*disk].writable()?.set_time(path, stat.mtime)?;
        }
    }
    Ok(())
}

fn make_node(pool: &Pool, source: &dyn Disk, member: &Member, path: &RelPath, kind: EntryKind) -> Result<()> {
    let target = &**member.writable()?;
    let Some(stat) = source.stat(path)?.filter(|stat| stat.kind == kind) else { return Ok(()) };
    if target.stat(path)?.is_some() {
        return Ok(());
    }
    if kind == EntryKind::Folder {
        return durable::make_folders(target, path, |folder| looks_of(source, folder)).map(|_| ());
    }
    if let Some(parent) = path.parent() {
        durable::make_folders(target, &parent, |folder| looks_of(source, folder))?;
    }
    let goes_to = source.read_link(path)?;
    let attributes = Attributes::of(&stat, Vec::new());
    target.make_symlink(&goes_to, path)?;
    target.set_attributes(path, &attributes)?;
    durable::sync_parents(target, [path])?;
    let Some(made) = target.stat(path)? else { return Ok(()) };
    let node = NodeRow { kind, attributes, ctime: made.ctime, target: Some(goes_to), recorded: 0 };
    pool.catalogue.transaction(|t| nodes::set(t, member.row.id, path, &node))
}
