//! Results as JSON on stdout.

use std::io::Write;

use serde::Serialize;
use sieve_disk::{Error, Kind, Result};

/// What the name of every result begins with.
const FORMAT: &str = "zinc-sieve/";
/// Rises when a key goes, or means something else; keys may be added.
const VERSION: u32 = 1;

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

/// What every result begins with: which one it is, and of which version of its form.
#[derive(Serialize)]
struct Envelope<'a, T> {
    format: String,
    version: u32,
    #[serde(flatten)]
    result: &'a T,
}

/// Prints a result: an object, told by its name.
///
/// # Errors
/// When it cannot be written as JSON. Output that is closed, or full, is told at the end.
pub(crate) fn print<T: Serialize>(name: &str, result: &T) -> Result<()> {
    // Written as it is made: the lists of a large pool need not be in memory twice.
    let mut out = std::io::BufWriter::new(crate::output::Stdout);
    let envelope = Envelope { format: format!("{FORMAT}{name}"), version: VERSION, result };
    serde_json::to_writer_pretty(&mut out, &envelope).map_err(|e| unwritable(&e))?;
    // What cannot be written is noted where it is written.
    let _ = out.write_all(b"\n").and_then(|()| out.flush());
    Ok(())
}

/// Prints a result that is a list: an object that holds it under a key.
///
/// # Errors
/// As [`print`].
pub(crate) fn print_list<T: Serialize>(name: &str, key: &str, list: &T) -> Result<()> {
    print(name, &std::collections::BTreeMap::from([(key, list)]))
}

/// What went wrong, in place of the result.
pub(crate) fn print_error(code: &str, message: &str, remedy: Option<&str>) {
    let error = serde_json::json!({ "code": code, "message": message, "remedy": remedy });
    let value = serde_json::json!({ "format": format!("{FORMAT}error"), "version": VERSION, "error": error });
    crate::output::document(&format!("{value}\n"));
}
