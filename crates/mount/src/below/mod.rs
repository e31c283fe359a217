//! What the volume stands on: the members by their roots, what the catalogue knows of them, the contents that parity brings
//! back, how well they are guarded, and the past that it still needs.

pub(crate) mod branch;
pub(crate) mod content;
pub(crate) mod intents;
pub(crate) mod judge;
pub(crate) mod knowledge;
pub(crate) mod past;
pub(crate) mod places;
