//! What is wanted first: files that get their names before the pass over the survivors begins. Passes over their rows alone
//! bring them, some files at a time.

use std::collections::BTreeSet;

use sieve_core::fate::{Fate, Standing};
use sieve_core::path::RelPath;
use sieve_core::units::{DiskId, ObjectId, VersionId};

use super::finish;
use super::streaming::{self, Work};
use super::target::DataTarget;
use sieve_catalogue::objects;
use sieve_disk::durable;
use sieve_disk::event::{Event, Observer, Unit};
use sieve_disk::{Error, Result};
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

/// A file that is wanted first.
struct First {
    object: ObjectId,
    names: Vec<RelPath>,
    version: VersionId,
    size: u64,
}

/// Brings the files below these folders back, as far as their present content comes back; the rest is left to the pass.
///
/// # Crash safety
/// As the pass: files get their names whole, and a rebuild that goes on finds them.
pub(super) fn bring(
    pool: &Pool,
    (snapshot, images, lost): (&Snapshot, &[ParityImage], &[DiskId]),
    target: &mut DataTarget,
    folders: &[RelPath],
    told: &mut Vec<String>,
    observer: &dyn Observer,
) -> Result<()> {
    let wanted = wanted(pool, target, folders)?;
    for batch in durable::batches(&wanted, (finish::BATCH, finish::BATCH_BYTES), |file| file.size) {
        target.only = Some(batch.iter().map(|file| file.version).collect());
        let cells: BTreeSet<_> = target.cells(snapshot).collect();
        let total = cells.len() as u64;
        observer.event(Event::Stage { name: "what is wanted first", total, unit: Unit::Cells });
        let work = Work { pool, snapshot, images, lost, data: std::slice::from_mut(target), parity: &mut [] };
        let passed = streaming::run(work, &cells, told, observer);
        target.only = None;
        if passed?.stopped {
            return Err(Error::stopped());
        }
        for file in batch {
            give_names(pool, target, file, observer)?;
        }
    }
    Ok(())
}

fn wanted(pool: &Pool, target: &DataTarget, folders: &[RelPath]) -> Result<Vec<First>> {
    let mut wanted = Vec::new();
    for job in &target.jobs {
        let Some(version) = job.version.filter(|v| job.standing == Standing::Same && target.wants(*v)) else {
            continue;
        };
        let names = objects::names(pool.catalogue.reading(), job.object)?;
        if names.iter().any(|name| folders.iter().any(|folder| name.is_within(folder))) {
            wanted.push(First { object: job.object, names, version, size: job.size.exact() });
        }
    }
    Ok(wanted)
}

fn give_names(pool: &Pool, target: &mut DataTarget, file: &First, observer: &dyn Observer) -> Result<()> {
    let &First { object, ref names, version, .. } = file;
    if target.has_lost(version) || !target.wants(version) || !target.settle(pool, version)? {
        return Ok(());
    }
    let naming = finish::naming(pool, target, object, names, version, Fate::Rebuilt)?;
    finish::give_names(pool, target, naming.as_slice())?;
    target.finished.insert((version, object));
    if let Some(name) = names.first() {
        observer.event(Event::Note { text: format!("{name} is back") });
    }
    Ok(())
}
