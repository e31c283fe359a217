//! Where the contents of rows are: the disks, and what is known of them.

use std::sync::Arc;

use rusqlite::Connection;
use sieve_core::gf256::Kernel;
use sieve_core::units::DiskId;

use sieve_disk::Disk;

/// What reading rows needs of a pool.
pub trait Places {
    /// A member's disk, while it can be read.
    fn disk(&self, id: DiskId) -> Option<&Arc<dyn Disk>>;
    /// What is known of contents and files.
    fn reading(&self) -> &Connection;
    /// The instructions that computing uses.
    fn kernel(&self) -> Kernel;
    /// Whether one of the disks turns, so that a seek takes its time.
    fn turns(&self) -> bool;
}
