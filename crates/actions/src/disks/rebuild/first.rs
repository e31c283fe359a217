//! What is wanted first: files that get their names before the pass over the survivors begins.

use sieve_core::fate::{Fate, Standing};
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;

use super::finish;
use super::target::DataTarget;
use sieve_catalogue::{objects, versions};
use sieve_disk::Result;
use sieve_disk::event::{Event, Observer};
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::reconstruct::Reconstructor;
use sieve_rows::window::Snapshot;

/// Brings the files below these folders back, as far as their present content comes back; the rest is left to the pass.
///
/// # Crash safety
/// As the pass: files get their names whole, and a rebuild that goes on finds them.
pub(super) fn bring(
    pool: &Pool,
    snapshot: &Snapshot,
    images: &[ParityImage],
    lost: &[DiskId],
    target: &mut DataTarget,
    folders: &[RelPath],
    observer: &dyn Observer,
) -> Result<()> {
    let mut reconstructor = Reconstructor::without(pool, snapshot, lost);
    for position in 0..target.jobs.len() {
        let job = &target.jobs[position];
        let (object, present) = (job.object, job.version.filter(|_| job.standing == Standing::Same));
        let names = objects::names(pool.catalogue.reading(), object)?;
        let is_wanted = names.iter().any(|name| folders.iter().any(|folder| name.is_within(folder)));
        let Some(version) = present.filter(|version| is_wanted && target.wants(*version)) else { continue };
        let row = versions::get(pool.catalogue.reading(), version)?;
        let disk = target.disk_id;
        let file = target.file(version)?;
        if !reconstructor.write(images, disk, &row, &mut **file, observer)?.is_empty() {
            continue;
        }
        if target.settle(pool, version)? {
            let naming = finish::naming(pool, target, object, &names, version, Fate::Rebuilt)?;
            finish::give_names(pool, target, naming.as_slice())?;
            target.finished.insert((version, object));
            if let Some(name) = names.first() {
                observer.event(Event::Note { text: format!("{name} is back") });
            }
        }
    }
    Ok(())
}
