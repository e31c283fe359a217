//! What of the files that would be lost lies on another machine, by a listing of that one.

use std::collections::HashMap;
use std::io::Read;
use std::path::Path;

use rusqlite::{Connection, OpenFlags};
use serde::Serialize;

use crate::listing;
use crate::listing::Line;
use sieve_catalogue::objects::path_of;
use sieve_core::path::shown_with_bytes;
use sieve_disk::{Error, Kind, Result};

/// The files of another machine.
pub struct Backup {
    entries: Vec<Line>,
    by_path: HashMap<String, usize>,
    by_checksum: HashMap<[u8; 32], usize>,
    /// Files that have no checksum, by the last part of their path and their size.
    by_name: HashMap<(String, u64), usize>,
}

/// Where a file was found on the other machine.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(tag = "backup", rename_all = "kebab-case")]
pub enum Found {
    /// At the same path.
    There {
        /// The checksums were compared; else only the sizes.
        by_checksum: bool,
    },
    /// At another path.
    Moved {
        /// Which.
        path: String,
        /// The checksums were compared; else only the name and the size.
        by_checksum: bool,
    },
    /// At the same path there is another content, or one that cannot be compared.
    Differs {
        /// The sizes are known, and differ.
        in_size: bool,
        /// The checksums are known, and differ.
        in_checksum: bool,
    },
    /// Nowhere.
    Nowhere,
}

impl Backup {
    /// Reads a listing: CSV or JSON lines with path, size and BLAKE3, a list as b3sum prints it, or the catalogue of
    /// another pool.
    ///
    /// # Errors
    /// When it cannot be read; the message says which line.
    pub fn read(path: &Path) -> Result<Self> {
        let mut backup = Self {
            entries: Vec::new(),
            by_path: HashMap::new(),
            by_checksum: HashMap::new(),
            by_name: HashMap::new(),
        };
        if is_database(path)? {
            backup.add_catalogue(path)?;
        } else {
            listing::read(path, |_, line| {
                backup.add(line);
                Ok(())
            })?;
        }
        Ok(backup)
    }

    /// How many files it lists.
    pub const fn files(&self) -> usize {
        self.entries.len()
    }

    fn add_catalogue(&mut self, path: &Path) -> Result<()> {
        let wrong = |why: &dyn std::fmt::Display| {
            Error::new(Kind::Usage, "backup.catalogue", format!("{}: {why}", path.display()))
                .remedy("name a catalogue.sqlite of another pool, or a listing of its files")
        };
        let c = open_elsewhere(path).map_err(|e| wrong(&e))?;
        sieve_catalogue::check_format(&c, path).map_err(|e| wrong(&e.message))?;
        let mut statement = c
            .prepare(
                "SELECT n.path, o.size, v.whole FROM name n JOIN object o ON o.id = n.object
                 LEFT JOIN version v ON v.id = o.version AND o.standing = 0
                 WHERE NOT EXISTS (SELECT 1 FROM held h WHERE h.disk = n.disk AND h.path = n.path)",
            )
            .map_err(|e| wrong(&e))?;
        let mut rows = statement.query([]).map_err(|e| wrong(&e))?;
        while let Some(row) = rows.next().map_err(|e| wrong(&e))? {
            let key: Vec<u8> = row.get(0).map_err(|e| wrong(&e))?;
            let size: i64 = row.get(1).map_err(|e| wrong(&e))?;
            let whole: Option<Vec<u8>> = row.get(2).map_err(|e| wrong(&e))?;
            self.add(Line {
                path: shown_with_bytes(&path_of(&key)?).0,
                size_bytes: Some(sieve_catalogue::unsigned(size)),
                blake3: whole.and_then(|w| w.try_into().ok()),
            });
        }
        Ok(())
    }

