//! What is done to a pool, a room for each command. Each plans first (a value that can be shown) and then does it.
//!
//! `files` moves files in, out and around; `guard` keeps parity and copies right and proves it; `disks` changes who belongs to
//! the pool; `measure` finds out how fast things are. All begin with [`begin_long`] or [`begin_short`].

pub mod agenda;
mod begin;
pub mod disks;
pub mod files;
pub mod guard;
pub mod measure;

pub use begin::{begin_long, begin_long_without, begin_short};
