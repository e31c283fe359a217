//! Looking into a volume and taking files out of it.

use std::path::Path;

use serde::Serialize;
use sieve_core::fate::Standing;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

use crate::catalogue::objects::{self, ObjectRow};
use crate::catalogue::versions;
use crate::content;
use crate::disk::{Attributes, Disk, EntryKind, RealDisk, full_path};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::event::{Event, Observer};
use crate::fate::shown_path;
use crate::images::{load_snapshot, open_images};
use crate::label::Role;
use crate::member::Member;
use crate::parity::ParityImage;
use crate::pool::Pool;
use crate::reconstruct::Reconstructor;
use crate::scan::is_held;
use crate::window::Snapshot;

/// One line of a listing.
#[derive(Debug, Serialize)]
pub struct Entry {
    /// The volume.
    pub volume: String,
    /// Its path.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// "file", "folder", "symlink" or "special".
    pub kind: &'static str,
    /// The disk that it lies on.
    pub disk: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// Its modification time, nanoseconds since 1970.
    pub modified: i64,
}

/// Calls `visit` with everything below a folder, disk by disk in tree order.
///
/// # Errors
/// Those of `visit` and of the database.
pub fn list(
    pool: &Pool,
    volume: &str,
    folder: &RelPath,
    mut visit: impl FnMut(Entry) -> Result<()>,
) -> Result<()> {
    for member in pool.members_of(volume, Role::Data) {
        let mut show = |path: &RelPath, kind, size, modified| {
            let (text, path_hex) = shown_path(path);
            visit(Entry {
                volume: volume.into(),
                path: text,
                path_hex,
                kind,
                disk: member.row.name.clone(),
                size_bytes: size,
                modified,
            })
        };
        let reading = pool.catalogue.reading();
        objects::for_each_node(reading, member.row.id, |path, node| {
            let kind = match node.kind {
                EntryKind::Folder => "folder",
                EntryKind::Symlink => "symlink",
                _ => "special",
            };
            if !path.is_within(folder) {
                return Ok(());
            }
            show(&path, kind, ByteLength::ZERO, node.attributes.mtime)
        })?;
        objects::for_each_name(reading, member.row.id, |path, object| {
            if !path.is_within(folder) || is_held(&path) {
                return Ok(());
            }
            show(&path, "file", object.size, object.mtime)
        })?;
    }
    Ok(())
}

/// What was taken out.
#[derive(Debug, Default, Serialize)]
pub struct GetReport {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: ByteLength,
    /// Files whose checksum was known and held.
    pub verified: u64,
    /// Files whose disk is not there: computed from parity and the other disks.
    pub reconstructed: u64,
}

/// Copies files and folders out of a volume, each checked against its checksum where that is known.
///
/// # Errors
/// When a path names nothing or lies on several disks, the target exists, or a copy is not what it should be.
pub fn get(
    pool: &Pool,
    volume: &str,
    paths: &[RelPath],
    from_disk: Option<&str>,
    target: &Path,
    observer: &dyn Observer,
) -> Result<GetReport> {
    let out = RealDisk::open(target).map_err(|mut error| {
        error.kind = Kind::Usage;
        error.remedy("the target is a folder that is there already: make it first")
    })?;
    let mut report = GetReport::default();
    let mut degraded = Degraded { pool, volume, ready: None };
    for path in paths {
        let found = find(pool, volume, path, from_disk)?;
        let base = path.parent().unwrap_or_default();
        refuse_conflicts(&found)?;
        for (member, path, is_file) in &found {
            let object = match is_file {
                true => objects::by_path(pool.catalogue.reading(), member.row.id, path)?,
                false => None,
            };
            let inner = RelPath::new(&path.as_bytes()[base.as_bytes().len()..])
                .or_else(|_| RelPath::new(&path.as_bytes()[base.as_bytes().len() + 1..]))
                .map_err(|e| Error::new(Kind::Internal, "get.path", e.to_string()))?;
            if member.state.is_usable() {
                copy_out(pool, member, path, object.as_ref(), &out, &inner, &mut report, observer)?;
            } else {
                degraded.bring(member, path, object.as_ref(), &out, &inner, &mut report, observer)?;
            }
        }
    }
    Ok(report)
}

