//! The machine the program runs on.

use std::sync::Arc;

use sieve_disk::machine::{Machine, RealMachine};

/// The real machine; tests fix its clock with ZINC_SIEVE_NOW (nanoseconds since 1970).
pub(crate) fn real() -> Arc<dyn Machine> {
    let fixed_now = std::env::var("ZINC_SIEVE_NOW").ok().and_then(|text| text.parse().ok());
    Arc::new(RealMachine { fixed_now })
}
