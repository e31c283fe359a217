//! The volume as one tree: what lies at a path or has a number, how it looks, what it is called.

pub(crate) mod attributes;
pub(crate) mod look;
mod names;
pub(crate) mod nodes;
pub(crate) mod number;
mod rename;
pub mod volume;
