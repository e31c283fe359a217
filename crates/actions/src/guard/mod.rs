//! Parity and copies: brought up to the present, looked at, mended, and proven.

pub mod drill;
pub mod sync;
pub mod verify;
