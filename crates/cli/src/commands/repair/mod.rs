//! Disks replaced, rebuilt, emptied and let go.

pub(crate) mod convert;
pub(crate) mod dissolve;
pub(crate) mod empty;
pub(crate) mod handover;
pub(crate) mod rebuild;
pub(crate) mod rename;
pub(crate) mod replace;
pub(crate) mod route;
pub(crate) mod vacate;
pub(crate) mod wipe;
mod words;
