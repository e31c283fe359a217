//! Adding a line.
//!
//! Several processes may do so at once (a mounted volume, a command): the system puts each line behind the last, whole. A line
//! that a crash cut off ends where the next one begins, and is passed over when it is read.

use sieve_core::layout::OurPlace;
use sieve_disk::durable;
use sieve_disk::{Disk, Error, Kind, Result};

use super::segments;
use super::{Entry, LONGEST_LINE, SEGMENT};

/// Adds a line, durably, as of `now` (nanoseconds since 1970).
///
/// # Errors
/// What the disk says.
pub fn add(home: &dyn Disk, now: i64, entry: Entry) -> Result<()> {
    let entry = Entry { at: now, ..entry };
    let path = OurPlace::Journal.path();
    durable::make_own_folder(home, &OurPlace::Folder.path())?;
    let end = home.append(&path, &line(&entry)?)?;
    if end >= SEGMENT {
        segments::close(home)?;
    }
    Ok(())
}

fn line(entry: &Entry) -> Result<Vec<u8>> {
    let text = |entry: &Entry| {
        serde_json::to_vec(entry)
            .map_err(|e| Error::new(Kind::Internal, "journal.write", format!("the journal: {e}")))
    };
    let mut line = text(entry)?;
    if line.len() as u64 >= LONGEST_LINE {
        // What happened is kept; a list of a hundred thousand names in it is not.
        let short =
            Entry { detail: serde_json::json!({ "left_out": "too long for the journal" }), ..entry.clone() };
        line = text(&short)?;
    }
    line.push(b'\n');
    Ok(line)
}
