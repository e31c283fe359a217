//! Lists as CSV (RFC 4180), for whoever opens them in a spreadsheet: a heading, then a line for each thing. Sizes are whole
//! numbers of bytes, moments are text, several names in one field have blanks between them.

use serde::Serialize;
use sieve_disk::{Error, Kind, Result};

use crate::output::Stdout;

/// As what a list is printed.
#[derive(clap::Args)]
pub(crate) struct SheetArguments {
    /// Print the list as CSV, for a spreadsheet
    #[arg(long, conflicts_with = "json")]
    pub(crate) csv: bool,
}

/// Prints lines; the names of their fields are the heading.
///
/// # Errors
/// When a line cannot be written as CSV. Output that is closed, or full, is told at the end.
pub(crate) fn print<L: Serialize>(lines: impl IntoIterator<Item = L>) -> Result<()> {
    let mut out = writer();
    lines.into_iter().try_for_each(|line| out.serialize(line)).map_err(|e| failed(&e))?;
    out.flush().map_err(|e| failed(&e))
}

/// For lines that are written as they are found.
pub(crate) fn writer() -> csv::Writer<Stdout> {
    csv::Writer::from_writer(Stdout)
}

/// It cannot be written as CSV.
pub(crate) fn failed(why: &dyn std::error::Error) -> Error {
    Error::new(Kind::Internal, "csv.write", format!("the result cannot be written as CSV: {why}"))
}
