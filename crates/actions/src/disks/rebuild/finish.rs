//! Giving the rebuilt files their names, and the new disks their place in the pool.

use std::collections::{BTreeMap, BTreeSet};

use rusqlite::Transaction;
use sieve_core::fate::{Fate, Recovered, Standing};
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::units::{ObjectId, VersionId};

use super::jobs::{self, Assembly, Job};
use super::plan::{RebuildReport, Salvaged, Target};
use super::target::DataTarget;
use sieve_catalogue as catalogue;
use sieve_catalogue::intents;
use sieve_catalogue::intents::Intent;
use sieve_catalogue::label::Role;
use sieve_catalogue::nodes::NodeRow;
use sieve_catalogue::pool_file::Edit;
use sieve_catalogue::{disks, held_files, nodes, objects, parity_state, versions};
use sieve_disk::copying;
use sieve_disk::durable;
use sieve_disk::{Attributes, Disk, EntryKind, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::checkpoint::{advance, note_written};
use sieve_pool::follow::{edit_pool_file, forget_intents, put_all_replicas};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::looks::looks_in_volume;
use sieve_pool::pieces::copied_file;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;

/// What an interrupted rebuild had finished: files under their names whose content is checked again here.
pub(super) fn finished_before(
    pool: &Pool,
    disk: &dyn Disk,
    jobs: &[Job],
    assemblies: &mut BTreeMap<VersionId, Assembly>,
) -> Result<BTreeSet<(VersionId, ObjectId)>> {
    let mut finished = BTreeSet::new();
    for job in jobs {
        for name in objects::names(pool.catalogue.reading(), job.object)? {
            if !is_file(disk, &name)? {
                continue;
            }
            let Some(version) = content_of(pool, disk, &name, job, assemblies)? else {
                let message = format!(
                    "{}: this file is not one that the rebuild wrote",
                    full_path(disk, &name).display()
                );
                return Err(Error::new(Kind::Safety, "rebuild.foreign-file", message)
                    .remedy("move it away and run the rebuild again"));
            };
            assemblies.get_mut(&version).expect("it is a candidate").state = Some(Recovered::Whole);
            finished.insert((version, job.object));
        }
    }
    Ok(finished)
}

fn is_file(disk: &dyn Disk, path: &RelPath) -> Result<bool> {
    Ok(disk.stat(path)?.is_some_and(|s| s.kind == EntryKind::File))
}

/// Which content of an object a file has.
fn content_of(
    pool: &Pool,
    disk: &dyn Disk,
    name: &RelPath,
    job: &Job,
    assemblies: &BTreeMap<VersionId, Assembly>,
) -> Result<Option<VersionId>> {
    let mut file = disk.open(name)?;
    let size = file.stat()?.size;
    let sum = copying::checksum(&mut *file, size, |_| Ok(()))?;
    let mut known = None;
    for version in job.version.iter().chain(&job.older).filter(|v| assemblies.contains_key(v)) {
        if Some(versions::get(pool.catalogue.reading(), *version)?.sum) == sum {
            known = Some(*version);
        }
    }
    Ok(known)
}

/// Gives every file that came back its names, then the folders their times.
pub(super) fn publish(pool: &Pool, target: &mut DataTarget, report: &mut RebuildReport) -> Result<()> {
    let mut folders = Vec::new();
    let mut symlinks = Vec::new();
    nodes::for_each(pool.catalogue.reading(), target.disk_id, |path, node| {
        match node.kind {
            EntryKind::Folder => folders.push((path, node)),
            EntryKind::Symlink => symlinks.push((path, node)),
            _ => {}
        }
        Ok(())
    })?;
    for (path, node) in &folders {
        durable::make_folders(&*target.disk, path, |folder| {
            Ok((folder == path).then(|| node.attributes.clone()))
        })?;
    }
    let mut batch = Vec::new();
    for position in 0..target.jobs.len() {
        let (fate, source) = jobs::outcome(&target.jobs[position], &target.assemblies);
        let names = objects::names(pool.catalogue.reading(), target.jobs[position].object)?;
        for name in names.iter().filter(|n| !n.is_held() && copied_file(n).is_none()) {
            report.obtained.add(fate, target.jobs[position].size);
            if !fate.is_whole() {
                report.not_back.push((name.to_string(), fate));
            }
        }
        if let Some(version) = source {
            let object = target.jobs[position].object;
            batch.extend(naming(pool, target, object, &names, version, fate)?);
            if batch.len() >= BATCH {
                give_names(pool, target, &std::mem::take(&mut batch))?;
            }
        } else if fate == Fate::Torn {
            salvage(pool, target, position, &names, report)?;
        }
    }
    give_names(pool, target, &batch)?;
    let mut linked = Vec::new();
    for (path, node) in &symlinks {
        let comes_back =
            (1..=target.newest_replica).contains(&node.recorded) || is_elsewhere(pool, target, path, node)?;
        let fate = if comes_back { Fate::Rebuilt } else { Fate::Gone };
        report.obtained.add(fate, sieve_core::units::ByteLength::ZERO);
        if !comes_back {
            report.not_back.push((path.to_string(), fate));
        } else if target.disk.stat(path)?.is_none() {
            make_parents(pool, target, path)?;
            target.disk.make_symlink(node.target.as_deref().unwrap_or_default(), path)?;
            target.disk.set_attributes(path, &node.attributes)?;
            linked.push(path);
        }
    }
    durable::sync_parents(&*target.disk, linked)?;
    for (path, node) in folders.iter().rev() {
        target.disk.set_attributes(path, &node.attributes)?;
    }
    Ok(())
}

/// What came back in pieces gets a name beside its own, which stays free.
fn salvage(
    pool: &Pool,
    target: &mut DataTarget,
    position: usize,
    names: &[RelPath],
    report: &mut RebuildReport,
) -> Result<()> {
    let job = &target.jobs[position];
    let torn = job.version.into_iter().chain(job.older).find(|version| target.holes.contains_key(version));
    let (Some(version), Some(name)) = (torn, names.iter().find(|name| !name.is_held())) else {
        return Ok(());
    };
    let holes = target.holes.remove(&version).unwrap_or_default();
    let at = name.beside(" (salvaged)").map_err(|e| {
        Error::new(Kind::Usage, "rebuild.salvage", format!("{name}: no name beside it: {e}"))
            .remedy("rebuild without --salvage")
    })?;
    make_parents(pool, target, &at)?;
    let attributes = versions::get(pool.catalogue.reading(), version)?.attributes;
    publish_file(&*target.disk.clone(), &target.torn(version), &at, &attributes)?;
    report.salvaged.push(Salvaged { path: name.to_string(), at: at.to_string(), holes });
    Ok(())
}

fn make_parents(pool: &Pool, target: &DataTarget, path: &RelPath) -> Result<()> {
    let Some(parent) = path.parent() else { return Ok(()) };
    if parent.is_ours() {
        return durable::make_own_folder(&*target.disk, &parent);
    }
    let volume = &pool.member(target.disk_id)?.row.volume;
    durable::make_folders(&*target.disk, &parent, |folder| {
        let own = nodes::get(pool.catalogue.reading(), target.disk_id, folder)?.map(|node| node.attributes);
        own.map_or_else(|| looks_in_volume(pool, volume, folder), |own| Ok(Some(own)))
    })
    .map(|_| ())
}

/// So many files get their names after one wait for the disk,
pub(super) const BATCH: usize = 256;
/// and so many bytes.
pub(super) const BATCH_BYTES: u64 = 256 << 20;

/// A file that came back, and the names that it is to get.
pub(super) struct Naming {
    names: Vec<RelPath>,
    from: Origin,
}

/// What gets the names.
enum Origin {
    /// A file that is whole, with its attributes, and not durable yet.
    Unfinished(RelPath),
    /// One that has a name already.
    Named(RelPath),
}

/// The names that an object still has to get; none where an earlier run gave it all of them.
pub(super) fn naming(
    pool: &Pool,
    target: &mut DataTarget,
    object: ObjectId,
    names: &[RelPath],
    version: VersionId,
    fate: Fate,
) -> Result<Option<Naming>> {
    let was_begun = target.finished.contains(&(version, object));
    let (mut missing, mut there) = (Vec::new(), None);
    for name in names {
        if was_begun && is_file(&*target.disk, name)? {
            there.get_or_insert_with(|| name.clone());
        } else {
            missing.push(name.clone());
        }
    }
    if missing.is_empty() {
        return Ok(None);
    }
    if let Some(there) = there {
        return Ok(Some(Naming { names: missing, from: Origin::Named(there) }));
    }
    let attributes = if fate == Fate::Rebuilt {
        objects::attributes(pool.catalogue.reading(), object)?
    } else {
        versions::get(pool.catalogue.reading(), version)?.attributes
    };
    let whole = whole_copy(pool, target, version)?;
    target.disk.set_attributes(&whole, &attributes)?;
    Ok(Some(Naming { names: missing, from: Origin::Unfinished(whole) }))
}

/// Gives files their names.
///
/// # Crash safety
/// All of them are durable before the first gets its name: a rebuild that goes on takes what has a name for whole.
pub(super) fn give_names(pool: &Pool, target: &DataTarget, namings: &[Naming]) -> Result<()> {
    let unfinished: Vec<&RelPath> = namings
        .iter()
        .filter_map(|naming| match &naming.from {
            Origin::Unfinished(path) => Some(path),
            Origin::Named(_) => None,
        })
        .collect();
    durable::sync_files(&*target.disk, &unfinished)?;
    let mut renamed = Vec::new();
    for naming in namings {
        let mut named = match &naming.from {
            Origin::Unfinished(_) => None,
            Origin::Named(name) => Some(name),
        };
        for name in &naming.names {
            make_parents(pool, target, name)?;
            match (named, &naming.from) {
                (Some(first), _) => target.disk.link(first, name)?,
                (None, Origin::Unfinished(path) | Origin::Named(path)) => target.disk.rename(path, name)?,
            }
            named.get_or_insert(name);
            renamed.push(name);
        }
    }
    durable::sync_parents(&*target.disk, renamed)
}

/// The unfinished file of a content; a copy of it, where it was used already (a replaced file that comes back
/// under its name, and is held as well).
fn whole_copy(pool: &Pool, target: &mut DataTarget, version: VersionId) -> Result<RelPath> {
    if let Some(path) = target.temporary(version) {
        return if target.shared.contains(&version) { copy(target, &path) } else { Ok(path) };
    }
    let finisher = target.finisher(version).expect("without an unfinished file somebody finished it");
    for name in objects::names(pool.catalogue.reading(), finisher)? {
        if is_file(&*target.disk, &name)? {
            return copy(target, &name);
        }
    }
    let message = format!("content {version} is not at hand");
    Err(Error::new(Kind::Internal, "rebuild.lost-copy", message))
}

fn copy(target: &mut DataTarget, from: &RelPath) -> Result<RelPath> {
    let to = target.next_path();
    let mut input = target.disk.open(from)?;
    let mut output = target.disk.create(&to)?;
    output.set_length(input.stat()?.size.exact())?;
    copying::copy(&mut *input, &mut *output, |_| Ok(()))?;
    Ok(to)
}

fn publish_file(disk: &dyn Disk, from: &RelPath, name: &RelPath, attributes: &Attributes) -> Result<()> {
    disk.set_attributes(from, attributes)?;
    disk.modify(from)?.sync()?;
    durable::publish(disk, from, name)
}

/// The one switch: the new disks take the place of the old ones.
///
/// # Crash safety
/// Before the commit the rebuild can be run again, after it only the pool file and the replicas have to follow.
pub(super) fn commit(
    pool: &Pool,
    targets: &[Target],
    data: &[DataTarget],
    images: &[ParityImage],
) -> Result<()> {
    let now = pool.machine.now();
    pool.catalogue.transaction(|t| {
        for target in data {
            for job in &target.jobs {
                let (_, source) = jobs::outcome(job, &target.assemblies);
                adopt_object(t, target, job, source)?;
            }
            accept_nodes(t, target)?;
            objects::forget_nameless(t, target.disk_id)?;
        }
        for part in images.iter().flat_map(ParityImage::parts) {
            note_written(t, part)?;
            for cell in parity_state::damaged_parity(t, part.member())? {
                parity_state::set_damaged_parity(t, part.member(), cell, false)?;
            }
        }
        for target in targets {
            let filesystem = target.new.bound();
            disks::succeed(t, &target.row, target.successor, filesystem.as_ref(), now)?;
            let is_it = |i: &Intent| matches!(i, Intent::Rebuild { disk, .. } if *disk == target.row.id);
            intents::remove_where(t, is_it)?;
            intents::insert(t, &follows(pool, target))?;
        }
        catalogue::mark_changed(t)?;
        advance(t, &*pool.machine).map(|_| ())
    })
}

fn adopt_object(
    t: &Transaction<'_>,
    target: &DataTarget,
    job: &Job,
    source: Option<VersionId>,
) -> Result<()> {
    let names = objects::names(t, job.object)?;
    let first = names.first().filter(|_| source.is_some());
    let stat = first.map(|name| target.disk.stat(name)).transpose()?.flatten();
    let (Some(version), Some(first), Some(stat)) = (source, first, stat) else {
        for name in &names {
            objects::remove_name(t, target.disk_id, name)?;
            held_files::remove(t, target.disk_id, name)?;
        }
        return Ok(());
    };
    objects::set_stat(t, job.object, &stat, Standing::Same)?;
    // An older state has the attributes that it had, and the next rebuild is to know that.
    let looks = Attributes::of(&stat, target.disk.extended_attributes(first)?);
    objects::set_extended(t, job.object, looks.pack_extended().as_deref())?;
    // A replaced file that came back under its name is a second copy of what is held: it waits for the next sync.
    let is_copy = !first.is_held() && target.held.contains(&version);
    objects::set_version(t, job.object, (!is_copy).then_some(version), Standing::Same, None)
}

/// Whether another disk of a mirrored volume has the same symlink.
fn is_elsewhere(pool: &Pool, target: &DataTarget, path: &RelPath, node: &NodeRow) -> Result<bool> {
    let row = &pool.member(target.disk_id)?.row;
    if pool.volume(Some(&row.volume))?.kind != VolumeKind::Mirrored {
        return Ok(false);
    }
    for member in pool.members_of(&row.volume, Role::Data).filter(|m| m.row.id != target.disk_id) {
        let Ok(disk) = member.usable() else { continue };
        let is_link = disk.stat(path)?.is_some_and(|stat| stat.kind == EntryKind::Symlink);
        if is_link && Some(disk.read_link(path)?) == node.target {
            return Ok(true);
        }
    }
    Ok(false)
}

/// What lies there besides files: what did not come back is forgotten, and what did is what it was, made anew: the replicas
/// go on knowing it (L8).
fn accept_nodes(t: &Transaction<'_>, target: &DataTarget) -> Result<()> {
    let (mut lost, mut back) = (Vec::new(), Vec::new());
    nodes::for_each(t, target.disk_id, |path, node| {
        match target.disk.stat(&path)?.filter(|stat| stat.kind == node.kind) {
            Some(stat) => back.push((path, NodeRow { ctime: stat.ctime, ..node })),
            None if node.kind == EntryKind::Folder => {}
            None => lost.push(path),
        }
        Ok(())
    })?;
    lost.iter().try_for_each(|path| nodes::remove(t, target.disk_id, path))?;
    back.iter().try_for_each(|(path, node)| nodes::set(t, target.disk_id, path, node))
}

/// The changes of the pool file. The serial number of the disk that died would have somebody pull the wrong one; its bay is
/// taken to be that of the new one, which is asked of nobody in that hour.
pub(super) fn changes(pool: &Pool, target: &Target) -> Vec<Edit> {
    let disk = || target.row.name.clone();
    let bay = pool.spec.disk(&target.row.name).and_then(|spec| spec.bay.clone());
    let notes = bay.map(|bay| ("bay".to_string(), bay)).into_iter().collect();
    vec![
        Edit::About { disk: disk(), forgets: true, notes },
        Edit::Path { disk: disk(), path: target.new.at.clone() },
    ]
}

/// What has to follow the commit.
fn follows(pool: &Pool, target: &Target) -> Intent {
    Intent::EditPoolFile { edits: changes(pool, target) }
}

/// The pool file, the replicas and the journal follow.
pub(super) fn conclude(pool: &mut Pool, targets: &[Target], report: &RebuildReport) -> Result<()> {
    for target in targets {
        let edits = changes(pool, target);
        edit_pool_file(pool, &edits)?;
    }
    put_all_replicas(pool, pool.members.iter().filter(|m| m.state.is_usable()))?;
    // After the replicas: else nobody would know that they still speak of the disks that died.
    let followed: Vec<Intent> = targets.iter().map(|target| follows(pool, target)).collect();
    forget_intents(pool, |intent| followed.contains(intent))?;
    pool.refresh_rows()?;
    let well = report.not_back.is_empty() && report.damage.is_empty() && report.parity_cells_left == 0;
    pool.tell(
        Entry::new(Did::Rebuild)
            .ended(Ended::of(report.stopped, well))
            .on(targets.iter().map(|target| &target.row.name))
            .moved((&report.read_bytes, &report.written_bytes))
            .detail(report)?,
    )
}
