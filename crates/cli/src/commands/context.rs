//! What every command needs, and how what several of them take is read.

use sieve_core::path::RelPath;
use sieve_core::pool::Share;
use sieve_disk::{Error, Kind, Result};
use std::ffi::OsStr;
use std::path::PathBuf;

/// What every command needs.
pub(crate) struct Context {
    pub(crate) pool: PathBuf,
    pub(crate) json: bool,
}

pub(crate) fn size_argument(text: &str) -> Result<sieve_core::units::ByteLength> {
    sieve_core::units::ByteLength::parse(text)
        .map_err(|e| Error::new(Kind::Usage, "argument.size", e.to_string()))
}

/// A path in a volume, as it is typed: `.` or `/` is the root, a slash in front or behind does not matter.
pub(crate) fn volume_path(typed: impl AsRef<OsStr>) -> Result<RelPath> {
    use std::os::unix::ffi::OsStrExt;
    // Names on a disk are bytes: not all of them are text.
    let mut path = typed.as_ref().as_bytes();
    while let Some(rest) = path.strip_prefix(b"./") {
        path = rest;
    }
    while let Some(rest) = path.strip_prefix(b"/") {
        path = rest;
    }
    while let Some(rest) = path.strip_suffix(b"/") {
        path = rest;
    }
    let path: &[u8] = if path == b"." { b"" } else { path };
    let text = sieve_core::path::shown(typed.as_ref().as_bytes());
    let path = RelPath::new(path).map_err(|why| {
        Error::new(Kind::Usage, "path.invalid", format!("`{text}` is no path in a volume: {why}"))
    })?;
    if path.is_ours() {
        let message = format!("`{text}` is reserved");
        return Err(Error::new(Kind::Usage, "path.reserved", message));
    }
    Ok(path)
}

/// A share that an option takes, above 0 and below 100 %.
pub(crate) fn share(text: &str, code: &'static str, option: &str) -> Result<f64> {
    let share = Share::parse(text).map(Share::fraction).filter(|s| *s > 0.0 && *s < 1.0);
    share.ok_or_else(|| {
        Error::new(Kind::Usage, code, format!("`{text}` is no share"))
            .remedy(format!("write a share between 0 and 100 %: {option} \"5 %\""))
    })
}
