//! The floor of Zinc Sieve: disks as folders of files, the machine that they are in, and how files are copied on them.
//!
//! Nothing here knows of pools, volumes or parity. Every byte that the program reads from a disk or writes to one passes
//! through [`Disk`] and its files, so that what holds for all of them (a limit, the counting of bytes, no symlink that
//! leads out) holds here once. Everything above calls it.

pub mod copying;
mod disk;
pub mod durable;
pub mod error;
pub mod event;
pub mod fitness;
mod flow;
mod outside;
pub mod restraint;
mod system;
pub mod workspace;
mod write_back;

pub use disk::*;
pub use error::{Error, Kind, Result};
pub use flow::Flow;
pub use outside::idle::become_idle;
pub use outside::{inventory, machine, self_test, sysfs};
pub use restraint::Restraint;
pub use system::attributes::Attributes;
pub use system::open_files::open_files;
pub use system::real::RealDisk;
use system::{filesystem, lease};
