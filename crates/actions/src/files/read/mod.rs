//! Looking into a volume and taking files out of it.

mod copy;
mod degraded;
mod find;
mod list;

use std::collections::HashMap;
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeKind;
use sieve_core::units::{ByteLength, ObjectId};

pub(crate) use find::content_of;
pub use find::not_found;
pub use list::{Entry, list};

use find::{Found, find};
use sieve_catalogue::label::Role;
use sieve_catalogue::{heat, objects};
use sieve_disk::durable;
use sieve_disk::event::{Observer, heed};
use sieve_disk::{Attributes, Disk, RealDisk, WriteFile, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

/// What was taken out.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct GetReport {
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: ByteLength,
    /// Files whose checksum was known and held.
    pub verified: u64,
    /// Files whose disk is not there, or has them damaged: computed from parity and the other disks.
    pub reconstructed: u64,
    /// Those of them that are damaged on their disk.
    pub damaged: Vec<String>,
    /// It was asked to stop: what is told was taken out before.
    pub stopped: bool,
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
    let report = GetReport::default();
    let mut taking = Taking {
        pool,
        volume,
        from_disk,
        out,
        observer,
        parity: None,
        computed: HashMap::new(),
        parts: 0,
        passing: Vec::new(),
        report,
    };
    let outcome = paths.iter().try_for_each(|path| taking.everything_below(path));
    // What is whole stays, whatever ended the rest.
    let outcome = outcome.and(taking.give_names()).and(taking.forget_computed());
    match outcome {
        Err(error) if error.is_stop() => taking.report.stopped = true,
        outcome => outcome?,
    }
    Ok(taking.report)
}

/// So many files get their names after one wait for the disk;
const BATCH: usize = 128;
/// and so many bytes.
const BATCH_BYTES: u64 = 64 << 20;

/// A file that is whole beside its place.
struct Passing {
    part: RelPath,
    to: RelPath,
    size: ByteLength,
    /// It, open, where it is not durable yet.
    output: Option<Box<dyn WriteFile>>,
}

/// A file that was computed, beside its place.
struct Computed {
    part: RelPath,
    size: ByteLength,
    output: Box<dyn WriteFile>,
}

/// Files on their way out of a volume.
struct Taking<'a> {
    pool: &'a Pool,
    volume: &'a str,
    /// The disk that the user named.
    from_disk: Option<&'a str>,
    out: RealDisk,
    observer: &'a dyn Observer,
    /// The snapshot and the images, once something of a disk is read that is not there.
    parity: Option<(Snapshot, Vec<ParityImage>)>,
    /// Files that were computed ahead; none where a content does not come back.
    computed: HashMap<ObjectId, Option<Computed>>,
    /// How many unfinished files there were so far.
    parts: u64,
    /// Files that are whole, and have no name yet.
    passing: Vec<Passing>,
    report: GetReport,
}

