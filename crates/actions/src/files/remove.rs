//! Removing files: out of sight at once, held until the next sync has passed them.

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::files::moves::LeftAlone;
use crate::files::read::not_found;
use sieve_catalogue as catalogue;
use sieve_catalogue::nodes;
use sieve_catalogue::objects;
use sieve_core::count::Count;
use sieve_disk::durable;
use sieve_disk::event::Silent;
use sieve_disk::{EntryKind, Stat};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::held;
use sieve_pool::held::ToHold;
use sieve_pool::journal::{Did, Entry};
use sieve_pool::member::Member;
use sieve_pool::pieces::{self, WholeCopy};
use sieve_pool::pool::Pool;
use sieve_pool::scan;

/// So many files are held at once.
const BATCH: usize = 256;

/// What is removed.
#[derive(Default, Serialize)]
pub struct RemovePlan {
    #[serde(serialize_with = "as_text")]
    files: Vec<(DiskId, RelPath)>,
    #[serde(serialize_with = "as_text")]
    symlinks: Vec<(DiskId, RelPath)>,
    #[serde(serialize_with = "as_text")]
    folders: Vec<(DiskId, RelPath)>,
    /// Files and bytes for each disk.
    #[serde(serialize_with = "sieve_core::pairs::by_name")]
    pub by_disk: Vec<(String, Count)>,
    /// Symlinks and folders.
    pub others: u64,
}

fn as_text<S: serde::Serializer>(
    paths: &[(DiskId, RelPath)],
    serializer: S,
) -> std::result::Result<S::Ok, S::Error> {
    serializer.collect_seq(paths.iter().map(|(disk, path)| format!("{disk}:{path}")))
}

/// What was removed.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RemoveReport {
    /// Files and bytes for each disk.
    #[serde(serialize_with = "sieve_core::pairs::by_name")]
    #[schemars(with = "std::collections::BTreeMap<String, Count>")]
    pub by_disk: Vec<(String, Count)>,
    /// Symlinks and folders.
    pub others: u64,
    /// What was left where it is, because somebody is at it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub left_alone: Vec<LeftAlone>,
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
    }
    let is_of_volume = |member: &Member| member.row.volume == volume;
    scan::scan_at(pool, is_of_volume, paths, &Silent)?;
    for member in pool.file_members(volume) {
        let mut count = Count::default();
        for (position, is_found) in found.iter_mut().enumerate() {
            let asked = Asked { paths, position, recursive };
            *is_found |= asked.find(pool, member, &mut plan, &mut count)?;
        }
        plan.by_disk.push((member.row.name.clone(), count));
    }
    plan.others = (plan.symlinks.len() + plan.folders.len()) as u64;
    plan_pieces(pool, volume, paths, recursive, &mut plan, &mut found)?;
    match found.iter().position(|f| !f) {
        None => Ok(plan),
        Some(missing) => Err(not_found(pool, volume, &paths[missing])?),
    }
}

impl RemovePlan {
    /// Takes out of it what is to stay, as `stays` says.
    ///
    /// # Errors
    /// Those of `stays`, and what the database says.
    pub(crate) fn leave(
        &mut self,
        pool: &Pool,
        mut stays: impl FnMut(DiskId, &RelPath) -> Result<Option<LeftAlone>>,
    ) -> Result<Vec<LeftAlone>> {
        let mut left = Vec::new();
        for paths in [&mut self.files, &mut self.symlinks, &mut self.folders] {
            let mut going = Vec::new();
            for (disk, path) in std::mem::take(paths) {
                match stays(disk, &path)? {
                    Some(stays) => left.push(stays),
                    None => going.push((disk, path)),
                }
            }
            *paths = going;
        }
        self.others = (self.symlinks.len() + self.folders.len()) as u64;
        self.by_disk.iter_mut().for_each(|(_, count)| *count = Count::default());
        for (disk, path) in &self.files {
            let name = &pool.member(*disk)?.row.name;
            let object = objects::by_path(pool.catalogue.reading(), *disk, path)?;
            if let (Some(object), Some((_, count))) =
                (object, self.by_disk.iter_mut().find(|(disk, _)| disk == name))
            {
                count.add(object.size);
            }
        }
        Ok(left)
    }
}

/// One of the paths that are to be removed.
struct Asked<'a> {
    paths: &'a [RelPath],
    position: usize,
    recursive: bool,
}

