//! What the names in our folder stand for, written on the disk itself: it is known also when the catalogue at home is lost.

use sieve_core::fate::Standing;
use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use crate::member::Member;
use crate::pool::Pool;
use sieve_catalogue::held_files;
use sieve_catalogue::held_files::HeldRow;
use sieve_catalogue::{mark_changed, objects};
use sieve_disk::Result;
use sieve_disk::durable;
use sieve_disk::{Disk, read_small};

/// No disk holds so much: more than that in the notes is not ours (L6).
const LARGEST: u64 = 1 << 30;

/// Notes of what is no longer held are dropped when there are so many bytes of them.
const WORTH_TIDYING: u64 = 1 << 20;

pub(super) fn path() -> RelPath {
    OurPlace::HeldNames.path()
}

/// One line.
#[derive(Serialize, Deserialize)]
struct Line {
    /// Its name in our folder.
    held: String,
    /// The name that it had, in hexadecimal.
    path_hex: String,
    /// Since when, nanoseconds since 1970.
    since: i64,
    /// Another file took its name.
    replaced: bool,
}

/// Writes down what is about to be held, durably.
pub(super) fn add<'n>(
    pool: &Pool,
    disk: &dyn Disk,
    names: impl Iterator<Item = (&'n RelPath, &'n RelPath)>,
    replaced: bool,
) -> Result<()> {
    let since = pool.machine.now();
    // What an earlier write was cut short in stays a line by itself.
    let mut text = String::from("\n");
    for (held, original) in names {
        text += &line(held, original, since, replaced);
    }
    let is_new = disk.stat(&path())?.is_none();
    let mut file = disk.modify(&path())?;
    let end = file.stat()?.size.exact();
    file.write_at(text.as_bytes(), end)?;
    file.sync()?;
    if is_new { durable::sync_parents(disk, [&path()]) } else { Ok(()) }
}

/// One line, with its end.
pub(super) fn line(held: &RelPath, original: &RelPath, since: i64, replaced: bool) -> String {
    let held = String::from_utf8_lossy(held.file_name()).into_owned();
    let line = Line { held, path_hex: hex::encode(original.as_bytes()), since, replaced };
    serde_json::to_string(&line).unwrap_or_default() + "\n"
}

fn read(disk: &dyn Disk) -> Result<BTreeMap<Vec<u8>, (RelPath, Line)>> {
    if disk.stat(&path())?.is_none() {
        return Ok(BTreeMap::new());
    }
    let bytes = read_small(disk, &path(), LARGEST)?;
    let mut lines = BTreeMap::new();
    for line in bytes.split(|byte| *byte == b'\n') {
        let Ok(line) = serde_json::from_slice::<Line>(line) else { continue };
        let Some(original) = hex::decode(&line.path_hex).ok().and_then(|bytes| RelPath::new(bytes).ok())
        else {
            continue;
        };
        if !original.is_root() && (!original.is_ours() || original.is_piece()) {
            lines.insert(line.held.clone().into_bytes(), (original, line));
        }
    }
    Ok(lines)
}

/// Takes in what lies in our folder and the catalogue does not know as held: after a lost home, or a crash.
///
/// # Errors
/// What the disk or the database says.
pub fn learn(pool: &Pool, member: &Member) -> Result<()> {
    let unknown = held_files::unknown(pool.catalogue.reading(), member.row.id)?;
    if unknown.is_empty() {
        return Ok(());
    }
    let notes = read(&**member.usable()?)?;
    pool.catalogue.transaction(|t| {
        mark_changed(t)?;
        for held in unknown {
            let (original, since, replaced) = match notes.get(held.file_name()) {
                Some((original, line)) => (original.clone(), line.since, line.replaced),
                // Somebody's file that was taken for another one, and a crash before it was put back.
                None => (name_of_nameless(&held), pool.machine.now(), false),
            };
            let object = objects::by_path(t, member.row.id, &held)?;
            let edited = object.is_none_or(|o| o.version.is_none() || is_edit(o.standing));
            held_files::insert(t, member.row.id, &HeldRow { path: held, original, since, replaced, edited })?;
        }
        Ok(())
    })
}

/// A name for what is found in our folder and of which nobody knows what it was called.
fn name_of_nameless(held: &RelPath) -> RelPath {
    RelPath::fixed("found").join(held.file_name()).unwrap_or_else(|_| RelPath::fixed("found"))
}

/// Takes away the notes of what is held no more.
///
/// # Errors
/// What the disk or the database says.
pub(super) fn tidy(pool: &Pool, disk_id: DiskId, disk: &dyn Disk) -> Result<()> {
    let Some(stat) = disk.stat(&path())? else { return Ok(()) };
    let rows = held_files::all(pool.catalogue.reading(), disk_id)?;
    let is_empty = rows.is_empty() && disk.list(&OurPlace::Held.path())?.is_empty();
    if is_empty {
        disk.remove_file(&path())?;
        return durable::sync_parents(disk, [&path()]);
    }
    if stat.size.exact() < WORTH_TIDYING.max(rows.len() as u64 * 512) {
        return Ok(());
    }
    let notes = read(disk)?;
    let mut text = String::new();
    for name in disk.list(&OurPlace::Held.path())? {
        if let Some((_, line)) = notes.get(&name) {
            text += &serde_json::to_string(line).unwrap_or_default();
            text.push('\n');
        }
    }
    durable::write_file(disk, &path(), text.as_bytes())
}

/// Size or modification time show that the owner changed the file.
pub(super) const fn is_edit(standing: Standing) -> bool {
    matches!(standing, Standing::Touched | Standing::Changed)
}
