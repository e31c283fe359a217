//! How the pool is, and how fast.

pub(crate) mod bench;
pub(crate) mod duplicates;
pub(crate) mod elsewhere;
pub(crate) mod journal;
pub(crate) mod listing;
pub(crate) mod measure;
pub(crate) mod notice;
pub(crate) mod report;
pub(crate) mod status;
pub(crate) mod usage;
pub(crate) mod work;
