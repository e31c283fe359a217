//! Parity brought up to the present, and checked.

pub(crate) mod sync;
pub(crate) mod verify;
