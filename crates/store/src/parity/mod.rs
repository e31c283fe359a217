//! The parity image of one parity disk: cells in slots of segment files, and the table that says which is where.

mod image;
mod table;

pub use image::{ImageLimits, OpenCell, ParityImage, ParityReader};
pub use table::Entry;
