//! One source, copied as it is at one moment, and as it is known to be.

use sieve_core::checksum::ContentSum;
use sieve_core::path::RelPath;
use sieve_disk::copying;
use sieve_disk::copying::{CHANGED, changed};
use sieve_disk::event::{Observer, heed};
use sieve_disk::{Attributes, Disk, Lease, Stat, WriteFile};
use sieve_disk::{Error, Kind, Result};

use super::{Item, PutPlan};
use sieve_pool::pool::Pool;

/// So often a source that changes is copied.
const ATTEMPTS: usize = 3;

/// Copies sources of a plan.
pub(super) struct Steady<'a> {
    pub(super) pool: &'a Pool,
    pub(super) plan: &'a PutPlan,
    pub(super) observer: &'a dyn Observer,
}

impl Steady<'_> {
    /// Copies a source as it is at one moment: one that changes meanwhile is copied again, and at last refused.
    pub(super) fn copy(
        &self,
        item: &Item,
        disk: &dyn Disk,
        temporary: &RelPath,
    ) -> Result<(Box<dyn WriteFile>, ContentSum, Attributes)> {
        let source = self.plan.source(item);
        let mut attempt = 0;
        loop {
            attempt += 1;
            let mut input = source.open(&item.path)?;
            let is_watched = input.lease()? == Lease::Granted;
            let stat = input.stat()?;
            let attributes = Attributes::of(&stat, source.extended_attributes(&item.path)?);
            let copied =
                copying::copy_hashed(&mut *input, stat.size, disk, temporary, &attributes, self.observer);
            // A writer that has it mapped moves no time: where nobody could be asked, reading it again tells.
            let steady = copied.and_then(|copied| match is_watched && input.lease_holds() {
                true => Ok(copied),
                false
                    if copying::checksum(&mut *input, stat.size, |_| heed(self.observer))?.as_ref()
                        == Some(&copied.1) =>
                {
                    Ok(copied)
                }
                false => Err(changed()),
            });
            match steady {
                Err(error) if error.code == CHANGED => {
                    disk.remove_file(temporary)?;
                    if attempt == ATTEMPTS {
                        let place = source.shown(&item.path);
                        let message =
                            format!("{place}: it is being written to: it changed each time it was copied");
                        return Err(Error::new(Kind::Conflict, CHANGED, message)
                            .remedy("put it again when nobody writes to it; what was copied so far stays"));
                    }
                }
                other => {
                    let (copy, sum) = other?;
                    if let Err(damaged) = self.expect_whole(item, &stat, &sum.whole) {
                        disk.remove_file(temporary)?;
                        return Err(damaged);
                    }
                    return Ok((copy, sum, attributes));
                }
            }
        }
    }

    /// What rotted where it lies is not carried on as if it were right.
    pub(super) fn expect_whole(&self, item: &Item, stat: &Stat, whole: &[u8; 32]) -> Result<()> {
        let source = self.plan.source(item);
        match source.known(self.pool, &item.path, stat)? {
            Some(known) if known != *whole => {
                let place = source.shown(&item.path);
                let message =
                    format!("{place}: this file is damaged: its content is not what was checksummed");
                Err(Error::new(Kind::Corrupt, "file.damaged", message).remedy("zinc-sieve verify --mend"))
            }
            _ => Ok(()),
        }
    }
}
