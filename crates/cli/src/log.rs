//! `--log`: what is done, step by step, in a file.

use std::fs::{File, OpenOptions};
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Mutex;

use sieve_disk::{Error, Kind, Result};

/// The first line of a log: nothing is appended to a file that begins otherwise.
const FIRST: &str = "# log of zinc-sieve";

/// Begins, or goes on with, a log.
///
/// # Errors
/// When the file is something else, or cannot be written.
pub(crate) fn begin(path: &Path) -> Result<()> {
    let file = open(path)?;
    let subscriber = tracing_subscriber::fmt()
        .with_writer(Mutex::new(file))
        .with_ansi(false)
        .with_target(false)
        .with_max_level(tracing::Level::DEBUG)
        .finish();
    tracing::subscriber::set_global_default(subscriber)
        .map_err(|e| Error::new(Kind::Internal, "log.begin", e.to_string()))
}

fn open(path: &Path) -> Result<File> {
    let io = |e| Error::io("log.open", path, e);
    // It may name every file of a volume: it is for its owner alone (L5). What is no file, a pipe say, would never end.
    let mut how = OpenOptions::new();
    how.read(true)
        .append(true)
        .create(true)
        .mode(0o600)
        .custom_flags(rustix::fs::OFlags::NONBLOCK.bits() as i32);
    let mut file = how.open(path).map_err(io)?;
    let about = file.metadata().map_err(io)?;
    if !about.is_file() {
        let message = format!("{} is no file", path.display());
        return Err(
            Error::new(Kind::Conflict, "log.foreign", message).remedy("name another one; nothing was done")
        );
    }
    if about.len() == 0 {
        writeln!(file, "{FIRST}").map_err(io)?;
        return Ok(file);
    }
    let mut first = Vec::new();
    let mut start = std::io::Read::take(BufReader::new(&file), FIRST.len() as u64 + 1);
    start.read_until(b'\n', &mut first).map_err(io)?;
    if first.trim_ascii_end() == FIRST.as_bytes() {
        return Ok(file);
    }
    let message = format!("{} is there, and is no log of this program", path.display());
    Err(Error::new(Kind::Conflict, "log.foreign", message).remedy("name another file; nothing was done"))
}
