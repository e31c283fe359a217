//! Files that programs have open: found, made, read, written, and moved when their disk is full.

pub(crate) mod handles;
mod open;
mod overflow;
pub(crate) mod transfer;
