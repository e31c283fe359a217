//! Results as JSON on stdout.

use std::io::Write;

use serde::Serialize;
use sieve_disk::{Error, Kind, Result};

/// Prints a value on a line of its own.
///
/// # Errors
/// As [`print`].
pub(crate) fn line<T: Serialize>(value: &T) -> Result<()> {
    let text = serde_json::to_string(value).map_err(|e| unwritable(&e))?;
    crate::output::document(&format!("{text}\n"));
    Ok(())
}

/// A value as JSON, to be printed later.
///
/// # Errors
/// When it cannot be written as JSON.
pub(crate) fn value<T: Serialize>(value: &T) -> Result<serde_json::Value> {
    serde_json::to_value(value).map_err(|e| unwritable(&e))
}

fn unwritable(error: &serde_json::Error) -> Error {
    Error::new(Kind::Internal, "json.write", format!("the result cannot be written as JSON: {error}"))
}

/// Prints a value.
///
/// # Errors
/// When it cannot be written as JSON. Output that is closed, or full, is told at the end.
pub(crate) fn print<T: Serialize>(value: &T) -> Result<()> {
    // Written as it is made: the lists of a large pool need not be in memory twice.
    let mut out = std::io::BufWriter::new(crate::output::Stdout);
    serde_json::to_writer_pretty(&mut out, value).map_err(|e| unwritable(&e))?;
    // What cannot be written is noted where it is written.
    let _ = out.write_all(b"\n").and_then(|()| out.flush());
    Ok(())
}

/// What went wrong, in place of the result.
pub(crate) fn print_error(code: &str, message: &str, remedy: Option<&str>) {
    let value = serde_json::json!({ "error": { "code": code, "message": message, "remedy": remedy } });
    crate::output::document(&format!("{value}\n"));
}
