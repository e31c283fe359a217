//! What could be had back.

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::{Fate, ObjectState, Standing, verdicts};
use sieve_core::path::RelPath;
use sieve_core::path::shown_with_bytes;
use sieve_core::units::{ByteLength, DiskId, VersionId};

use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::piece_note::PieceNote;
use sieve_catalogue::{gone, held_files, objects, parity_state, versions};
use sieve_disk::Result;
use sieve_pool::fate;
use sieve_pool::fate::VolumeModel;
use sieve_pool::member::Member;
use sieve_pool::pieces;
use sieve_pool::pool::Pool;

/// What happened to a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    /// It was removed through us, and is held.
    Removed,
    /// Another file was put in its place through us, and it is held.
    Replaced,
    /// Somebody deleted it on its disk.
    Deleted,
    /// Somebody wrote over it on its disk.
    Overwritten,
}

/// How much of it comes back.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Recoverable {
    /// All of it.
    Whole,
    /// Some of its cells.
    Pieces,
    /// Nothing.
    Nothing,
}

/// A file that could be had back.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Candidate {
    /// Its volume.
    pub volume: String,
    /// Its disk.
    pub disk: String,
    /// Its path.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// Its length.
    pub size_bytes: ByteLength,
    /// What happened to it.
    pub what: What,
    /// When that was done or noticed, nanoseconds since 1970.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[serde(with = "sieve_core::moment::maybe")]
    #[schemars(with = "Option<sieve_core::moment::Text>")]
    pub since: Option<i64>,
    /// How much of it comes back.
    pub comes_back: Recoverable,
    #[serde(skip)]
    pub(super) origin: Origin,
    #[serde(skip)]
    pub(super) original: RelPath,
    /// The file of the volume that it is, or is a piece of.
    #[serde(skip)]
    pub(super) of: RelPath,
    #[serde(skip)]
    pub(super) disk_id: DiskId,
}

/// Where the content is.
#[derive(Clone, Debug)]
pub(super) enum Origin {
    /// On its disk, out of sight.
    Held(RelPath),
    /// In parity and the other disks.
    Parity(VersionId),
}

/// Lists what could be had back of a volume: everything below the paths given, or everything there is.
///
/// # Errors
/// What the database says.
pub fn list(pool: &Pool, volume: &str, paths: &[RelPath]) -> Result<Vec<Candidate>> {
    let model = fate::load(pool, volume)?;
    let mut found = Vec::new();
    for member in pool.file_members(volume) {
        let mut search = Search { pool, member, volume, found: Vec::new(), held: BTreeSet::new() };
        search.held()?;
        search.in_parity(&model)?;
        found.append(&mut search.found);
    }
    found.retain(|candidate| paths.is_empty() || paths.iter().any(|path| candidate.of.is_within(path)));
    found.sort_by(|a, b| (&a.original, &a.disk).cmp(&(&b.original, &b.disk)));
    Ok(found)
}

struct Search<'a> {
    pool: &'a Pool,
    member: &'a Member,
    volume: &'a str,
    found: Vec<Candidate>,
    /// Contents that are held: they need no parity.
    held: BTreeSet<VersionId>,
}

