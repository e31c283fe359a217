//! What the old disk does not give any more, from parity and the other disks.

use std::sync::Arc;

use sieve_catalogue::versions::VersionRow;
use sieve_core::path::RelPath;
use sieve_core::units::DiskId;
use sieve_disk::event::Observer;
use sieve_disk::{Attributes, Disk, Result, WriteFile};
use sieve_pool::images::{load_snapshot, open_images, recall};
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::recall::Wanted;
use sieve_rows::window::Snapshot;

/// Parity as of the last sync, looked at when the first file needs it: usually none does.
pub(super) struct Spare<'a> {
    pool: &'a Pool,
    /// The disk that is not asked.
    without: DiskId,
    ready: Option<(Snapshot, Vec<ParityImage>)>,
}

impl<'a> Spare<'a> {
    pub(super) const fn new(pool: &'a Pool, without: DiskId) -> Self {
        Self { pool, without, ready: None }
    }

    /// Writes a content to a new file; none where it does not come back whole.
    ///
    /// # Errors
    /// What the new disk or the database says, or that it is to stop.
    pub(super) fn bring(
        &mut self,
        row: &VersionRow,
        (to, path, attributes): (&dyn Disk, &RelPath, &Attributes),
        observer: &dyn Observer,
    ) -> Result<Option<Box<dyn WriteFile>>> {
        if self.ready.is_none() {
            let volume = &self.pool.member(self.without)?.row.volume;
            self.ready = Some((load_snapshot(self.pool, volume)?, open_images(self.pool, volume, &[])?));
        }
        let (snapshot, images) = self.ready.as_ref().expect("it was just made ready");
        let mut output = to.create(path)?;
        let wanted = Wanted { row: Arc::new(row.clone()), output: &mut *output };
        let recall = recall(self.pool, snapshot, images, std::slice::from_ref(&self.without));
        let missing = recall.write(self.without, vec![wanted], observer);
        if !missing.as_ref().is_ok_and(|missing| missing.iter().all(Vec::is_empty)) {
            drop(output);
            to.remove_file(path)?;
            return missing.map(|_| None);
        }
        output.set_attributes(attributes)?;
        Ok(Some(output))
    }
}
