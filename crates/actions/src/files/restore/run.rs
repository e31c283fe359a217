//! Bringing files back.

use std::path::Path;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;

use super::find::{Candidate, Origin};
use sieve_catalogue as catalogue;
use sieve_catalogue::versions;
use sieve_catalogue::versions::VersionRow;
use sieve_catalogue::{gone, held_files, objects};
use sieve_core::count::Count;
use sieve_disk::copying;
use sieve_disk::copying::refuse_changed;
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Silent, Unit, advance, heed};
use sieve_disk::workspace::Workspace;
use sieve_disk::{Attributes, Disk, RealDisk, full_path};
use sieve_disk::{Error, Kind, Result};
use sieve_pool::images::{load_snapshot, open_images};
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::looks::looks_in_volume;
use sieve_pool::pieces;
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_rows::image::ParityImage;
use sieve_rows::reconstruct::Reconstructor;

/// Where files go.
#[derive(Clone, Copy, Debug)]
pub enum Target<'a> {
    /// To where they were: beside what has their name now.
    Place,
    /// Into a folder outside of the pool.
    Folder(&'a Path),
}

/// What came back.
#[derive(Debug, Default, Serialize, JsonSchema)]
pub struct RestoreReport {
    /// Files that are there again.
    pub restored: Vec<Restored>,
    /// Files that do not come back: path, why.
    #[serde(serialize_with = "sieve_core::pairs::with_why")]
    #[schemars(with = "Vec<sieve_core::pairs::PathAndWhy<'static>>")]
    pub not_back: Vec<(String, String)>,
    /// It was asked to stop: what is told came back before.
    pub stopped: bool,
}

/// A file that is there again.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Restored {
    /// Its path in the volume.
    pub path: String,
    /// Where it is now.
    #[serde(rename = "written_to")]
    pub at: String,
    /// Its length.
    pub size_bytes: ByteLength,
    /// Its name was taken, so it has another one.
    pub beside: bool,
}

/// Brings files back.
///
/// # Crash safety
/// Each file appears under its name whole and checked, or not at all. Nothing is taken away.
///
/// # Errors
/// What a disk or the database says; what does not come back is part of the report.
pub fn execute(
    pool: &Pool,
    volume: &str,
    candidates: &[Candidate],
    target: Target<'_>,
    observer: &dyn Observer,
) -> Result<RestoreReport> {
    if matches!(target, Target::Place) {
        pool.expect_writing()?;
    }
    let snapshot = load_snapshot(pool, volume)?;
    let images = open_images(pool, volume, &[])?;
    let total = candidates.iter().map(|candidate| candidate.size_bytes.exact()).sum();
    observer.event(Event::Stage { name: "restoring", total, unit: Unit::Bytes });
    let mut run = Run {
        pool,
        images: &images,
        reconstructor: Reconstructor::new(pool, &snapshot),
        report: RestoreReport::default(),
    };
    for candidate in candidates {
        let disk: Arc<dyn Disk> = match target {
            Target::Place => Arc::clone(pool.member(candidate.disk_id)?.writable()?),
            Target::Folder(folder) => Arc::new(open_folder(folder)?),
        };
        let done = heed(observer)
            .and_then(|()| run.candidate(candidate, &disk, matches!(target, Target::Place), observer));
        match done {
            Err(error) if error.is_stop() => {
                run.report.stopped = true;
                break;
            }
            done => done?,
        }
    }
    if matches!(target, Target::Place) {
        // Pieces that are back say themselves what they belong to, as soon as they are seen.
        if candidates.iter().any(|candidate| candidate.original.is_piece()) {
            scan::scan_at(pool, |member| member.row.volume == volume, &[OurPlace::Pieces.path()], &Silent)?;
        }
        for member in pool.file_members(volume).filter(|member| member.state.is_usable()) {
            pieces::learn(pool, member)?;
        }
    }
    let mut files = Count::default();
    run.report.restored.iter().for_each(|file| files.add(file.size_bytes));
    let ended = Ended::of(run.report.stopped, run.report.not_back.is_empty());
    pool.tell(Entry::new(Did::Restore).ended(ended).files(files).detail(&run.report)?)?;
    Ok(run.report)
}

fn open_folder(folder: &Path) -> Result<RealDisk> {
    RealDisk::open(folder).map_err(|mut error| {
        error.kind = Kind::Usage;
        error.remedy("the target is a folder that is there already: make it first")
    })
}

struct Run<'a> {
    pool: &'a Pool,
    images: &'a [ParityImage],
    reconstructor: Reconstructor<'a>,
    report: RestoreReport,
}

