//! What the machine says about its disks: documents of the operating system's public interfaces, read with care,
//! since keys may be missing, null, or of another type than they should be.

mod blocks;
mod document;
mod kernel;
mod link;
mod serials;
mod smart;

pub use blocks::{Device, Mount, parse_blocks, parse_ids};
pub use document::DocumentError;
pub use kernel::{KernelReport, millidegrees, pcie_speed, sata_speed};
pub use link::{DiskLink, LinkSpeed};
pub use serials::{Confusion, confusable, tail};
pub use smart::{BelowLimit, Reach, SelfTest, SmartReport, Warning, parse_smart};
