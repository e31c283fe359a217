//! The files of a volume: in, out, away, back, and down from the cache.

pub(crate) mod find;
pub(crate) mod get;
pub(crate) mod ls;
pub(crate) mod moving;
pub(crate) mod put;
pub(crate) mod restore;
pub(crate) mod rm;
pub(crate) mod settle;
pub(crate) mod shift;
mod transfer;
