//! The journal: what happened, one event a line (JSON), beside the catalogue.

use serde::Serialize;
use sieve_core::path::RelPath;

use crate::disk::Disk;
use crate::error::{Error, Kind, Result};

/// One line of the journal.
#[derive(Debug, Serialize)]
struct Line<'a, T> {
    at: i64,
    did: &'a str,
    detail: &'a T,
}

/// Adds a line.
///
/// # Errors
/// What the disk says.
pub fn append<T: Serialize>(home: &dyn Disk, now: i64, did: &str, detail: &T) -> Result<()> {
    let path = RelPath::fixed(".zinc-sieve/journal.jsonl");
    let mut text = serde_json::to_vec(&Line { at: now, did, detail })
        .map_err(|e| Error::new(Kind::Internal, "journal.write", format!("the journal: {e}")))?;
    text.push(b'\n');
    let end = home.stat(&path)?.map_or(0, |s| s.size.exact());
    let mut file = home.modify(&path)?;
    file.write_at(&text, end)?;
    file.sync()
}
