//! Files as they lie on the disks: what they are called, what they hold, what is held back of them, how much they are used.

pub mod apart;
pub mod contents;
pub mod elsewhere;
pub mod folders;
pub mod gone;
pub mod heat;
pub mod held_files;
pub mod nodes;
pub mod objects;
pub mod pieces;
pub mod relocation;
pub mod shared;
#[cfg(test)]
mod tests;
pub mod unfinished;
pub mod versions;
