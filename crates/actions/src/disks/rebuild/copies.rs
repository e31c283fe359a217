//! What has another copy, on a survivor or where parity has it, comes back from that.

use std::sync::Arc;

use super::plan::{Copies, CopySource};

use sieve_core::fate::{Composite, Fate};
use sieve_core::path::RelPath;
use sieve_core::units::{DiskId, ObjectId, VersionId};

use super::finish::{self, Naming};
use super::jobs::Assembly;
use super::target::DataTarget;
use sieve_catalogue::{objects, versions};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer, Unit, advance};
use sieve_pool::fate::VolumeModel;
use sieve_pool::images::recall;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::recall::Wanted;
use sieve_rows::window::Snapshot;

/// Finds them, for objects of the disks that are lost.
///
/// # Errors
/// What the database says.
pub(super) fn find(pool: &Pool, model: &VolumeModel, lost: &[DiskId]) -> Result<Copies> {
    let by_parity = sieve_core::fate::verdicts(&model.model, &model.lost_set(lost)).fates;
    let mut copies = Copies::new();
    for part in model.model.composites.iter().flat_map(Composite::objects) {
        let position = part as usize;
        if !lost.contains(&disk_of(model, position)) {
            continue;
        }
        let source = match model.copy_elsewhere(pool, position, lost)? {
            Some(found) => Some(CopySource::Survivor(found)),
            None if by_parity[position].is_whole() => None,
            None => copy_in_parity(model, position, &by_parity),
        };
        if let (Some(source), Some(object)) = (source, model.object_id(position)) {
            copies.insert(object, source);
        }
    }
    Ok(copies)
}

fn disk_of(model: &VolumeModel, position: usize) -> DiskId {
    model.disks[usize::from(model.model.objects[position].disk.0)]
}

fn copy_in_parity(model: &VolumeModel, position: usize, by_parity: &[Fate]) -> Option<CopySource> {
    let other = model.other_copies(position).find(|other| by_parity[*other] == Fate::Rebuilt)?;
    let version = model.version_id(model.model.objects[other].present()?)?;
    Some(CopySource::Parity { disk: disk_of(model, other), version })
}

/// Brings back what has a copy. What turns out not to be what its checksum says is left to parity.
///
/// # Crash safety
/// As the pass: files get their names whole, and a rebuild that goes on finds them.
///
/// # Errors
/// What a disk or the database says.
pub(super) fn bring(
    pool: &Pool,
    copies: &Copies,
    (snapshot, images, lost): (&Snapshot, &[ParityImage], &[DiskId]),
    target: &mut DataTarget,
    observer: &dyn Observer,
) -> Result<()> {
    let recall = recall(pool, snapshot, images, lost);
    let sizes = target.jobs.iter().filter(|job| copies.contains_key(&job.object));
    let total = sizes.map(|job| job.size.exact()).sum();
    observer.event(Event::Stage { name: "copying", total, unit: Unit::Bytes });
    let (mut named, mut bytes) = (Vec::new(), 0);
    for position in 0..target.jobs.len() {
        let job = &target.jobs[position];
        let (object, version) = (job.object, job.version);
        let (Some(source), Some(version)) = (copies.get(&object), version) else { continue };
        let names = objects::names(pool.catalogue.reading(), object)?;
        if names.iter().all(RelPath::is_held) || target.finished.contains(&(version, object)) {
            continue;
        }
        let size = versions::get(pool.catalogue.reading(), version)?.sum.size;
        target.assemblies.insert(version, Assembly { size, lost: Vec::new(), state: None });
        let file = target.file(version)?;
        match source {
            CopySource::Survivor(elsewhere) => {
                let mut offset = 0;
                elsewhere.read(pool, |bytes| {
                    file.write_at(bytes, offset)?;
                    offset += bytes.len() as u64;
                    advance(observer, bytes.len())
                })?;
            }
            CopySource::Parity { disk, version } => {
                let row = Arc::new(versions::get(pool.catalogue.reading(), *version)?);
                // What does not come back leaves cells that are not what their checksums say.
                recall.write(*disk, vec![Wanted { row, output: &mut **file }], observer)?;
            }
        }
        if target.settle(pool, version)? {
            let naming = finish::naming(pool, target, object, &names, version, Fate::Rebuilt)?;
            bytes += size.exact();
            named.extend(naming.map(|naming| (naming, (version, object))));
        } else {
            // Parity may still have it.
            target.reopen(pool, version)?;
        }
        if named.len() >= finish::BATCH || bytes >= finish::BATCH_BYTES {
            give_names(pool, target, &mut named)?;
            bytes = 0;
        }
    }
    give_names(pool, target, &mut named)
}

/// Files that are whole get their names, all of them after one wait for the disk.
fn give_names(
    pool: &Pool,
    target: &mut DataTarget,
    named: &mut Vec<(Naming, (VersionId, ObjectId))>,
) -> Result<()> {
    let (namings, finished): (Vec<_>, Vec<_>) = std::mem::take(named).into_iter().unzip();
    finish::give_names(pool, target, &namings)?;
    target.finished.extend(finished);
    Ok(())
}
