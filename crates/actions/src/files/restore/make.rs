//! The contents of files that come back: what is held is copied, the rest computed from parity and the other disks.

use std::collections::BTreeMap;
use std::sync::Arc;

use sieve_catalogue::{held_files, objects, versions};
use sieve_core::path::RelPath;
use sieve_core::units::{DiskId, VersionId};
use sieve_disk::copying::{self, refuse_changed};
use sieve_disk::event::{Observer, advance};
use sieve_disk::{Attributes, Disk, Result, WriteFile};
use sieve_pool::images::recall;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::recall::Wanted;
use sieve_rows::window::Snapshot;

use super::find::{Candidate, Origin};

/// A file that is made, out of sight.
pub(super) struct Making<'c> {
    pub(super) candidate: &'c Candidate,
    pub(super) disk: Arc<dyn Disk>,
    pub(super) unfinished: RelPath,
    pub(super) output: Box<dyn WriteFile>,
    pub(super) made: Made,
}

/// How far it came.
#[derive(Debug)]
pub(super) enum Made {
    /// It is not whole yet.
    NotYet,
    /// It is what it was.
    Whole,
    /// It does not come back, and why.
    Not(String),
}

/// What makes them.
pub(super) struct Maker<'a> {
    pub(super) pool: &'a Pool,
    pub(super) snapshot: &'a Snapshot,
    pub(super) images: &'a [ParityImage],
    pub(super) observer: &'a dyn Observer,
}

impl Maker<'_> {
    /// Makes all of them, those that parity has of one disk in one pass: they share rows.
    pub(super) fn make(&self, files: &mut [Making<'_>]) -> Result<()> {
        let mut by_disk: BTreeMap<DiskId, Vec<(VersionId, &mut Making<'_>)>> = BTreeMap::new();
        for file in files {
            match &file.candidate.origin {
                Origin::Held(held) => file.made = self.copy_held(file.candidate, held, &mut *file.output)?,
                Origin::Parity(version) => {
                    by_disk.entry(file.candidate.disk_id).or_default().push((*version, file));
                }
            }
        }
        by_disk.into_iter().try_for_each(|(disk, files)| self.recall(disk, files))
    }

    fn copy_held(&self, candidate: &Candidate, held: &RelPath, output: &mut dyn WriteFile) -> Result<Made> {
        let reading = self.pool.catalogue.reading();
        let source = self.pool.member(candidate.disk_id)?.usable()?;
        let mut input = source.open(held)?;
        let stat = input.stat()?;
        let mut hasher = blake3::Hasher::new();
        copying::copy(&mut *input, output, |bytes| {
            hasher.update(bytes);
            advance(self.observer, bytes.len())
        })?;
        let object = objects::by_path(reading, candidate.disk_id, held)?;
        let edited = held_files::was_edited_before(reading, candidate.disk_id, held)?;
        let known = object.and_then(|object| object.version).filter(|_| !edited);
        if let Some(version) = known {
            let row = versions::get(reading, version)?;
            if !row.unfinished && row.sum.whole != *hasher.finalize().as_bytes() {
                return Ok(Made::Not("what is held of it is damaged: zinc-sieve verify --mend".into()));
            }
        }
        refuse_changed(&stat, &input.stat()?)?;
        output.set_attributes(&Attributes::of(&stat, source.extended_attributes(held)?))?;
        Ok(Made::Whole)
    }

    fn recall(&self, disk: DiskId, mut files: Vec<(VersionId, &mut Making<'_>)>) -> Result<()> {
        let reading = self.pool.catalogue.reading();
        let rows = files.iter().map(|(version, _)| versions::get(reading, *version).map(Arc::new));
        let rows = rows.collect::<Result<Vec<_>>>()?;
        let wanted = rows
            .iter()
            .zip(&mut files)
            .map(|(row, (_, file))| Wanted { row: Arc::clone(row), output: &mut *file.output })
            .collect();
        let recall = recall(self.pool, self.snapshot, self.images, &[]);
        let missing = recall.write(disk, wanted, self.observer)?;
        for ((row, (_, file)), missing) in rows.iter().zip(files).zip(missing) {
            if missing.is_empty() {
                file.output.set_attributes(&row.attributes)?;
                file.made = Made::Whole;
            } else {
                file.made = Made::Not(format!(
                    "{} of its {} cells do not come back: their rows miss more than the valid parities bring back",
                    missing.len(),
                    row.sum.cells.len()
                ));
            }
        }
        Ok(())
    }
}
