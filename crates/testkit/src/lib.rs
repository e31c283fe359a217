//! Simulated disks that lose power, pools to throw away, and chance that repeats. For tests only.

mod chance;
mod crash;
mod lab;
mod paths;
mod rot;

pub use chance::Chance;
pub use crash::{CrashMachine, CrashPlan};
pub use lab::{Lab, Run, scratch};
pub use paths::paths;
