//! A file in pieces becomes one on a single disk again.
//!
//! Either at once, where the volume ends and its parity with it. Or in two steps, where guard must not fall: a whole copy is made
//! in our own folder, beside the pieces, which are the file still; when a sync has given it as much guard as the pieces have, it
//! takes their place by a rename, so that parity need not change, and the pieces are held until a sync has passed that.

use std::collections::HashMap;
use std::sync::Arc;

use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;
use uuid::Uuid;

use super::PiecedFile;
use super::write::{assemble, no_whole};
use crate::held::{self, HAS_CHANGED, IS_WRITTEN, Left, ToHold, Watcher};
use crate::pool::Pool;
use sieve_catalogue::intents::{self, Intent};
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::pieces::{self, PieceRow};
use sieve_catalogue::{contents, mark_changed, objects, versions};
use sieve_disk::copying;
use sieve_disk::copying::changed;
use sieve_disk::durable;
use sieve_disk::event::{Observer, heed};
use sieve_disk::workspace::Workspace;
use sieve_disk::{Attributes, Disk, EntryKind, Result, Stat};

/// Why a file stays in pieces.
const NAME_IS_TAKEN: &str = "something else has its name where it would come to lie";

/// Beside the pieces of a file all of it, on its way to become the file.
#[derive(Clone, Debug)]
pub struct WholeCopy {
    /// The file that it is a copy of.
    pub file: Uuid,
    /// Its disk.
    pub disk: DiskId,
    /// Where it lies there.
    pub path: RelPath,
    /// It.
    pub object: ObjectRow,
    /// The BLAKE3 of what it holds, where that is known and it is as it was then.
    pub content: Option<[u8; 32]>,
}

/// Where the whole copy of a file in pieces lies.
fn copy_path(file: Uuid) -> RelPath {
    OurPlace::Pieces.with(&format!("{}.{WHOLE}", file.simple()))
}

/// What is not the number of a piece.
const WHOLE: &str = "whole";

/// The file of which a name among the pieces is the whole copy.
pub fn copied_file(path: &RelPath) -> Option<Uuid> {
    let name = path.is_piece().then(|| std::str::from_utf8(path.file_name()).ok()).flatten()?;
    let (file, what) = name.split_once('.')?;
    let file = Uuid::try_parse(file).ok()?;
    (what == WHOLE && copy_path(file) == *path).then_some(file)
}

/// The whole copies on the disks of a volume, whether their files are there still or not.
///
/// # Errors
/// What the database says.
pub fn copies(pool: &Pool, volume: &str) -> Result<Vec<WholeCopy>> {
    let reading = pool.catalogue.reading();
    let mut found = Vec::new();
    for member in pool.file_members(volume) {
        for path in pieces::unknown(reading, member.row.id)? {
            let Some(file) = copied_file(&path) else { continue };
            let Some(object) = objects::by_path(reading, member.row.id, &path)? else { continue };
            let content = contents::present(reading, &object)?.map(|sum| sum.whole);
            found.push(WholeCopy { file, disk: member.row.id, path, object, content });
        }
    }
    Ok(found)
}

/// Makes the whole copy of a file on a disk, synced, read back and recorded.
///
/// # Crash safety
/// The pieces stay as they are. What has its name and was not recorded is found by the next scan.
///
/// # Errors
/// When the pieces do not make the file, or what a disk or the database says.
pub fn copy_whole(pool: &Pool, file: &PiecedFile, to: DiskId, observer: &dyn Observer) -> Result<()> {
    let Some(first) = file.pieces.first() else { return Err(no_whole(file)) };
    let target = Arc::clone(pool.member(to)?.writable()?);
    let path = copy_path(first.note.file);
    durable::make_own_folder(&*target, &OurPlace::Pieces.path())?;
    let sum = put_together(pool, file, &target, &path, observer)?;
    let output = target.open(&path)?;
    let (stat, data) = (output.stat()?, output.data_ranges()?);
    let attributes = Attributes::of(&stat, target.extended_attributes(&path)?);
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        let version = versions::insert(t, to, &sum, &data, &attributes)?;
        let object =
            objects::insert(t, to, &stat, attributes.pack_extended().as_deref(), Some(version), false)?;
        objects::set_name(t, to, &path, object)
    })
}

/// Writes all of a file, and gives it a name on `target` when it is synced and was read back.
fn put_together(
    pool: &Pool,
    file: &PiecedFile,
    target: &Arc<dyn Disk>,
    name: &RelPath,
    observer: &dyn Observer,
) -> Result<ContentSum> {
    let mut space = Workspace::begin(target, pool.machine.random())?;
    let temporary = space.next_path();
    let written = write_at(pool, file, &**target, &temporary, observer);
    let named = written.and_then(|sum| {
        durable::publish(&**target, &temporary, name)?;
        Ok(sum)
    });
    let tidied = space.finish();
    let sum = named?;
    tidied.map(|()| sum)
}

