//! Who belongs to the pool: its disks recognised by their labels, the pool file held against them, disks that are to
//! become members.

pub(crate) mod agreement;
pub mod check;
pub mod follow;
pub mod member;
pub mod new_disk;