impl Search<'_> {
    fn add(
        &mut self,
        path: RelPath,
        size_bytes: ByteLength,
        what: What,
        since: Option<i64>,
        origin: Origin,
        comes_back: Recoverable,
    ) {
        let of = self.of(&path, &origin);
        let (text, path_hex) = shown_with_bytes(&of);
        self.found.push(Candidate {
            of,
            volume: self.volume.into(),
            disk: self.member.row.name.clone(),
            path: text,
            path_hex,
            size_bytes,
            what,
            since,
            comes_back,
            origin,
            original: path,
            disk_id: self.member.row.id,
        });
    }

    /// The file of the volume that something held is, or is a piece of.
    fn of(&self, path: &RelPath, origin: &Origin) -> RelPath {
        let held = match origin {
            Origin::Held(held) if path.is_piece() => held,
            _ => return path.clone(),
        };
        let note = self.member.usable().and_then(|disk| PieceNote::read(&**disk, held));
        note.ok().flatten().map_or_else(|| path.clone(), |note| note.path)
    }

    fn held(&mut self) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        for held in held_files::all(reading, self.member.row.id)? {
            let Some(object) = objects::by_path(reading, self.member.row.id, &held.path)? else { continue };
            // On a disk that is not there what is held is not at hand, but parity may have it.
            if !self.member.state.is_usable() {
                continue;
            }
            self.held.extend(object.version.filter(|_| object.standing == Standing::Same));
            if self.has_moved(&held.original, &object)? {
                continue;
            }
            let what = if held.replaced { What::Replaced } else { What::Removed };
            let origin = Origin::Held(held.path);
            self.add(held.original, object.size, what, Some(held.since), origin, Recoverable::Whole);
        }
        Ok(())
    }

    /// What is held since it settled, or changed its tier, is no file that somebody removed: the same is under its name
    /// elsewhere. What somebody wrote to it meanwhile is nowhere else, and can be had back.
    fn has_moved(&self, original: &RelPath, held: &ObjectRow) -> Result<bool> {
        let reading = self.pool.catalogue.reading();
        let whole = |object: &ObjectRow| -> Result<Option<[u8; 32]>> {
            let version = object.version.filter(|_| object.standing <= Standing::Doubtful);
            Ok(version.map(|version| versions::get(reading, version)).transpose()?.map(|row| row.sum.whole))
        };
        let Some(content) = whole(held)? else { return Ok(false) };
        for member in self.pool.file_members(self.volume).filter(|m| m.row.id != self.member.row.id) {
            if let Some(twin) = objects::by_path(reading, member.row.id, original)?
                && whole(&twin)? == Some(content)
            {
                return Ok(true);
            }
        }
        let pieced = pieces::files(self.pool, self.volume)?;
        Ok(pieced.iter().any(|file| file.path == *original && file.whole == content))
    }

    /// Contents of the snapshot that no file has any more.
    fn in_parity(&mut self, model: &VolumeModel) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        let id = self.member.row.id;
        let lane: BTreeSet<VersionId> =
            parity_state::lane(reading, id)?.iter().map(|piece| piece.value.version).collect();
        let mut wanted: Vec<(RelPath, VersionId, What, Option<i64>)> = Vec::new();
        for row in gone::all(reading, id)? {
            let content = row.version.into_iter().chain(row.older).find(|version| lane.contains(version));
            wanted.extend(content.map(|version| (row.path, version, What::Deleted, Some(row.since))));
        }
        objects::for_each_name(reading, id, |path, object| {
            let outdated = object.version.filter(|_| object.standing > Standing::Doubtful);
            let content = outdated.into_iter().chain(object.older).find(|version| lane.contains(version));
            if let Some(version) = content.filter(|_| !path.is_held()) {
                wanted.push((path, version, What::Overwritten, None));
            }
            Ok(())
        })?;
        wanted.retain(|(_, version, ..)| !self.held.contains(version));
        let comes_back = recoverable(model, id, wanted.iter().map(|(_, version, ..)| *version));
        for (path, version, what, since) in wanted {
            let size = versions::get(reading, version)?.sum.size;
            let comes_back = comes_back.get(&version).copied().unwrap_or(Recoverable::Nothing);
            self.add(path, size, what, since, Origin::Parity(version), comes_back);
        }
        Ok(())
    }
}

/// What comes back of contents that their own disk does not have any more: as if each were a file whose disk is lost.
fn recoverable(
    model: &VolumeModel,
    disk: DiskId,
    contents: impl Iterator<Item = VersionId>,
) -> BTreeMap<VersionId, Recoverable> {
    let Some(index) = model.index(disk) else { return BTreeMap::new() };
    let mut asked = model.model.clone();
    let first = asked.objects.len();
    let mut order = Vec::new();
    for content in contents {
        let Some(version) = model.version_index(content) else { continue };
        let size = asked.versions[version as usize].size;
        let (standing, older, catalogued) = (Standing::Changed, None, None);
        asked.objects.push(ObjectState {
            disk: index,
            size,
            version: Some(version),
            standing,
            older,
            catalogued,
        });
        order.push(content);
    }
    // Only what the disk does not have is asked for, and of its lane that is as good as lost already.
    let fates = verdicts(&asked, &model.lost_set(&[disk])).fates;
    let outcome = |fate: &Fate| match fate {
        Fate::Untouched | Fate::Rebuilt | Fate::Older => Recoverable::Whole,
        Fate::Torn => Recoverable::Pieces,
        Fate::Gone => Recoverable::Nothing,
    };
    order.into_iter().zip(fates[first..].iter().map(outcome)).collect()
}