fn write_at(
    pool: &Pool,
    file: &PiecedFile,
    target: &dyn Disk,
    temporary: &RelPath,
    observer: &dyn Observer,
) -> Result<ContentSum> {
    let mut output = target.create(temporary)?;
    let open = |piece: &PieceRow| pool.member(piece.disk)?.usable()?.open(&piece.path);
    assemble(file, open, &mut *output, observer)?;
    if let Some(looks) = looks_of(pool, file)? {
        target.set_attributes(temporary, &looks)?;
    }
    output.sync()?;
    let mut written = target.open(temporary)?;
    let sum = copying::checksum(&mut *written, file.size, |_| heed(observer))?.ok_or_else(changed)?;
    if sum.whole == file.whole { Ok(sum) } else { Err(no_whole(file)) }
}

/// How a file in pieces looks: as its last piece.
fn looks_of(pool: &Pool, file: &PiecedFile) -> Result<Option<Attributes>> {
    let Some(piece) = file.pieces.last() else { return Ok(None) };
    let disk = pool.member(piece.disk)?.usable()?;
    let stat = disk.stat(&piece.path)?;
    stat.map(|stat| Ok(Attributes::of(&stat, disk.extended_attributes(&piece.path)?))).transpose()
}

/// Puts a file together on one disk under its name; then its pieces go.
///
/// # Crash safety
/// The whole file has its name, durably and read back, before the first piece goes. Where an earlier run came so far, the
/// pieces go at once.
///
/// # Errors
/// When a piece is not what it should be, the name is taken, or what a disk says.
pub fn join(pool: &Pool, file: &PiecedFile, to: DiskId, observer: &dyn Observer) -> Result<()> {
    let target = Arc::clone(pool.member(to)?.writable()?);
    if !is_there(&*target, file)? {
        in_its_folder(pool, to, &*target, file, || {
            put_together(pool, file, &target, &file.path, observer).map(|_| ())
        })?;
    }
    for piece in &file.pieces {
        let disk = pool.member(piece.disk)?.writable()?;
        disk.remove_file(&piece.path)?;
        disk.sync_folder(&OurPlace::Pieces.path())?;
        pool.catalogue.transaction(|t| {
            objects::remove_name(t, piece.disk, &piece.path)?;
            pieces::forget_gone(t, piece.disk)?;
            objects::forget_nameless(t, piece.disk)
        })?;
    }
    Ok(())
}

/// Whether the file is there under its name, with its content.
fn is_there(disk: &dyn Disk, file: &PiecedFile) -> Result<bool> {
    match disk.stat(&file.path)? {
        Some(stat) if stat.size == file.size => {}
        _ => return Ok(false),
    }
    let sum = copying::checksum(&mut *disk.open(&file.path)?, file.size, |_| Ok(()))?;
    Ok(sum.is_some_and(|sum| sum.whole == file.whole))
}

/// Gives a file its name in its folder, which is made where it is not there, and looks afterwards as it did.
fn in_its_folder(
    pool: &Pool,
    to: DiskId,
    target: &dyn Disk,
    file: &PiecedFile,
    name_it: impl FnOnce() -> Result<()>,
) -> Result<()> {
    let Some(folder) = file.path.parent().filter(|folder| !folder.is_root()) else { return name_it() };
    let looks = folder_looks(pool, to, &folder)?;
    durable::make_folders(target, &folder, |folder| folder_looks(pool, to, folder))?;
    name_it()?;
    looks.map_or(Ok(()), |looks| target.set_time(&folder, looks.mtime))
}

/// How a folder looks on a disk, or else on another one of the volume.
fn folder_looks(pool: &Pool, disk: DiskId, folder: &RelPath) -> Result<Option<Attributes>> {
    let own = pool.member(disk)?;
    let others = pool.file_members(&own.row.volume).filter(|member| member.row.id != disk);
    for member in std::iter::once(own).chain(others) {
        let Ok(disk) = member.usable() else { continue };
        if let Some(stat) = disk.stat(folder)? {
            return Ok(Some(Attributes::of(&stat, disk.extended_attributes(folder)?)));
        }
    }
    Ok(None)
}

