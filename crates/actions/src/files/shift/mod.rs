//! Files from one data disk of a volume to another: those that are named, all of a disk that is to leave, or as few as it takes
//! for all disks to be equally full.

mod board;
mod choose;
mod plan;
mod run;

pub use choose::{even_out, off, to_disk};
pub use plan::{Fill, Measure, ShiftPlan, ShiftedFile};
pub use run::{ShiftReport, execute};