    fn add(&mut self, mut line: Line) {
        let path = line.path.trim_start_matches("./").trim_start_matches('/').to_string();
        line.path.clone_from(&path);
        let position = self.entries.len();
        match (line.blake3, line.size_bytes) {
            (Some(sum), _) => _ = self.by_checksum.entry(sum).or_insert(position),
            (None, Some(size)) => _ = self.by_name.entry((last_part(&path), size)).or_insert(position),
            (None, None) => {}
        }
        self.by_path.insert(path, position);
        self.entries.push(line);
    }

    /// Looks for a file.
    pub fn find(&self, path: &str, size: u64, checksum: Option<[u8; 32]>) -> Found {
        let here = self.by_path.get(path).map(|position| &self.entries[*position]);
        match here.map(|entry| (entry.blake3, entry.size_bytes)) {
            Some((Some(sum), _)) if checksum == Some(sum) => return Found::There { by_checksum: true },
            Some((sum, Some(there))) if there == size && (sum.is_none() || checksum.is_none()) => {
                return Found::There { by_checksum: false };
            }
            _ => {}
        }
        let same = checksum.and_then(|sum| self.by_checksum.get(&sum)).map(|p| (p, true));
        let alike = || self.by_name.get(&(last_part(path), size)).map(|p| (p, false));
        if let Some((position, by_checksum)) = same.or_else(alike) {
            return Found::Moved { path: self.entries[*position].path.clone(), by_checksum };
        }
        match here {
            None => Found::Nowhere,
            Some(entry) => Found::Differs {
                in_size: entry.size_bytes.is_some_and(|there| there != size),
                in_checksum: entry.blake3.is_some() && checksum.is_some(),
            },
        }
    }
}

fn last_part(path: &str) -> String {
    path.rsplit('/').next().unwrap_or(path).to_string()
}

/// Opens a database of another machine without leaving anything beside it.
fn open_elsewhere(path: &Path) -> rusqlite::Result<Connection> {
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

fn is_database(path: &Path) -> Result<bool> {
    let mut magic = Vec::new();
    let file = std::fs::File::open(path).map_err(|e| {
        let mut error = Error::io("backup.read", path, e);
        error.kind = Kind::Usage;
        error
    })?;
    file.take(16).read_to_end(&mut magic).map_err(|e| Error::io("backup.read", path, e))?;
    Ok(magic == b"SQLite format 3\0")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn backup(lines: &[(&str, Option<u64>, Option<u8>)]) -> Backup {
        let mut backup = Backup {
            entries: Vec::new(),
            by_path: HashMap::new(),
            by_checksum: HashMap::new(),
            by_name: HashMap::new(),
        };
        for (path, size_bytes, sum) in lines {
            backup.add(Line { path: (*path).into(), size_bytes: *size_bytes, blake3: sum.map(|s| [s; 32]) });
        }
        backup
    }

    #[test]
    fn a_file_is_found_by_what_is_known_of_it() {
        let there = backup(&[
            ("./a/same.wav", Some(5), Some(1)),
            ("moved/old-name.wav", None, Some(2)),
            ("a/edited.wav", Some(5), Some(3)),
            ("a/plain.wav", Some(7), None),
            ("elsewhere/only-size.wav", Some(9), None),
        ]);
        let find = |path, size, sum: Option<u8>| there.find(path, size, sum.map(|s| [s; 32]));
        assert_eq!(find("a/same.wav", 5, Some(1)), Found::There { by_checksum: true });
        assert_eq!(find("a/same.wav", 5, None), Found::There { by_checksum: false });
        let path = "moved/old-name.wav".to_string();
        assert_eq!(find("a/new-name.wav", 5, Some(2)), Found::Moved { path, by_checksum: true });
        assert_eq!(find("a/edited.wav", 5, Some(9)), Found::Differs { in_size: false, in_checksum: true });
        assert_eq!(find("a/plain.wav", 8, Some(9)), Found::Differs { in_size: true, in_checksum: false });
        let path = "elsewhere/only-size.wav".to_string();
        assert_eq!(find("b/only-size.wav", 9, Some(9)), Found::Moved { path, by_checksum: false });
        assert_eq!(find("b/nowhere.wav", 9, Some(9)), Found::Nowhere);
    }
}