/// The whole copy takes the place of the pieces, which are held.
///
/// Nobody may be at any of them: all are watched from before the first look at them until they have moved. What is left is
/// returned, with why; then either nothing was done, or the file is whole and pieces of it lie beside it still.
///
/// # Crash safety
/// What is to come is written down first. A crash before the rename leaves the file in pieces, and one after it a whole file, of
/// which the next start holds the pieces.
///
/// # Errors
/// What a disk or the database says.
pub fn take_place(pool: &Pool, file: &PiecedFile, copy: &WholeCopy) -> Result<Vec<Left>> {
    let left = |why| Ok(vec![Left { path: file.path.clone(), why }]);
    let disk = Arc::clone(pool.member(copy.disk)?.writable()?);
    if disk.stat(&file.path)?.is_some() {
        return left(NAME_IS_TAKEN);
    }
    let watcher = Watcher::new(&*pool.machine);
    let Some(watch) = watcher.watch(&*disk, &copy.path)? else { return left(IS_WRITTEN) };
    let watched = match watch_pieces(pool, &watcher, &file.pieces)? {
        Ok(watched) => watched,
        Err(why) => return left(why),
    };
    let Some(object) = made_alike(pool, file, copy)?.filter(|_| watch.holds()) else {
        return left(HAS_CHANGED);
    };
    let intent = Intent::Whole {
        disk: copy.disk,
        object: object.id,
        copy: copy.path.tree_key(),
        path: file.path.tree_key(),
        pieces: watched.iter().map(|(disk, piece)| (*disk, piece.path.tree_key())).collect(),
    };
    let id = pool.catalogue.transaction(|t| intents::insert(t, &intent))?;
    let give_up = |why| {
        pool.catalogue.transaction(|t| intents::remove(t, id))?;
        left(why)
    };
    let named =
        in_its_folder(pool, copy.disk, &*disk, file, || durable::publish(&*disk, &copy.path, &file.path));
    match named {
        Err(error) if error.io_kind() == Some(std::io::ErrorKind::AlreadyExists) => {
            return give_up(NAME_IS_TAKEN);
        }
        other => other?,
    }
    let stat = disk.stat(&file.path)?;
    let is_it = |stat: &Stat| stat.kind == EntryKind::File && object.matches_but_for_ctime(stat);
    let Some(stat) = stat.filter(is_it).filter(|_| watch.holds()) else {
        // Whatever came to lie there is a file of its own; the pieces stay, and the next scan tells of both.
        return give_up(HAS_CHANGED);
    };
    record_name(pool, copy.disk, &object, (&copy.path, &file.path), &stat)?;
    let left = hold_pieces(pool, watched)?;
    pool.catalogue.transaction(|t| intents::remove(t, id))?;
    Ok(told_as(file, left))
}

/// The copy as it is recorded, with the permissions, owner and times that its file has now: they may have changed since it was made.
/// Nothing when it is not what was recorded any more.
fn made_alike(pool: &Pool, file: &PiecedFile, copy: &WholeCopy) -> Result<Option<ObjectRow>> {
    let disk = pool.member(copy.disk)?.writable()?;
    let Some(stat) = disk.stat(&copy.path)?.filter(|stat| copy.object.matches(stat)) else { return Ok(None) };
    let own = Attributes::of(&stat, disk.extended_attributes(&copy.path)?);
    let Some(looks) = looks_of(pool, file)?.filter(|looks| *looks != own) else {
        return Ok(Some(copy.object.clone()));
    };
    disk.set_attributes(&copy.path, &looks)?;
    let is_it = |stat: &Stat| (stat.inode, stat.size) == (copy.object.inode, copy.object.size);
    let Some(stat) = disk.stat(&copy.path)?.filter(is_it) else { return Ok(None) };
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        objects::set_stat(t, copy.object.id, &stat, copy.object.standing)?;
        objects::set_extended(t, copy.object.id, looks.pack_extended().as_deref())
    })?;
    objects::get(pool.catalogue.reading(), copy.object.id)
}

/// Pieces of a file that is whole under its name already are held.
///
/// # Errors
/// What a disk or the database says.
pub fn hold_rest(pool: &Pool, file: &PiecedFile) -> Result<Vec<Left>> {
    let watcher = Watcher::new(&*pool.machine);
    match watch_pieces(pool, &watcher, &file.pieces)? {
        Ok(watched) => Ok(told_as(file, hold_pieces(pool, watched)?)),
        Err(why) => Ok(vec![Left { path: file.path.clone(), why }]),
    }
}

fn told_as(file: &PiecedFile, left: Vec<Left>) -> Vec<Left> {
    left.into_iter().map(|left| Left { path: file.path.clone(), ..left }).collect()
}

