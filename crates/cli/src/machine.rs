//! The machine the program runs on.

use std::sync::Arc;

use sieve_disk::machine::{Clock, Machine, RealMachine};

/// The real machine; tests set its clock with ZINC_SIEVE_NOW: nanoseconds since 1970, with a `+` after them where it ticks.
pub(crate) fn real() -> Arc<dyn Machine> {
    let said = std::env::var("ZINC_SIEVE_NOW").unwrap_or_default();
    let ticking = said.strip_suffix('+').and_then(|at| at.parse().ok()).map(Clock::Ticking);
    let clock = ticking.or_else(|| said.parse().ok().map(Clock::Fixed)).unwrap_or(Clock::Real);
    Arc::new(RealMachine { clock })
}
