//! How much of the machine a long action may take.

use sieve_core::units::{ByteLength, Rate};

/// What an action may take. It belongs to the open pool, and not to single actions, so that none can forget it.
#[derive(Clone, Copy, Debug)]
pub struct Restraint {
    /// Memory for buffers.
    pub memory: ByteLength,
    /// Bytes per second from and to each disk.
    pub rate: Option<Rate>,
}

impl Default for Restraint {
    fn default() -> Self {
        Self { memory: ByteLength::new(256 << 20), rate: None }
    }
}