impl Taking<'_> {
    fn everything_below(&mut self, wanted: &RelPath) -> Result<()> {
        let base = wanted.parent().unwrap_or_default();
        let in_pieces = self.pieced(wanted, &base)?;
        let found = match find(self.pool, self.volume, wanted, self.from_disk) {
            Err(error) if error.kind == Kind::NotFound && !in_pieces.is_empty() => Vec::new(),
            other => other?,
        };
        for (at, one) in found.iter().enumerate() {
            heed(self.observer)?;
            let to = below(&one.path, &base)?;
            if one.is_file && self.held(one, &to)? {
                continue;
            }
            if one.is_file && !one.best.state.is_usable() {
                self.compute_ahead(&found[at..], &base)?;
            }
            let outcome = self.best_copy(one, &to);
            let may_be_held = one.is_file && outcome.as_ref().is_err_and(is_worth_another);
            if !(may_be_held && self.held_away(one, &to)?) {
                outcome?;
            }
        }
        let files = found.iter().filter(|one| one.is_file).map(|one| &one.path);
        self.note_uses(files.chain(&in_pieces))
    }

    /// From the first member that has it as it should be.
    fn best_copy(&mut self, found: &Found<'_>, to: &RelPath) -> Result<()> {
        let mut outcome = Ok(());
        for member in found.on() {
            outcome = self.take_from(found, member, to);
            if !outcome.as_ref().is_err_and(is_worth_another) {
                return outcome;
            }
        }
        // No copy is what it should be: parity may know what it was.
        for member in found.on().filter(|m| found.is_file && m.row.role == Role::Data && m.state.is_usable())
        {
            let object = objects::by_path(self.pool.catalogue.reading(), member.row.id, &found.path)?;
            match self.reconstruct(member, &found.path, object.as_ref(), to) {
                Err(error) if error.is_stop() => return Err(error),
                Err(_) => {}
                Ok(()) => {
                    self.report.damaged.push(format!("{}:{}", member.row.name, found.path));
                    return Ok(());
                }
            }
        }
        outcome
    }

    fn take_from(&mut self, found: &Found<'_>, member: &Member, to: &RelPath) -> Result<()> {
        let object = match found.is_file {
            true => objects::by_path(self.pool.catalogue.reading(), member.row.id, &found.path)?,
            false => None,
        };
        match member.usable() {
            Ok(disk) => self.copy(&**disk, &found.path, object.as_ref(), to),
            Err(_) => self.reconstruct(member, &found.path, object.as_ref(), to),
        }
    }

    /// What is read through us counts as a use: where tiers depend on that.
    fn note_uses<'p>(&self, mut used: impl Iterator<Item = &'p RelPath>) -> Result<()> {
        let spec = self.pool.volume(Some(self.volume))?;
        if spec.kind != VolumeKind::Tiered {
            return Ok(());
        }
        let now = self.pool.machine.now();
        self.pool
            .catalogue
            .note(|t| used.try_for_each(|path| heat::note_use(t, self.volume, path, now, spec.half_life)))
    }

    fn refuse_taken(&self, to: &RelPath) -> Result<()> {
        if self.out.stat(to)?.is_none() && self.passing.iter().all(|passing| passing.to != *to) {
            return Ok(());
        }
        let message = format!("{} exists already", full_path(&self.out, to).display());
        Err(Error::new(Kind::Conflict, "get.exists", message).remedy("choose an empty folder"))
    }

    /// An unfinished file beside the place it is for.
    fn part_of(&mut self, to: &RelPath) -> Result<RelPath> {
        self.parts += 1;
        let name = format!(".part-{}-{}", std::process::id(), self.parts);
        let part = to.parent().unwrap_or_default().join(name.as_bytes());
        part.map_err(|e| Error::new(Kind::Internal, "get.path", e.to_string()))
    }

    /// A file that is whole gets its attributes, and its name with those that come with it.
    fn publish(&mut self, passing: Passing, looks: &Attributes) -> Result<()> {
        self.out.set_attributes(&passing.part, looks)?;
        self.passing.push(passing);
        let bytes: u64 = self.passing.iter().map(|passing| passing.size.exact()).sum();
        if self.passing.len() >= BATCH || bytes >= BATCH_BYTES { self.give_names() } else { Ok(()) }
    }

    /// All that is whole becomes durable, and gets its names.
    fn give_names(&mut self) -> Result<()> {
        let mut passing = std::mem::take(&mut self.passing);
        let written = passing.iter_mut().filter_map(|one| one.output.as_mut()).collect();
        let durable = durable::sync_written(&self.out, written);
        let mut named = Vec::new();
        let outcome = durable.and_then(|()| {
            passing.iter().try_for_each(|one| {
                self.out.rename(&one.part, &one.to)?;
                self.report.files += 1;
                self.report.bytes = self.report.bytes.plus(one.size);
                named.push(&one.to);
                Ok(())
            })
        });
        for left in &passing[named.len()..] {
            // The first error is the one to tell.
            let _ = self.out.remove_file(&left.part);
        }
        durable::sync_parents(&self.out, named)?;
        outcome
    }

    fn make_parent(&self, to: &RelPath) -> Result<()> {
        // Born closed: a folder gets its looks when it is named itself.
        to.parent().map_or(Ok(()), |parent| durable::make_own_folder(&self.out, &parent))
    }
}

/// Another copy may be what this one is not.
const fn is_worth_another(error: &Error) -> bool {
    matches!(error.kind, Kind::Corrupt | Kind::Io | Kind::NotFound)
}

/// A path as it is seen from a folder around it.
fn below(path: &RelPath, base: &RelPath) -> Result<RelPath> {
    RelPath::new(&path.as_bytes()[base.as_bytes().len()..])
        .or_else(|_| RelPath::new(&path.as_bytes()[base.as_bytes().len() + 1..]))
        .map_err(|e| Error::new(Kind::Internal, "get.path", e.to_string()))
}