/// Our own rename moved the change time, and nothing else.
fn record_name(
    pool: &Pool,
    disk: DiskId,
    object: &ObjectRow,
    (from, to): (&RelPath, &RelPath),
    stat: &Stat,
) -> Result<()> {
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        objects::rename(t, disk, from, to, object.id)?;
        objects::set_stat(t, object.id, stat, object.standing)
    })
}

/// Pieces that are as the catalogue has them, watched; or why they stay. One that somebody edited says something else than the
/// copy, and is not taken for it.
fn watch_pieces(
    pool: &Pool,
    watcher: &Watcher<'_>,
    pieces: &[PieceRow],
) -> Result<std::result::Result<Vec<(DiskId, ToHold)>, &'static str>> {
    let mut watched = Vec::new();
    for row in with_twins(pool, pieces)? {
        let disk = pool.member(row.disk)?.writable()?;
        let Some(watch) = watcher.watch(&**disk, &row.path)? else { return Ok(Err(IS_WRITTEN)) };
        let object = objects::by_path(pool.catalogue.reading(), row.disk, &row.path)?;
        let stat = disk.stat(&row.path)?;
        let is_as_known = |object: &ObjectRow| {
            object.standing == Standing::Same && stat.as_ref().is_some_and(|stat| object.matches(stat))
        };
        let Some(object) = object.filter(is_as_known) else { return Ok(Err(HAS_CHANGED)) };
        watched.push((row.disk, ToHold { path: row.path, object, watched: Some(watch) }));
    }
    Ok(Ok(watched))
}

/// Pieces, with those that lie on two disks because a move was cut off.
fn with_twins(pool: &Pool, wanted: &[PieceRow]) -> Result<Vec<PieceRow>> {
    let Some(first) = wanted.first() else { return Ok(Vec::new()) };
    let volume = &pool.member(first.disk)?.row.volume;
    let all = pieces::all(pool.catalogue.reading(), volume)?;
    Ok(all.into_iter().filter(|row| row.note.file == first.note.file).collect())
}

fn hold_pieces(pool: &Pool, pieces: Vec<(DiskId, ToHold)>) -> Result<Vec<Left>> {
    let mut by_disk: HashMap<DiskId, Vec<ToHold>> = HashMap::new();
    pieces.into_iter().for_each(|(disk, piece)| by_disk.entry(disk).or_default().push(piece));
    let mut left = Vec::new();
    for member in &pool.members {
        if let Some(items) = by_disk.remove(&member.row.id) {
            left.extend(held::take(pool, member, items)?.record()?);
        }
    }
    Ok(left)
}

/// What a whole copy that is not needed any more held stays until a sync has passed it.
///
/// # Errors
/// What a disk or the database says.
pub fn hold_copy(pool: &Pool, copy: &WholeCopy) -> Result<Vec<Left>> {
    let item = ToHold { path: copy.path.clone(), object: copy.object.clone(), watched: None };
    held::take(pool, pool.member(copy.disk)?, vec![item])?.record()
}

/// Finishes what [`take_place`] began, where the file has its name; else it never began.
///
/// # Errors
/// What a disk or the database says.
pub fn recover_whole(pool: &Pool, id: i64, intent: &Intent) -> Result<()> {
    let Intent::Whole { disk, object, copy, path, pieces } = intent else { return Ok(()) };
    let disks = pieces.iter().map(|(disk, _)| disk).chain([disk]);
    if disks.into_iter().any(|disk| pool.member(*disk).is_ok_and(|member| member.writable().is_err())) {
        return Ok(()); // kept for when they are back
    }
    let (copy, path) = (objects::path_of(copy)?, objects::path_of(path)?);
    let real = pool.member(*disk)?.writable()?;
    let known = objects::get(pool.catalogue.reading(), *object)?;
    let stat = real.stat(&path)?;
    let is_it = |object: &ObjectRow| stat.as_ref().is_some_and(|stat| object.matches_but_for_ctime(stat));
    if let Some((object, stat)) = known.filter(is_it).zip(stat.as_ref()) {
        durable::sync_parents(&**real, [&copy, &path])?;
        record_name(pool, *disk, &object, (&copy, &path), stat)?;
        let mut items = Vec::new();
        for (disk, piece) in pieces {
            let piece = objects::path_of(piece)?;
            let known = objects::by_path(pool.catalogue.reading(), *disk, &piece)?;
            let known = known.filter(|object| object.standing == Standing::Same);
            items.extend(known.map(|object| (*disk, ToHold { path: piece, object, watched: None })));
        }
        // What somebody is at stays beside the file, and is told as a file of the same name.
        hold_pieces(pool, items)?;
    }
    pool.catalogue.transaction(|t| intents::remove(t, id))
}
