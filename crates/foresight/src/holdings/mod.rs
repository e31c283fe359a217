//! What a pool holds: what takes how much where, where a file is, what is there twice.

mod inventory;
mod places;
mod twins;
mod usage;

pub use inventory::{Held, each_file};
pub use places::{Pattern, Place, places};
pub use twins::{Twin, Twins, twins};
pub use usage::{Breakdown, UsageRow, growth, usage};
