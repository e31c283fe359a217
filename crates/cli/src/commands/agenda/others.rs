//! Jobs that are no work on the volumes: disks test themselves, pages and listings are written.

use std::path::Path;

use sieve_actions::agenda::Others;
use sieve_core::agenda::Task;
use sieve_core::pool::JobSpec;
use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::journal::{Did, Ended, Entry};
use sieve_pool::pool::Pool;

use crate::commands::context::Context;
use crate::commands::look::self_test;
use crate::commands::watch::{listing, report};

/// Does them with the commands that there are.
pub(super) struct Beside<'a> {
    pub(super) context: &'a Context,
}

impl Others for Beside<'_> {
    fn run(&self, pool: &Pool, job: &JobSpec, observer: &dyn Observer) -> Result<Ended> {
        match job.task {
            Task::ShortTest | Task::LongTest => self_test::of_job(pool, job, observer),
            Task::Report => {
                let file = job.file.as_deref().unwrap_or("report.html");
                report::write(&self.context.pool, Path::new(file))?;
                let mut entry = Entry::new(Did::Report);
                entry.said = Some(format!("wrote {file}"));
                pool.tell(entry)?;
                Ok(Ended::Done)
            }
            Task::BackupListing => {
                let file = job.file.as_deref().unwrap_or("listing.csv");
                listing::write_over(pool, Path::new(file))?;
                let mut entry = Entry::new(Did::Report);
                entry.said = Some(format!("wrote {file}"));
                pool.tell(entry)?;
                Ok(Ended::Done)
            }
            // The others are work on the volumes, and done there.
            Task::Settle | Task::Sync | Task::Verify => Ok(Ended::Done),
        }
    }
}