impl Run<'_> {
    fn candidate(
        &mut self,
        candidate: &Candidate,
        disk: &Arc<dyn Disk>,
        in_place: bool,
        observer: &dyn Observer,
    ) -> Result<()> {
        if !in_place && candidate.original.is_piece() {
            let why = "it lies in pieces: restore it to its place, then get it".to_string();
            self.report.not_back.push((candidate.path.clone(), why));
            return Ok(());
        }
        // On a member the unfinished file lies in our own folder, elsewhere beside its place.
        let mut space = in_place.then(|| Workspace::begin(disk, self.pool.machine.random())).transpose()?;
        let wanted = candidate.original.clone();
        if let Some(parent) = wanted.parent() {
            let volume = &self.pool.member(candidate.disk_id)?.row.volume;
            match parent.is_ours() {
                true => durable::make_own_folder(&**disk, &parent)?,
                false => {
                    let twin = |folder: &RelPath| looks_in_volume(self.pool, volume, folder);
                    durable::make_folders(&**disk, &parent, |folder| match in_place {
                        true => twin(folder),
                        // Elsewhere there is nothing of ours to make it in: it is born closed.
                        false => Ok(None),
                    })?;
                }
            }
        }
        let unfinished = match &mut space {
            Some(space) => space.next_path(),
            None => beside(&wanted, &format!(".part-{}", std::process::id()))?,
        };
        let made = self.make(candidate, &**disk, &unfinished, observer);
        let made = match made {
            Ok(None) => self
                .publish(candidate, &**disk, &unfinished, &wanted)
                .and_then(|name| if in_place { self.record(candidate, &**disk, &name) } else { Ok(()) }),
            Ok(Some(why)) => {
                self.report.not_back.push((candidate.path.clone(), why));
                disk.remove_file(&unfinished)
            }
            Err(error) => {
                // The first error is the one to tell.
                let _ = disk.remove_file(&unfinished);
                Err(error)
            }
        };
        let tidied = space.map_or(Ok(()), Workspace::finish);
        made.and(tidied)
    }

    /// Makes the unfinished file; tells why where it does not come back.
    fn make(
        &mut self,
        candidate: &Candidate,
        disk: &dyn Disk,
        unfinished: &RelPath,
        observer: &dyn Observer,
    ) -> Result<Option<String>> {
        match &candidate.origin {
            Origin::Held(held) => self.copy_held(candidate, held, disk, unfinished, observer),
            Origin::Parity(version) => {
                let row = versions::get(self.pool.catalogue.reading(), *version)?;
                self.reconstruct(candidate, &row, disk, unfinished, observer)
            }
        }
    }

    fn copy_held(
        &self,
        candidate: &Candidate,
        held: &RelPath,
        disk: &dyn Disk,
        unfinished: &RelPath,
        observer: &dyn Observer,
    ) -> Result<Option<String>> {
        let reading = self.pool.catalogue.reading();
        let source = self.pool.member(candidate.disk_id)?.usable()?;
        let mut input = source.open(held)?;
        let stat = input.stat()?;
        let mut output = disk.create(unfinished)?;
        let mut hasher = blake3::Hasher::new();
        copying::copy(&mut *input, &mut *output, |bytes| {
            hasher.update(bytes);
            advance(observer, bytes.len())
        })?;
        let object = objects::by_path(reading, candidate.disk_id, held)?;
        let edited = held_files::was_edited_before(reading, candidate.disk_id, held)?;
        let known = object.and_then(|object| object.version).filter(|_| !edited);
        if let Some(version) = known {
            let row = versions::get(reading, version)?;
            if !row.unfinished && row.sum.whole != *hasher.finalize().as_bytes() {
                return Ok(Some("what is held of it is damaged: zinc-sieve verify --mend".into()));
            }
        }
        refuse_changed(&stat, &input.stat()?)?;
        output.set_attributes(&Attributes::of(&stat, source.extended_attributes(held)?))?;
        output.sync()?;
        Ok(None)
    }

    fn reconstruct(
        &mut self,
        candidate: &Candidate,
        row: &VersionRow,
        disk: &dyn Disk,
        unfinished: &RelPath,
        observer: &dyn Observer,
    ) -> Result<Option<String>> {
        let mut output = disk.create(unfinished)?;
        let missing =
            self.reconstructor.write(self.images, candidate.disk_id, row, &mut *output, observer)?;
        if !missing.is_empty() {
            let what = format!(
                "{} of its {} cells do not come back: their rows miss more than the valid parities bring back",
                missing.len(),
                row.sum.cells.len()
            );
            return Ok(Some(what));
        }
        output.set_attributes(&row.attributes)?;
        output.sync()?;
        Ok(None)
    }

    /// Gives the file its name; one beside it where that is taken.
    fn publish(
        &mut self,
        candidate: &Candidate,
        disk: &dyn Disk,
        unfinished: &RelPath,
        wanted: &RelPath,
    ) -> Result<RelPath> {
        let mut name = wanted.clone();
        let mut attempt = 0;
        while disk.stat(&name)?.is_some() {
            attempt += 1;
            let suffix = if attempt == 1 { " (restored)".into() } else { format!(" (restored {attempt})") };
            name = beside(wanted, &suffix)?;
        }
        durable::publish(disk, unfinished, &name)?;
        self.report.restored.push(Restored {
            path: candidate.path.clone(),
            at: full_path(disk, &name).display().to_string(),
            size_bytes: candidate.size_bytes,
            beside: attempt > 0,
        });
        Ok(name)
    }

    /// The file has again what parity encodes there: the catalogue learns that, so that parity need not change.
    fn record(&self, candidate: &Candidate, disk: &dyn Disk, name: &RelPath) -> Result<()> {
        let Origin::Parity(version) = &candidate.origin else { return Ok(()) };
        let Some(stat) = disk.stat(name)? else { return Ok(()) };
        let extended = Attributes::of(&stat, disk.extended_attributes(name)?).pack_extended();
        self.pool.catalogue.transaction(|t| {
            catalogue::mark_changed(t)?;
            // A scan of another command may have seen it already.
            if objects::by_path(t, candidate.disk_id, name)?.is_none() {
                let (disk, content) = (candidate.disk_id, Some(*version));
                let id = objects::insert(t, disk, &stat, extended.as_deref(), content, false)?;
                objects::set_name(t, disk, name, id)?;
            }
            gone::remove(t, candidate.disk_id, &candidate.original)
        })
    }
}

/// The path with something put before its extension.
fn beside(path: &RelPath, what: &str) -> Result<RelPath> {
    path.beside(what).map_err(|e| {
        Error::new(Kind::Usage, "restore.name", format!("{path}: no name beside it: {e}"))
            .remedy("restore it into a folder elsewhere: --into DIR")
    })
}
