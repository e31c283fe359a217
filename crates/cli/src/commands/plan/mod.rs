//! Before there is a pool: what to build of the disks, and whether it would work.

pub(crate) mod check;
pub(crate) mod design;
pub(crate) mod forms;
pub(crate) mod ingest;
pub(crate) mod init;
pub(crate) mod manual;
