//! How fast things are, and whether a disk deserves to be used.

pub mod bench;
pub mod burn_in;
pub mod landings;
pub mod probe;
