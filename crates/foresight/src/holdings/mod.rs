//! What a pool holds: what takes how much where, where a file is, what is there twice.

mod inventory;
mod places;
mod tree;
mod twins;
mod usage;

pub use inventory::{Held, each_file};
pub use places::{Pattern, Place, places};
pub use tree::{Depth, Guarded, Order, Row, Tree, add_guards, tree};
pub use twins::{Twin, Twins, twins};
pub use usage::{Breakdown, UsageRow, growth, usage};
