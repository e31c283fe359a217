//! The copies of a mirrored volume: brought up to date by difference, conflicts told and left.

mod copier;
mod others;
mod plan;
mod report;

use copier::Copier;
pub use plan::{MirrorPlan, plan};
pub use report::Mirrored;

use std::collections::BTreeMap;

use sieve_core::fate::Standing;
use sieve_core::pool::VolumeSpec;

use sieve_catalogue::objects;
use sieve_catalogue::{apart, mark_changed, versions};
use sieve_disk::event::{Event, Observer, Unit, heed};
use sieve_disk::workspace::Workspaces;
use sieve_disk::{Error, Result};
use sieve_pool::pool::Pool;

/// Brings the copies up to date.
///
/// # Crash safety
/// Every copy appears whole under its name. What it replaces is held before, and is there, old or new, at every moment.
///
/// # Errors
/// What a disk or the database says.
pub(crate) fn execute(
    pool: &Pool,
    volume: &VolumeSpec,
    plan: &MirrorPlan,
    observer: &dyn Observer,
) -> Result<Mirrored> {
    pool.catalogue.transaction(|t| apart::set(t, &volume.name, &plan.apart))?;
    record_read(pool, plan)?;
    let total = plan.written_bytes.total().exact();
    observer.event(Event::Stage { name: "copying", total, unit: Unit::Bytes });
    let mut copier = Copier {
        pool,
        observer,
        spaces: Workspaces::new(&*pool.machine),
        folders: BTreeMap::new(),
        waiting: Vec::new(),
        done: Mirrored::default(),
    };
    let mut outcome = Ok(());
    for step in &plan.steps {
        outcome = heed(observer).and_then(|()| copier.step(step));
        if outcome.is_err() {
            break;
        }
    }
    // What is whole gets its name, whatever ended the rest.
    let named = copier.give_names();
    let mut outcome = outcome.and(named);
    if outcome.as_ref().is_err_and(Error::is_stop) {
        (copier.done.stopped, outcome) = (true, Ok(()));
    }
    copier.finish_folders()?;
    let Copier { spaces, done, .. } = copier;
    spaces.finish()?;
    outcome?;
    if !done.stopped {
        others::follow(pool, volume)?;
    }
    Ok(done)
}

/// Contents that were read to be compared are known from now on.
fn record_read(pool: &Pool, plan: &MirrorPlan) -> Result<()> {
    pool.catalogue.transaction(|t| {
        for (object, sum) in &plan.read {
            let Some(now) = objects::get(t, object.id)?.filter(|now| now.stamp() == object.stamp()) else {
                continue;
            };
            let member = pool.member(object.disk)?;
            let Some(name) = objects::names(t, object.id)?.into_iter().next() else { continue };
            let data = member.usable()?.open(&name)?.data_ranges()?;
            let version = versions::insert(t, object.disk, sum, &data, &objects::attributes(t, object.id)?)?;
            objects::set_version(t, object.id, Some(version), Standing::Same, now.older.or(now.version))?;
        }
        if plan.read.is_empty() { Ok(()) } else { mark_changed(t) }
    })
}
