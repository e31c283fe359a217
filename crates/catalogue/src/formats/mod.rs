//! What is written outside of the catalogue: labels, replicas, what pieces say of themselves, the pool file. All of it
//! comes back from disks that somebody else may have written to.

pub mod label;
pub mod piece_note;
pub mod pool_file;
pub mod replica;
