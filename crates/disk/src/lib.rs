//! The floor of Zinc Sieve: disks as folders of files, the machine that they are in, and how files are copied on them.
//!
//! Nothing here knows of pools, volumes or parity. Every byte that the program reads from a disk or writes to one passes
//! through [`Disk`] and its files, so that what holds for all of them (a limit, the counting of bytes, no symlink that
//! leads out) holds here once. Everything above calls it.

mod attributes;
pub mod copying;
mod disk;
pub mod durable;
pub mod error;
pub mod event;
mod filesystem;
pub mod fitness;
mod flow;
mod idle;
pub mod inventory;
mod lease;
pub mod machine;
mod open_files;
mod real;
mod real_file;
mod real_stat;
pub mod restraint;
pub mod sysfs;
mod uuid_ioctl;
pub mod workspace;
mod write_back;

pub use attributes::Attributes;
pub use disk::*;
pub use error::{Error, Kind, Result};
pub use flow::Flow;
pub use idle::become_idle;
pub use open_files::open_files;
pub use real::RealDisk;
pub use restraint::Restraint;
