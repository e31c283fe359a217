//! Rows of parity: how an image lies on its disks, and how the cells of all lanes are read, checked, solved and encoded.
//!
//! It knows disks and contents, and no pool: where the contents are it asks a [`places::Places`].

pub mod content;
pub mod image;
pub mod places;
pub mod recall;
pub mod stream;
pub mod window;
