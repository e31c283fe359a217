//! Removing files: out of sight at once, held until the next sync has passed them.

use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::catalogue;
use crate::catalogue::nodes;
use crate::catalogue::objects::{self, ObjectRow};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::fate::Count;
use crate::held::{self, ToHold};
use crate::journal;
use crate::pieces;
use crate::pool::Pool;
use crate::scan;
use crate::writer::ShortWriter;

/// So many files are held at once.
const BATCH: usize = 256;

/// What is removed.
#[derive(Default)]
pub struct RemovePlan {
    files: Vec<(DiskId, RelPath)>,
    symlinks: Vec<(DiskId, RelPath)>,
    folders: Vec<(DiskId, RelPath)>,
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// Symlinks and folders.
    pub others: u64,
}

/// What was removed.
#[derive(Debug, Serialize)]
pub struct RemoveReport {
    /// Files and bytes for each disk.
    pub by_disk: Vec<(String, Count)>,
    /// Symlinks and folders.
    pub others: u64,
}

/// Finds what the paths name.
///
/// # Errors
/// When a path names nothing, or a folder without `recursive`; when a disk of the volume is not there.
pub fn plan(pool: &Pool, volume: &str, paths: &[RelPath], recursive: bool) -> Result<RemovePlan> {
    let mut plan = RemovePlan::default();
    let mut found = vec![false; paths.len()];
    for member in pool.file_members(volume) {
        member.writable()?;
        scan::scan(pool, member)?;
        let mut count = Count::default();
        objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, object| {
            if path.is_ours() {
                return Ok(());
            }
            if let Some(position) = paths.iter().position(|p| path.is_within(p)) {
                refuse_folder(&paths[position], &path, recursive)?;
                found[position] = true;
                count.add(object.size);
                plan.files.push((member.row.id, path));
            }
            Ok(())
        })?;
        nodes::for_each(pool.catalogue.reading(), member.row.id, |path, node| {
            if let Some(position) = paths.iter().position(|p| path.is_within(p)) {
                let is_folder = node.kind == crate::disk::EntryKind::Folder;
                if is_folder && !recursive {
                    return Err(is_a_folder(&path));
                }
                refuse_folder(&paths[position], &path, recursive)?;
                found[position] = true;
                plan.others += 1;
                if is_folder { &mut plan.folders } else { &mut plan.symlinks }.push((member.row.id, path));
            }
            Ok(())
        })?;
        plan.by_disk.push((member.row.name.clone(), count));
    }
    plan_pieces(pool, volume, paths, recursive, &mut plan, &mut found)?;
    match found.iter().position(|f| !f) {
        None => Ok(plan),
        Some(missing) => {
            let message = format!("there is no {} in volume {volume}", paths[missing]);
            Err(Error::new(Kind::NotFound, "file.not-found", message).remedy("zinc-sieve ls"))
        }
    }
}

/// Files in pieces go piece by piece.
fn plan_pieces(
    pool: &Pool,
    volume: &str,
    paths: &[RelPath],
    recursive: bool,
    plan: &mut RemovePlan,
    found: &mut [bool],
) -> Result<()> {
    // What an interrupted removal left goes the same way.
    for file in pieces::files(pool, volume)?.into_iter().chain(pieces::rests(pool, volume)?) {
        let Some(position) = paths.iter().position(|p| file.path.is_within(p)) else { continue };
        refuse_folder(&paths[position], &file.path, recursive)?;
        found[position] = true;
        for piece in file.pieces {
            let name = &pool.member(piece.disk)?.row.name;
            if let Some((_, count)) = plan.by_disk.iter_mut().find(|(disk, _)| disk == name) {
                count.add(piece.note.length);
            }
            plan.files.push((piece.disk, piece.path));
        }
    }
    Ok(())
}

fn refuse_folder(asked: &RelPath, path: &RelPath, recursive: bool) -> Result<()> {
    if recursive || asked == path { Ok(()) } else { Err(is_a_folder(asked)) }
}

fn is_a_folder(path: &RelPath) -> Error {
    Error::new(Kind::Usage, "rm.folder", format!("{path} is a folder"))
        .remedy("add --recursive to remove it with everything in it")
}

/// Removes what was planned.
///
/// # Crash safety
/// Each file is under its name or held; the next start finishes what was begun.
///
/// # Errors
/// What a disk or the database says.
pub fn execute(pool: &Pool, plan: RemovePlan) -> Result<RemoveReport> {
    let _turn = ShortWriter::begin(&*pool.home)?;
    for member in &pool.members {
        let here: Vec<_> = plan.files.iter().filter(|(disk, ..)| *disk == member.row.id).collect();
        for batch in here.chunks(BATCH) {
            hold_batch(pool, member, batch)?;
        }
    }
    remove_nodes(pool, &plan)?;
    let report = RemoveReport { by_disk: plan.by_disk, others: plan.others };
    journal::append(&*pool.home, pool.machine.now(), "rm", &report)?;
    Ok(report)
}

fn hold_batch(pool: &Pool, member: &crate::member::Member, batch: &[&(DiskId, RelPath)]) -> Result<()> {
    let disk = member.writable()?;
    let mut to_hold = Vec::new();
    for (_, path) in batch {
        // What somebody else took away in the meantime is removed already.
        let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, path)? else { continue };
        let others = objects::names(pool.catalogue.reading(), object.id)?.len() > 1;
        if others {
            remove_one_name(pool, member, path, &object)?;
        } else {
            to_hold.push(ToHold { path: path.clone(), object });
        }
    }
    if to_hold.is_empty() {
        return Ok(());
    }
    held::begin(pool, member, to_hold, false)?.finish(&**disk)
}

/// A file with several names keeps its content under the others.
fn remove_one_name(
    pool: &Pool,
    member: &crate::member::Member,
    path: &RelPath,
    object: &ObjectRow,
) -> Result<()> {
    let disk = member.writable()?;
    let was_same = disk.stat(path)?.is_some_and(|s| object.matches(&s))
        || objects::get(pool.catalogue.reading(), object.id)?
            .zip(disk.stat(path)?)
            .is_some_and(|(o, s)| o.matches(&s));
    disk.remove_file(path)?;
    durable::sync_parents(&**disk, [path])?;
    pool.catalogue.transaction(|t| {
        catalogue::mark_changed(t)?;
        objects::remove_name(t, member.row.id, path)?;
        let left = objects::names(t, object.id)?;
        let stat = left.first().map(|other| disk.stat(other)).transpose()?.flatten();
        match (stat, objects::get(t, object.id)?) {
            (Some(stat), Some(now)) if was_same => objects::set_stat(t, object.id, &stat, now.standing),
            _ => Ok(()),
        }
    })
}

fn remove_nodes(pool: &Pool, plan: &RemovePlan) -> Result<()> {
    // Deepest first: tree order backwards.
    for (disk_id, path) in plan.symlinks.iter().chain(plan.folders.iter().rev()) {
        let disk = pool.member(*disk_id)?.writable()?;
        match disk.stat(path)?.map(|s| s.kind) {
            Some(crate::disk::EntryKind::Folder) if !disk.list(path)?.is_empty() => continue,
            Some(crate::disk::EntryKind::Folder) => disk.remove_folder(path)?,
            Some(_) => disk.remove_file(path)?,
            None => {}
        }
        durable::sync_parents(&**disk, [path])?;
        pool.catalogue.transaction(|t| {
            catalogue::mark_changed(t)?;
            nodes::remove(t, *disk_id, path)
        })?;
    }
    Ok(())
}
