//! Results as JSON on stdout.

use serde::Serialize;
use sieve_store::{Error, Kind, Result};

/// Prints a value.
///
/// # Errors
/// When stdout is closed.
pub(crate) fn print<T: Serialize>(value: &T) -> Result<()> {
    let mut out = std::io::stdout().lock();
    serde_json::to_writer_pretty(&mut out, value).map_err(|e| failed(&e.to_string()))?;
    std::io::Write::write_all(&mut out, b"\n").map_err(|e| failed(&e.to_string()))
}

fn failed(why: &str) -> Error {
    Error::new(Kind::Io, "json.write", format!("the result cannot be printed: {why}"))
}
