//! How fast disks are, what flows through them, and what remains of a long stage.

pub mod copies;
pub mod curves;
pub mod pass;
pub mod progress;
pub mod traffic;
