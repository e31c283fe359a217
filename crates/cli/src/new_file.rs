//! Files that a command writes where somebody names a path: nothing that is there is overwritten unasked.

use std::io::Write;
use std::path::Path;

use sieve_disk::{Error, Kind, Result};

/// Writes a file that does not exist yet; `what` is the code that its error carries.
pub(crate) fn write(path: &Path, text: &str, what: &'static str) -> Result<()> {
    let made = std::fs::File::create_new(path).and_then(|mut file| file.write_all(text.as_bytes()));
    made.map_err(|e| {
        let is_there = e.kind() == std::io::ErrorKind::AlreadyExists;
        let mut error = Error::io(what, path, e);
        if is_there {
            error.kind = Kind::Conflict;
        }
        error.remedy("name another file, or move that one away first")
    })
}
