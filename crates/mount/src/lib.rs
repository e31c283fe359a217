//! A volume as one drive: the kernel asks, and what it asks for is answered from the members.
//!
//! [`volume::Volume`] is the tree with its operations, in plain calls that tests make without a kernel; `kernel` translates
//! the kernel's requests (FUSE) into them; [`serving`] mounts, waits and ends. Files whose disk has room are passed through:
//! the kernel reads and writes them on their disk itself, and asks here for names only.
//!
//! What holds: everything is reached by a descriptor on the labelled root of its disk; nothing that parity still needs is
//! taken away or written over without being held first, or else it is told; a present content is read, or an error is.

mod below;
mod files;
mod kernel;
pub mod record;
pub mod serving;
#[cfg(test)]
#[allow(clippy::disallowed_methods, reason = "a test's own files")]
mod tests;
mod tree;

pub use tree::volume;

use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use rustix::io::Errno;
use sieve_core::pool::{PoolSpec, parse};
use sieve_disk::{Error, Kind, Result};

/// What a lock guards is whole whenever it is let go: a thread that panicked leaves nothing half done in it.
pub(crate) fn guarded<T>(lock: &Mutex<T>) -> MutexGuard<'_, T> {
    lock.lock().unwrap_or_else(PoisonError::into_inner)
}

/// An error of the floors below as the kernel takes it.
pub(crate) fn code_of(error: &Error) -> Errno {
    let said = error.source.as_ref().and_then(Errno::from_io_error);
    said.unwrap_or(match error.kind {
        Kind::NotFound => Errno::NOENT,
        Kind::Conflict => Errno::BUSY,
        Kind::Safety => Errno::ROFS,
        _ => Errno::IO,
    })
}

/// What the pool file says now. It may have been changed since the volume was mounted, and commands have followed it: who writes by
/// what it said then would take the new names back.
pub(crate) fn spec_of(file: &Path) -> Result<PoolSpec> {
    let text = std::fs::read_to_string(file).map_err(|error| Error::io("pool-file.read", file, error))?;
    let parsed = parse(&text);
    let spec = parsed.spec.filter(|_| parsed.mistakes.is_empty());
    let message = || format!("{}: the pool file has mistakes: zinc-sieve check", file.display());
    spec.ok_or_else(|| Error::new(Kind::Usage, "pool-file.mistakes", message()))
}
