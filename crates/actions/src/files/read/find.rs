//! Where something of a volume can be read from: the best copy of it first.

use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::suggest::NearestPath;
use sieve_core::units::VersionId;

use sieve_catalogue::{apart, nodes, objects, versions};
use sieve_disk::EntryKind;
use sieve_disk::copying;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::fate::Unfinished;
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;

/// Something of the volume, and the members that it can be read from.
pub(super) struct Found<'a> {
    pub(super) path: RelPath,
    pub(super) is_file: bool,
    pub(super) best: &'a Member,
    /// Where else it is: most files are nowhere else, which then takes no memory.
    pub(super) others: Vec<&'a Member>,
}

impl<'a> Found<'a> {
    /// The members, the best one first.
    pub(super) fn on(&self) -> impl Iterator<Item = &'a Member> {
        std::iter::once(self.best).chain(self.others.iter().copied())
    }
}

pub(super) fn find<'a>(
    pool: &'a Pool,
    volume: &'a str,
    wanted: &RelPath,
    from_disk: Option<&str>,
) -> Result<Vec<Found<'a>>> {
    let mut found = Vec::new();
    let unfinished = Unfinished::look(pool)?;
    let is_asked = |member: &&Member| from_disk.is_none_or(|name| name == member.row.name);
    for best in pool.file_members(volume).filter(is_asked) {
        let reading = pool.catalogue.reading();
        let mut add = |path: RelPath, is_file| {
            let is_none_yet = is_file && (path.is_ours() || unfinished.has(best.row.id, &path));
            if !is_none_yet {
                found.push(Found { path, is_file, best, others: Vec::new() });
            }
            Ok(())
        };
        nodes::for_each_at(reading, best.row.id, wanted, |path, node| match node.kind {
            EntryKind::Special => Ok(()),
            _ => add(path, false),
        })?;
        objects::for_each_name_at(reading, best.row.id, wanted, |path, _| add(path, true))?;
    }
    if found.is_empty() {
        return Err(not_found(pool, volume, wanted)?);
    }
    // One after the other those of the same path, in the order of the members.
    found.sort_by(|a, b| (&a.path, a.is_file).cmp(&(&b.path, b.is_file)));
    found.dedup_by(|next, first| {
        let is_same = (&next.path, next.is_file) == (&first.path, first.is_file);
        if is_same {
            first.others.push(next.best);
        }
        is_same
    });
    choose_copies(pool, volume, &mut found)?;
    Ok(found)
}

fn choose_copies(pool: &Pool, volume: &str, found: &mut [Found<'_>]) -> Result<()> {
    let spec = pool.volume(Some(volume))?;
    let is_mirrored = spec.kind == VolumeKind::Mirrored;
    let has_copies = is_mirrored || spec.cache.copies > 1;
    let apart = apart::all(pool.catalogue.reading(), volume)?;
    for one in found.iter_mut().filter(|one| one.is_file && !one.others.is_empty()) {
        let newest_wins = is_mirrored && !apart.contains(&one.path);
        let on: Vec<&Member> = one.on().collect();
        let mut on = copies(pool, newest_wins, has_copies, &one.path, &on)?.into_iter();
        one.best = on.next().unwrap_or(one.best);
        one.others = on.collect();
    }
    Ok(())
}

/// The members to read a file from: all that have the same content; of a mirrored volume those with the newest.
///
/// # Errors
/// When the same path has other contents elsewhere: the user says which is meant.
fn copies<'a>(
    pool: &Pool,
    newest_wins: bool,
    has_copies: bool,
    path: &RelPath,
    on: &[&'a Member],
) -> Result<Vec<&'a Member>> {
    let mut known = Vec::new();
    for member in on {
        known.push((*member, content_of(pool, member, path)?));
    }
    if has_copies {
        // What was never read and cannot be read now does not stand in the way of what can.
        known.retain(|(_, content)| content.is_some());
    }
    let newest =
        known.iter().filter_map(|(_, content)| content.as_ref()).max_by_key(|content| content.recorded);
    let newest = newest.map(|content| content.whole);
    let is_newest = |content: &Option<Content>| content.as_ref().map(|c| c.whole) == newest;
    let is_recorded = |content: &Option<Content>| content.as_ref().is_some_and(|c| c.recorded.is_some());
    let is_clear = known.iter().all(|(_, content)| is_newest(content))
        || newest_wins && known.iter().all(|(_, c)| is_recorded(c));
    if newest.is_none() || !is_clear {
        let names = (&on[0].row.name, &on[1].row.name);
        let message = format!("{path} lies on two disks, {} and {}", names.0, names.1);
        return Err(
            Error::new(Kind::Conflict, "file.conflict", message).remedy("choose one with --disk NAME")
        );
    }
    let mut best: Vec<&Member> =
        known.iter().filter(|(_, content)| is_newest(content)).map(|(member, _)| *member).collect();
    best.sort_by_key(|member| !member.state.is_usable());
    Ok(best)
}

/// What one of several files of the same path holds.
pub(crate) struct Content {
    pub(crate) whole: [u8; 32],
    /// The number of its record, where it is as it was recorded.
    recorded: Option<VersionId>,
}

/// As it was recorded, else as it is read now; nothing where it can be neither.
pub(crate) fn content_of(pool: &Pool, member: &Member, path: &RelPath) -> Result<Option<Content>> {
    let object = objects::by_path(pool.catalogue.reading(), member.row.id, path)?;
    let recorded = object.filter(|o| o.standing == Standing::Same).and_then(|o| o.version);
    let version = recorded.map(|v| versions::get(pool.catalogue.reading(), v)).transpose()?;
    if let Some(version) = version.filter(|version| !version.unfinished) {
        return Ok(Some(Content { whole: version.sum.whole, recorded: Some(version.id) }));
    }
    let Ok(disk) = member.usable() else { return Ok(None) };
    if disk.stat(path)?.is_none() {
        return Ok(None);
    }
    let mut file = disk.open(path)?;
    let size = file.stat()?.size;
    let sum = copying::checksum(&mut *file, size, |_| Ok(()))?;
    Ok(sum.map(|sum| Content { whole: sum.whole, recorded: None }))
}

/// What is said of a path that nobody has: with the one that was meant, if any is like it.
///
/// # Errors
/// What the database says.
pub fn not_found(pool: &Pool, volume: &str, wanted: &RelPath) -> Result<Error> {
    let mut near = NearestPath::to(wanted);
    for member in pool.file_members(volume) {
        objects::for_each_name(pool.catalogue.reading(), member.row.id, |path, _| {
            if !path.is_ours() {
                near.look_at(&path);
            }
            Ok(())
        })?;
    }
    let message = format!("there is no {wanted} in volume {volume}");
    Ok(Error::new(Kind::NotFound, "file.not-found", message).remedy(near.advice()))
}
