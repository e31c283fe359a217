//! What of the files that would be lost lies on another machine, by a listing of that one.

use sieve_catalogue::elsewhere;
use std::collections::HashMap;
use std::io::Read;
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;

use crate::listing;
use crate::listing::Line;
use sieve_core::path::shown_with_bytes;
use sieve_disk::{Error, Kind, Result};

/// The files of another machine.
#[derive(Default)]
pub struct Backup {
    /// With a slash at its end.
    below: Option<String>,
    entries: Vec<Line>,
    by_path: HashMap<String, usize>,
    by_checksum: HashMap<[u8; 32], usize>,
    /// Files that have no checksum, by the last part of their path and their size.
    by_name: HashMap<(String, u64), usize>,
}

/// Where a file was found on the other machine.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
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
        Self::read_below(path, None)
    }

    /// As [`Self::read`], of a folder there: paths begin below it, and what is outside is not looked at.
    ///
    /// # Errors
    /// As there.
    pub fn read_below(path: &Path, below: Option<&str>) -> Result<Self> {
        let mut backup = Self { below: below.map(|below| format!("{below}/")), ..Self::default() };
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
        let c = elsewhere::open(path).map_err(|e| wrong(&e))?;
        elsewhere::for_each_file(&c, path, |path, size, blake3| {
            self.add(Line { path: shown_with_bytes(&path).0, size_bytes: Some(size.exact()), blake3 });
        })
        .map_err(|e| wrong(&e.message))?;
        Ok(())
    }

    fn add(&mut self, mut line: Line) {
        let path = line.path.trim_start_matches("./").trim_start_matches('/');
        let below = self.below.as_deref().unwrap_or_default();
        let Some(path) = path.strip_prefix(below).map(str::to_string) else { return };
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
        let mut backup = Backup::default();
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
