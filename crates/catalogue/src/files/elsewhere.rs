//! The catalogue of another pool, to be read and nothing else.

use std::path::Path;

use rusqlite::{Connection, OpenFlags};
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::Result;

use crate::objects::path_of;
use crate::{check_format, unsigned};

/// Opens a database of another machine without leaving anything beside it.
///
/// # Errors
/// When it cannot be opened.
pub fn open(path: &Path) -> rusqlite::Result<Connection> {
    let mut log = path.as_os_str().to_owned();
    log.push("-wal");
    let is_open = std::fs::metadata(&log).is_ok_and(|log| log.len() > 0);
    if is_open {
        return Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY);
    }
    let escape = |byte: u8| match byte {
        b'/' | b'-' | b'_' | b'.' => char::from(byte).to_string(),
        byte if byte.is_ascii_alphanumeric() => char::from(byte).to_string(),
        byte => format!("%{byte:02X}"),
    };
    let name: String = path.as_os_str().as_encoded_bytes().iter().map(|b| escape(*b)).collect();
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    Connection::open_with_flags(format!("file:{name}?immutable=1"), flags)
}

/// Visits its files but those that are held: path, length, and the BLAKE3 where the content is known.
///
/// # Errors
/// When it is no catalogue, or one of a newer format.
pub fn for_each_file(
    c: &Connection,
    path: &Path,
    mut visit: impl FnMut(RelPath, ByteLength, Option<[u8; 32]>),
) -> Result<()> {
    check_format(c, path)?;
    let mut statement = c.prepare(
        "SELECT n.path, o.size, v.whole FROM name n JOIN object o ON o.id = n.object
         LEFT JOIN version v ON v.id = o.version AND o.standing = 0
         WHERE NOT EXISTS (SELECT 1 FROM held h WHERE h.disk = n.disk AND h.path = n.path)",
    )?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let whole: Option<Vec<u8>> = row.get(2)?;
        let key: Vec<u8> = row.get(0)?;
        visit(path_of(&key)?, ByteLength::new(unsigned(row.get(1)?)), whole.and_then(|w| w.try_into().ok()));
    }
    Ok(())
}
