//! What is told follows from what is on the disks: they are looked at first, or it is said when that was.

use sieve_disk::Result;
use sieve_disk::event::Observer;
use sieve_pool::pool::Pool;
use sieve_pool::scan::{self, ScanReport};

/// How much is looked at before it is told.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Look {
    /// All files on all disks.
    Always,
    /// All of them where that is short; else what the last scan knew is told, and when that was.
    WhereShort,
}

/// When the disks were looked at.
pub(crate) enum Looked {
    /// Just now.
    Now(Vec<ScanReport>),
    /// Before: nanoseconds since 1970.
    Before(i64),
}

/// Looks at the disks, as far as is wanted.
pub(crate) fn look(pool: &Pool, how: Look, observer: &dyn Observer) -> Result<Looked> {
    match scan::scanned_at(pool) {
        Some(at) if how == Look::WhereShort && !scan::is_short(pool)? => Ok(Looked::Before(at)),
        _ => scan::scan_all(pool, |_| true, observer).map(Looked::Now),
    }
}
