//! Parity images: cells in slots of segment files, and the tables that say which is where.

mod index;
mod part;
mod table;
#[cfg(test)]
mod tests;
mod whole;

pub use part::{ImageLimits, OpenCell, Part, PartPlace};
pub use table::Entry;
pub use whole::{ParityImage, ParityReader};
