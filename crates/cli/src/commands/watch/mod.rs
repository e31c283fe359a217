//! How the pool is, and how fast.

pub(crate) mod bench;
pub(crate) mod journal;
pub(crate) mod measure;
pub(crate) mod status;
pub(crate) mod work;
