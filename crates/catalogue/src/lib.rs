//! What a pool knows: the catalogue, and what else is written down of it (labels, replicas, the pool file, what pieces say of
//! themselves).
//!
//! All SQL of the program is here. The floors above ask for rows and hand rows in; what they mean is decided there.

mod catalogue;
pub mod checks;
mod files;
mod formats;
pub mod intents;
mod members;
mod meta;
pub mod parity_state;
mod schema;

pub use catalogue::*;
pub use files::{
    apart, contents, elsewhere, folders, gone, heat, held_files, nodes, objects, pieces, relocation, shared,
    unfinished, versions,
};
pub use formats::{label, piece_note, pool_file, replica};
pub use members::{disks, looks, proofs, rest, samples, volumes};
pub use meta::*;