impl Asked<'_> {
    /// Whether something comes with this path: what lies within two of them comes with the first.
    fn brings(&self, path: &RelPath) -> Result<bool> {
        refuse_folder(&self.paths[self.position], path, self.recursive)?;
        Ok(self.paths.iter().position(|asked| path.is_within(asked)) == Some(self.position))
    }

    /// Adds what it names on a member to the plan; tells whether that is anything.
    fn find(&self, pool: &Pool, member: &Member, plan: &mut RemovePlan, count: &mut Count) -> Result<bool> {
        let (reading, disk) = (pool.catalogue.reading(), member.row.id);
        let asked = &self.paths[self.position];
        let mut is_there = false;
        objects::for_each_name_at(reading, disk, asked, |path, object| {
            if path.is_ours() {
                return Ok(());
            }
            is_there = true;
            if self.brings(&path)? {
                count.add(object.size);
                plan.files.push((disk, path));
            }
            Ok(())
        })?;
        nodes::for_each_at(reading, disk, asked, |path, node| {
            let is_folder = node.kind == EntryKind::Folder;
            if is_folder && !self.recursive {
                return Err(is_a_folder(&path));
            }
            is_there = true;
            if self.brings(&path)? {
                if is_folder { &mut plan.folders } else { &mut plan.symlinks }.push((disk, path));
            }
            Ok(())
        })?;
        Ok(is_there)
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
    let copies = pieces::copies(pool, volume)?;
    // What an interrupted removal left goes the same way.
    for file in pieces::files(pool, volume)?.into_iter().chain(pieces::rests(pool, volume)?) {
        let Some(position) = paths.iter().position(|p| file.path.is_within(p)) else { continue };
        refuse_folder(&paths[position], &file.path, recursive)?;
        found[position] = true;
        let of_file = |copy: &&WholeCopy| copy.file == file.pieces[0].note.file;
        plan.files.extend(copies.iter().filter(of_file).map(|copy| (copy.disk, copy.path.clone())));
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
    pool.expect_writing()?;
    let mut left_alone = Vec::new();
    for member in &pool.members {
        let here: Vec<_> = plan.files.iter().filter(|(disk, ..)| *disk == member.row.id).collect();
        for batch in here.chunks(BATCH) {
            hold_batch(pool, member, batch, &mut left_alone)?;
        }
    }
    remove_nodes(pool, &plan, &mut left_alone)?;
    let report = RemoveReport { by_disk: plan.by_disk, others: plan.others, left_alone };
    let files = report.by_disk.iter().fold(Count::default(), |sum, (_, count)| sum.plus(*count));
    let disks = report.by_disk.iter().filter(|(_, count)| count.files > 0).map(|(name, _)| name);
    pool.tell(Entry::new(Did::Remove).files(files).on(disks).detail(&report)?)?;
    Ok(report)
}

fn hold_batch(
    pool: &Pool,
    member: &Member,
    batch: &[&(DiskId, RelPath)],
    left: &mut Vec<LeftAlone>,
) -> Result<()> {
    let mut to_hold = Vec::new();
    for (_, path) in batch {
        // What somebody else took away in the meantime is removed already. A further name of a file is held as the only
        // one is: the content stays under the others, and the name can be had back.
        let Some(object) = objects::by_path(pool.catalogue.reading(), member.row.id, path)? else { continue };
        to_hold.push(ToHold { path: path.clone(), object, watched: None });
    }
    if to_hold.is_empty() {
        return Ok(());
    }
    let mut paths: Vec<RelPath> = to_hold.iter().map(|file| file.path.clone()).collect();
    let not_taken = held::take(pool, member, to_hold)?.record()?;
    paths.retain(|path| not_taken.iter().all(|file| file.path != *path));
    pool.tell_paths(&Did::Removed, &member.row.name, &paths)?;
    left.extend(not_taken.into_iter().map(|l| LeftAlone { path: l.path.to_string(), why: l.why.into() }));
    Ok(())
}

fn remove_nodes(pool: &Pool, plan: &RemovePlan, left: &mut Vec<LeftAlone>) -> Result<()> {
    // Deepest first: tree order backwards.
    for (disk_id, path) in plan.symlinks.iter().chain(plan.folders.iter().rev()) {
        let disk = pool.member(*disk_id)?.writable()?;
        let planned = nodes::get(pool.catalogue.reading(), *disk_id, path)?.map(|node| node.kind);
        match disk.stat(path)?.map(|s| s.kind) {
            Some(EntryKind::Folder) if !disk.list(path)?.is_empty() => continue,
            Some(EntryKind::Folder) => disk.remove_folder(path)?,
            Some(_) => {
                // A symlink that somebody made a file of is not what was to be removed.
                let is_it =
                    |stat: &Stat, _: &RelPath| Ok(stat.kind != EntryKind::File && planned == Some(stat.kind));
                if !held::discard(&**disk, pool.machine.random(), path, is_it)? {
                    left.push(LeftAlone { path: path.to_string(), why: held::HAS_CHANGED.into() });
                    continue;
                }
            }
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
