//! Simulated disks that lose power or fail in other ways, pools to throw away, and chance that repeats. For tests only.

mod chance;
mod crash;
mod drive;
mod faults;
pub mod forms;
pub mod hostile;
mod lab;
mod mapping;
mod neighbour;
mod paths;
mod rot;

pub use chance::Chance;
pub use crash::{CrashMachine, CrashPlan};
pub use drive::Drive;
pub use faults::{Faults, FaultyMachine};
pub use lab::{Lab, Run, scratch};
pub use mapping::Mapping;
pub use neighbour::{Act, Answer, NeighbourMachine};
pub use paths::paths;
