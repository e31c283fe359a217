//! What a batch found out about contents that had no checksums yet, and how the catalogue takes it.

use std::collections::HashMap;

use rusqlite::Connection;
use sieve_core::checksum::{ContentSum, Subtree};
use sieve_core::fate::Standing;
use sieve_core::units::VersionId;

use super::gather::Fresh;
use super::volume::VolumeSync;
use sieve_catalogue::contents::synced_content;
use sieve_catalogue::{objects, unfinished, versions};
use sieve_disk::Attributes;
use sieve_disk::Result;

/// Contents that were read in a batch.
#[derive(Default)]
pub(super) struct Recorded {
    /// Read to their end.
    pub(super) finished: Vec<(VersionId, ContentSum)>,
    /// Read in part: the cells so far.
    pub(super) paused: HashMap<VersionId, Vec<Subtree>>,
    /// The numbers in the catalogue of contents that had provisional ones.
    numbers: HashMap<VersionId, VersionId>,
}

impl Recorded {
    pub(super) fn is_empty(&self) -> bool {
        self.finished.is_empty() && self.paused.is_empty()
    }

    /// The number under which the catalogue knows a content.
    pub(super) fn number(&self, version: VersionId) -> VersionId {
        self.numbers.get(&version).copied().unwrap_or(version)
    }

    /// Writes the contents down.
    ///
    /// # Errors
    /// What the database says.
    pub(super) fn record(&mut self, t: &Connection, sync: &VolumeSync) -> Result<()> {
        for (version, sum) in &self.finished {
            let Some(fresh) = sync.fresh.get(version) else { continue };
            match self.number_of_begun(*version) {
                Some(number) => unfinished::finish(t, number, sum)?,
                None => {
                    let number = add(t, sync, fresh, |disk, attributes| {
                        versions::insert(t, disk, sum, &fresh.data.ranges(), attributes)
                    })?;
                    self.numbers.insert(*version, number);
                }
            }
        }
        for (version, subtrees) in &self.paused {
            let Some(fresh) = sync.fresh.get(version) else { continue };
            match self.number_of_begun(*version) {
                Some(number) => unfinished::advance(t, number, fresh.stamp.size, subtrees)?,
                None => {
                    let number = add(t, sync, fresh, |disk, attributes| {
                        let ranges = fresh.data.ranges();
                        unfinished::insert(t, disk, fresh.stamp.size, &ranges, attributes, subtrees)
                    })?;
                    self.numbers.insert(*version, number);
                }
            }
        }
        Ok(())
    }

    /// The number of a content that an earlier batch, or an earlier sync, had begun.
    fn number_of_begun(&self, version: VersionId) -> Option<VersionId> {
        self.numbers.get(&version).copied().or((version.get() > 0).then_some(version))
    }

    /// Forgets what the next batch does not need.
    pub(super) fn next_batch(&mut self) -> HashMap<VersionId, Vec<Subtree>> {
        self.finished.clear();
        let paused = std::mem::take(&mut self.paused);
        self.numbers.retain(|version, _| paused.contains_key(version));
        paused
    }
}

/// Adds a content and makes it that of its object, if the file is still the one that was planned with.
fn add(
    t: &Connection,
    sync: &VolumeSync,
    fresh: &Fresh,
    insert: impl FnOnce(sieve_core::units::DiskId, &Attributes) -> Result<VersionId>,
) -> Result<VersionId> {
    let disk = sync.snapshot.lanes[fresh.lane].disk;
    let object = objects::get(t, fresh.object)?.filter(|object| object.stamp() == fresh.stamp);
    let Some(object) = object else { return insert(disk, &Attributes::default()) };
    let attributes = objects::attributes(t, object.id)?;
    // What it had before is looked up while the lane is still the former one.
    let older = synced_content(t, &object)?;
    let version = insert(disk, &attributes)?;
    objects::set_version(t, object.id, Some(version), Standing::Same, older)?;
    Ok(version)
}
