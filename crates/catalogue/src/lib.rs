//! What a pool knows: the catalogue, and what else is written down of it (labels, replicas, the pool file, what pieces say of
//! themselves).
//!
//! All SQL of the program is here. The floors above ask for rows and hand rows in; what they mean is decided there.

pub mod apart;
mod catalogue;
pub mod checks;
pub mod contents;
pub mod disks;
pub mod elsewhere;
pub mod folders;
pub mod gone;
pub mod heat;
pub mod held_files;
pub mod intents;
pub mod label;
pub mod looks;
mod meta;
pub mod nodes;
pub mod objects;
pub mod parity_state;
pub mod piece_note;
pub mod pieces;
pub mod pool_file;
pub mod proofs;
pub mod relocation;
pub mod replica;
mod schema;
pub mod unfinished;
pub mod versions;
pub mod volumes;

pub use catalogue::*;
pub use meta::*;
