//! Measuring what this machine can do: the erasure code in memory, against the plainest loop over the same bytes; and the
//! disks of a pool.

mod disks;
mod erasure;
mod roofline;
mod timing;

pub use disks::{DiskFigures, PoolFigures, pool_figures};
pub use erasure::{CodeFigures, Shape, code_figures};
pub use timing::{Lanes, best_rates};
