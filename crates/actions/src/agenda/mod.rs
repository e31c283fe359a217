//! What runs by itself: what is due, and doing it.

mod due;
mod history;
mod run;

pub use due::{Arrived, Due, due, next, usable_until};
pub use history::{LastRun, last_runs};
pub use run::{Others, Ran, run};
