//! Measuring what this machine can do: the erasure code in memory, against the plainest loop over the same bytes.

mod erasure;
mod roofline;
mod timing;

pub use erasure::{CodeFigures, Shape, code_figures};
pub use timing::{Lanes, best_rates};
