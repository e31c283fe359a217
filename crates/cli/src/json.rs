//! Results as JSON on stdout.

use serde::Serialize;
use sieve_store::{Error, Kind, Result};

/// Prints a value.
///
/// # Errors
/// When it cannot be written as JSON. Output that is closed, or full, is told at the end.
pub(crate) fn print<T: Serialize>(value: &T) -> Result<()> {
    let text = serde_json::to_string_pretty(value).map_err(|e| {
        Error::new(Kind::Internal, "json.write", format!("the result cannot be written as JSON: {e}"))
    })?;
    crate::output::document(&format!("{text}\n"));
    Ok(())
}
