//! Where files are: disk, guard, copies, by a path or a pattern.

use globset::{GlobBuilder, GlobMatcher};
use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::Unguarded;
use sieve_core::path::RelPath;
use sieve_core::units::ByteLength;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::fate::FileFate;
use sieve_pool::pool::Pool;

use crate::{Look, Outlook, PoolOutlook};

/// A path, or a pattern of names: `*` and `?` do not go over a slash, `**` does. One without a slash is looked for in all folders.
pub enum Pattern {
    /// One file, or all in one folder.
    Path(RelPath),
    /// Whatever matches.
    Glob(Box<GlobMatcher>),
}

impl Pattern {
    /// Reads what was typed.
    ///
    /// # Errors
    /// When it is neither a path nor a pattern.
    pub fn parse(typed: &str) -> Result<Self> {
        let trimmed = typed.trim_start_matches("./").trim_matches('/');
        let wrong = |why: String| Error::new(Kind::Usage, "where.pattern", format!("`{typed}`: {why}"));
        if !trimmed.contains(['*', '?', '[', '{']) && trimmed.contains('/') {
            return RelPath::new(trimmed.as_bytes()).map(Self::Path).map_err(|why| wrong(why.to_string()));
        }
        let pattern = if trimmed.contains('/') { trimmed.to_string() } else { format!("**/{trimmed}") };
        let glob = GlobBuilder::new(&pattern).literal_separator(true).build();
        glob.map(|glob| Self::Glob(Box::new(glob.compile_matcher()))).map_err(|e| wrong(e.to_string()))
    }

    fn is_of(&self, path: &str) -> bool {
        match self {
            Self::Path(wanted) => {
                let rest = path.strip_prefix(&wanted.to_string());
                rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
            }
            Self::Glob(glob) => glob.is_match(path),
        }
    }
}

/// Where a file is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Place {
    /// The volume.
    pub volume: String,
    /// Its path.
    pub path: String,
    /// Its path as bytes in hexadecimal, where it is shown escaped.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path_hex: Option<String>,
    /// Its length.
    pub size_bytes: ByteLength,
    /// The disks that it, its pieces or its copies lie on.
    pub disks: Vec<String>,
    /// How many disks may die without losing it.
    pub guard: u8,
    /// Why none may.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unguarded: Option<Unguarded>,
}

impl Place {
    fn of(file: &FileFate<'_>) -> Self {
        Self {
            volume: file.volume.to_string(),
            path: file.path.clone(),
            path_hex: file.path_hex.clone(),
            size_bytes: file.size_bytes,
            disks: file.disks.iter().map(ToString::to_string).collect(),
            guard: file.guard,
            unguarded: file.unguarded,
        }
    }
}

/// All files that match, in the order of the volumes.
///
/// # Errors
/// What a disk or the database says.
pub fn places(
    pool: &Pool,
    pattern: &Pattern,
    look: Look,
    observer: &dyn Observer,
) -> Result<(Vec<Place>, Option<i64>)> {
    let mut outlook = PoolOutlook::open(pool, look, observer)?;
    outlook.lose(&[], false)?;
    let mut found: Vec<Place> = Vec::new();
    outlook.for_each_file(&mut |file| {
        if pattern.is_of(&file.path) {
            found.push(Place::of(&file));
        }
        Ok(())
    })?;
    Ok((found, outlook.as_of()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("0007.wav", "dawn-chorus/0007.wav", true)]
    #[case("*.wav", "dawn-chorus/may/0007.wav", true)]
    #[case("dawn-chorus/*.wav", "dawn-chorus/may/0007.wav", false)]
    #[case("dawn-chorus/**/*.wav", "dawn-chorus/may/0007.wav", true)]
    #[case("dawn-chorus/may", "dawn-chorus/may/0007.wav", true)]
    #[case("dawn-chorus/ma", "dawn-chorus/may/0007.wav", false)]
    #[case("/dawn-chorus/may/0007.wav", "dawn-chorus/may/0007.wav", true)]
    fn paths_and_patterns(#[case] typed: &str, #[case] path: &str, #[case] is_of: bool) {
        assert_eq!(Pattern::parse(typed).unwrap().is_of(path), is_of);
    }

    #[test]
    fn what_is_no_pattern_is_refused() {
        assert!(Pattern::parse("[a").is_err());
        assert!(Pattern::parse("a/../b").is_err());
    }
}