/// Where it lies, its path, and whether it is a file.
type Found<'a> = Vec<(&'a Member, RelPath, bool)>;

fn find<'a>(pool: &'a Pool, volume: &'a str, wanted: &RelPath, from_disk: Option<&str>) -> Result<Found<'a>> {
    let mut found: Found<'a> = Vec::new();
    for member in pool.members_of(volume, Role::Data) {
        if from_disk.is_some_and(|name| name != member.row.name) {
            continue;
        }
        let reading = pool.catalogue.reading();
        objects::for_each_node(reading, member.row.id, |path, node| {
            if path.is_within(wanted) && node.kind != EntryKind::Special {
                found.push((member, path, false));
            }
            Ok(())
        })?;
        objects::for_each_name(reading, member.row.id, |path, _| {
            if path.is_within(wanted) && !is_held(&path) {
                found.push((member, path, true));
            }
            Ok(())
        })?;
    }
    if found.is_empty() {
        let message = format!("there is no {wanted} in volume {volume}");
        return Err(Error::new(Kind::NotFound, "file.not-found", message).remedy("zinc-sieve ls"));
    }
    Ok(found)
}

/// The same path on two disks: the user says which is meant.
fn refuse_conflicts(found: &Found<'_>) -> Result<()> {
    let mut files: Vec<(&RelPath, &str)> =
        found.iter().filter(|f| f.2).map(|f| (&f.1, f.0.row.name.as_str())).collect();
    files.sort_unstable();
    match files.windows(2).find(|pair| pair[0].0 == pair[1].0) {
        None => Ok(()),
        Some(pair) => {
            let message = format!("{} lies on two disks, {} and {}", pair[0].0, pair[0].1, pair[1].1);
            Err(Error::new(Kind::Conflict, "file.conflict", message).remedy("choose one with --disk NAME"))
        }
    }
}

/// Reads files of disks that are not there.
struct Degraded<'a> {
    pool: &'a Pool,
    volume: &'a str,
    /// The snapshot and the images, once something is read.
    ready: Option<(Snapshot, Vec<ParityImage>)>,
}

impl Degraded<'_> {
    #[expect(clippy::too_many_arguments, reason = "one copy, from where to where")]
    fn bring(
        &mut self,
        member: &Member,
        path: &RelPath,
        object: Option<&ObjectRow>,
        out: &RealDisk,
        to: &RelPath,
        report: &mut GetReport,
        observer: &dyn Observer,
    ) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        if let Some(parent) = to.parent() {
            durable::make_folders(out, &parent)?;
        }
        let Some(object) = object else {
            return match objects::node(reading, member.row.id, path)?.map(|node| (node.kind, node.target)) {
                Some((EntryKind::Symlink, Some(target))) => out.make_symlink(&target, to),
                _ => out.make_folder(to).map(|_| ()),
            };
        };
        refuse_taken(out, to)?;
        let name = &member.row.name;
        let no_way = |why: &str| {
            let message = format!("{path}: disk {name} is not there, and {why}");
            Error::new(Kind::NotFound, "get.lost", message)
                .remedy(format!("zinc-sieve fate --explain {path}; zinc-sieve rebuild {name}"))
        };
        let version = object
            .version
            .filter(|_| object.standing == Standing::Same)
            .ok_or_else(|| no_way("parity does not have its present content"))?;
        let row = versions::get(reading, version)?;
        if self.ready.is_none() {
            let snapshot = load_snapshot(self.pool, self.volume)?;
            self.ready = Some((snapshot, open_images(self.pool, self.volume, &[])?));
        }
        let (snapshot, images) = self.ready.as_ref().expect("it was just made ready");
        let part = part_of(to, report)?;
        let mut output = out.create(&part)?;
        let mut reconstructor = Reconstructor::new(self.pool, snapshot);
        let missing = reconstructor.write(images, member.row.id, &row, &mut *output, observer)?;
        if row.unfinished || !missing.is_empty() {
            out.remove_file(&part)?;
            return Err(no_way("what is left does not bring it back whole"));
        }
        output.sync()?;
        out.set_attributes(&part, &objects::attributes(reading, object.id)?)?;
        durable::publish(out, &part, to)?;
        report.files += 1;
        report.verified += 1;
        report.reconstructed += 1;
        report.bytes = report.bytes.plus(row.sum.size);
        Ok(())
    }
}

