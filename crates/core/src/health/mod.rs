//! Whether a disk deserves to be used, and why.

mod dates;
mod errors;
mod finding;
mod probe;
mod rule;
mod self_tests;
#[cfg(test)]
mod tests;
mod verdict;
mod wear;

pub use dates::{age_in_years, batches, warranty_left};
pub use finding::{About, Check, Look, Verdict};
pub use probe::{Cause, Conclusion, Samples, conclude};
pub use rule::{FOLLOWED_DAYS, Rule};
pub use verdict::{judge, raised_over_a_year};
