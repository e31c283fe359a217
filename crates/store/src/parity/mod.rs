//! Parity images: cells in slots of segment files, and the tables that say which is where.

mod image;
mod part;
mod table;

pub use image::{ParityImage, ParityReader};
pub use part::{ImageLimits, OpenCell, Part, PartPlace};
pub use table::Entry;