fn refuse_taken(out: &RealDisk, to: &RelPath) -> Result<()> {
    if out.stat(to)?.is_none() {
        return Ok(());
    }
    let message = format!("{} exists already", full_path(out, to).display());
    Err(Error::new(Kind::Conflict, "get.exists", message).remedy("choose an empty folder"))
}

/// The path of an unfinished file beside its place.
fn part_of(to: &RelPath, report: &GetReport) -> Result<RelPath> {
    let mut name = to.as_bytes().to_vec();
    name.truncate(name.len() - to.file_name().len());
    name.extend_from_slice(format!(".part-{}-{}", std::process::id(), report.files).as_bytes());
    RelPath::new(name).map_err(|e| Error::new(Kind::Internal, "get.path", e.to_string()))
}

#[expect(clippy::too_many_arguments, reason = "one copy, from where to where")]
fn copy_out(
    pool: &Pool,
    member: &Member,
    path: &RelPath,
    object: Option<&ObjectRow>,
    out: &RealDisk,
    to: &RelPath,
    report: &mut GetReport,
    observer: &dyn Observer,
) -> Result<()> {
    let disk = member.usable()?;
    let Some(stat) = disk.stat(path)? else {
        let message = format!("{} is no longer there", full_path(&**disk, path).display());
        return Err(Error::new(Kind::NotFound, "file.not-found", message));
    };
    if let Some(parent) = to.parent() {
        durable::make_folders(out, &parent)?;
    }
    if stat.kind == EntryKind::Folder {
        out.make_folder(to)?;
        return Ok(());
    }
    refuse_taken(out, to)?;
    if stat.kind == EntryKind::Symlink {
        return out.make_symlink(&disk.read_link(path)?, to);
    }
    let part = part_of(to, report)?;
    let whole = copy_bytes(&**disk, path, out, &part, observer)?;
    let known =
        object.filter(|o| o.matches(&stat)).and_then(|o| o.version.filter(|_| o.standing == Standing::Same));
    let known = known.map(|version| versions::get(pool.catalogue.reading(), version)).transpose()?;
    if let Some(version) = known.filter(|version| !version.unfinished) {
        if version.sum.whole != whole {
            out.remove_file(&part)?;
            let place = full_path(&**disk, path);
            let message =
                format!("{}: this file is damaged: its content is not what was checksummed", place.display());
            return Err(Error::new(Kind::Corrupt, "file.damaged", message).remedy("zinc-sieve verify"));
        }
        report.verified += 1;
    }
    out.set_attributes(&part, &Attributes::of(&stat, disk.extended_attributes(path)?))?;
    durable::publish(out, &part, to)?;
    report.files += 1;
    report.bytes = report.bytes.plus(stat.size);
    Ok(())
}

fn copy_bytes(
    disk: &dyn Disk,
    path: &RelPath,
    out: &RealDisk,
    part: &RelPath,
    observer: &dyn Observer,
) -> Result<[u8; 32]> {
    let mut input = disk.open(path)?;
    let mut output = out.create(part)?;
    let mut hasher = blake3::Hasher::new();
    content::copy(&mut *input, &mut *output, |bytes| {
        hasher.update(bytes);
        observer.event(Event::Advanced { by: bytes.len() as u64 });
    })?;
    Ok(*hasher.finalize().as_bytes())
}
