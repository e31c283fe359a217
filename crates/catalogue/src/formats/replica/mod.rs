//! Replicas of the catalogue on the members: a whole copy as of one checkpoint, and what changed since, checkpoint by
//! checkpoint. The names of the files say which checkpoint each is of, and how they follow one another.

mod chain;
mod changes;
mod export;
mod fetch;
mod ledger;
mod pages;
mod spread;
#[cfg(test)]
mod tests;

pub use chain::{Stamp, newest_on};
pub use export::{Export, fits};
pub use fetch::fetch_private;
