//! From disks to a pool, and a pool that grows.

pub(crate) mod adopt;
pub(crate) mod create;
pub(crate) mod grow;
pub(crate) mod prepare;
