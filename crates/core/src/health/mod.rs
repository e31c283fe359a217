//! Whether a disk deserves to be used, and why.

mod verdict;

pub use verdict::{About, Check, Look, Verdict, age_in_years, batches, judge, warranty_left};
