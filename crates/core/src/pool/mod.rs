//! The pool file: what its owner wrote by hand, read and validated.

mod fields;
mod mistake;
mod parse;
mod spec;

pub use mistake::Mistake;
pub use parse::{Parsed, parse};
pub use spec::{DiskSpec, Media, PoolSpec, Share, VolumeKind, VolumeSpec};
