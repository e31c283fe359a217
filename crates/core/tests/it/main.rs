//! What core computes, against plain computation of the same from first principles.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

mod fate_against_brute_force;
mod health_against_plain_rules;
mod remaining_time;
mod risk_against_plain_paths;
mod simulated_pass;

/// So many random cases; `PLAIN_CASES` asks for others.
fn cases(usual: u32) -> u32 {
    std::env::var("PLAIN_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}
