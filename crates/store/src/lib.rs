//! The real files of Zinc Sieve: it asks the core what to do, does it, and records it.

pub mod burn_in;
pub mod catalogue;
pub mod check;
pub mod content;
pub mod create;
pub mod curves;
pub mod disk;
pub mod drill;
pub mod durable;
pub mod error;
pub mod event;
pub mod fate;
pub mod held;
pub mod inventory;
pub mod journal;
pub mod label;
pub mod machine;
pub mod member;
pub mod paper;
pub mod parity;
pub mod pool;
pub mod pool_file;
pub mod put;
pub mod read;
pub mod rebuild;
pub mod remove;
pub mod replica;
pub mod scan;
pub mod status;
pub mod sync;
mod sysfs;
pub mod verify;
pub mod window;
pub mod workspace;
pub mod writer;

pub use error::{Error, Kind, Result};
