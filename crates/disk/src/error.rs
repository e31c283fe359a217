//! What can go wrong, in kinds that decide the exit code.

use std::fmt;
use std::path::Path;

/// The code of the error of a database that takes no writes.
pub const UNWRITABLE: &str = "catalogue.unwritable";

/// The kind of an error.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// The request makes no sense as it stands; nothing was done.
    Usage,
    /// Something that was named does not exist.
    NotFound,
    /// Something is in the way.
    Conflict,
    /// It was asked to stop; what was done before stays done.
    Stopped,
    /// Going on could cost somebody a file.
    Safety,
    /// Bytes on a disk are not what they should be.
    Corrupt,
    /// The operating system refused.
    Io,
    /// The program contradicts itself.
    Internal,
}

/// An error with a stable code, in words for its reader.
#[derive(Debug)]
pub struct Error {
    /// What kind it is.
    pub kind: Kind,
    /// A stable code such as `label.wrong-disk`.
    pub code: &'static str,
    /// What is wrong and where.
    pub message: String,
    /// What to do next, where only the place of the error knows it.
    pub remedy: Option<String>,
    /// What the operating system said.
    pub source: Option<std::io::Error>,
}

/// The result of everything that touches a disk.
pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// An error in words.
    pub fn new(kind: Kind, code: &'static str, message: impl Into<String>) -> Self {
        Self { kind, code, message: message.into(), remedy: None, source: None }
    }

    /// An error of the operating system at `path`.
    pub fn io(code: &'static str, path: &Path, source: std::io::Error) -> Self {
        use std::os::unix::ffi::OsStrExt;
        let message =
            format!("{}: {}", sieve_core::path::shown(path.as_os_str().as_bytes()), words_of(&source));
        Self { kind: Kind::Io, code, message, remedy: None, source: Some(source) }
    }

    /// It was asked to stop before it had anything to report.
    pub fn stopped() -> Self {
        Self::new(Kind::Stopped, "stopped", "it was asked to stop, and did")
            .remedy("run it again: it goes on")
    }

    /// Whether it was only asked to stop.
    pub fn is_stop(&self) -> bool {
        self.kind == Kind::Stopped
    }

    /// Adds what to do next.
    #[must_use]
    pub fn remedy(mut self, remedy: impl Into<String>) -> Self {
        self.remedy = Some(remedy.into());
        self
    }

    /// The kind of the operating system's error, if it was one.
    pub fn io_kind(&self) -> Option<std::io::ErrorKind> {
        self.source.as_ref().map(std::io::Error::kind)
    }
}

/// The operating system's words without Rust's "(os error N)".
fn words_of(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or_default().to_string()
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        self.source.as_ref().map(|e| e as _)
    }
}

impl From<rusqlite::Error> for Error {
    fn from(error: rusqlite::Error) -> Self {
        use rusqlite::ErrorCode::{
            CannotOpen, DatabaseBusy, DatabaseCorrupt, NotADatabase, PermissionDenied, ReadOnly,
        };
        let (kind, code) = match error.sqlite_error_code() {
            Some(DatabaseCorrupt | NotADatabase) => (Kind::Corrupt, "catalogue.database"),
            Some(DatabaseBusy) => (Kind::Conflict, "catalogue.database"),
            Some(ReadOnly | CannotOpen | PermissionDenied) => (Kind::Io, UNWRITABLE),
            _ => (Kind::Io, "catalogue.database"),
        };
        Self::new(kind, code, format!("the catalogue: {error}"))
    }
}
