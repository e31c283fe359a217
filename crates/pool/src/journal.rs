//! The journal: what happened, one event a line (JSON), beside the catalogue.

use serde::Serialize;
use sieve_core::layout::OurPlace;

use sieve_disk::Disk;
use sieve_disk::{Error, Kind, Result};

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
    let path = OurPlace::Journal.path();
    let mut text = serde_json::to_vec(&Line { at: now, did, detail })
        .map_err(|e| Error::new(Kind::Internal, "journal.write", format!("the journal: {e}")))?;
    text.push(b'\n');
    let end = home.stat(&path)?.map_or(0, |s| s.size.exact());
    let mut file = home.modify(&path)?;
    file.write_at(&text, end)?;
    file.sync()
}

/// When something of this kind was done, in order, nanoseconds since 1970; lines that cannot be read are passed over.
///
/// # Errors
/// What the disk says.
pub fn times(home: &dyn Disk, did: &str) -> Result<Vec<i64>> {
    #[derive(serde::Deserialize)]
    struct Read {
        at: i64,
        did: String,
    }
    let path = OurPlace::Journal.path();
    if home.stat(&path)?.is_none() {
        return Ok(Vec::new());
    }
    let text = sieve_disk::read_small(home, &path, 1 << 30)?;
    let lines =
        text.split(|byte| *byte == b'\n').filter_map(|line| serde_json::from_slice::<Read>(line).ok());
    Ok(lines.filter(|line| line.did == did).map(|line| line.at).collect())
}
