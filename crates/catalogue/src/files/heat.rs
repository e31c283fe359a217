//! How much files of tiered volumes are used.

use std::collections::HashMap;

use rusqlite::Connection;
use sieve_core::path::RelPath;
use sieve_core::tiers::cooled;

use sieve_disk::Result;

/// The use of one file.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Heat {
    /// What its uses summed up to, each counting half as much after each half-life.
    pub score: f64,
    /// When that was, nanoseconds since 1970.
    pub at: i64,
    /// The newest access time that was taken into account, nanoseconds since 1970.
    pub seen: i64,
}

const NANOSECONDS_A_DAY: f64 = 86_400e9;

impl Heat {
    /// A file that is new: coming counts as a use.
    pub const fn of_new(at: i64, seen: i64) -> Self {
        Self { score: 1.0, at, seen }
    }

    /// Its heat at a time, with this half-life in days.
    pub fn at(&self, now: i64, half_life: f64) -> f64 {
        cooled(self.score, now.saturating_sub(self.at) as f64 / NANOSECONDS_A_DAY, half_life)
    }

    /// After one more use.
    #[must_use]
    pub fn used(self, now: i64, half_life: f64) -> Self {
        let now = now.max(self.at);
        Self { score: self.at(now, half_life) + 1.0, at: now, seen: self.seen }
    }
}

/// The use of all files of a volume, by tree key.
///
/// # Errors
/// What the database says.
pub fn all(c: &Connection, volume: &str) -> Result<HashMap<Vec<u8>, Heat>> {
    let mut statement = c.prepare_cached("SELECT path, score, at, seen FROM heat WHERE volume = ?1")?;
    let rows = statement.query_map([volume], |row| {
        Ok((row.get(0)?, Heat { score: row.get(1)?, at: row.get(2)?, seen: row.get(3)? }))
    })?;
    Ok(rows.collect::<rusqlite::Result<_>>()?)
}

/// Notes the use of a file.
///
/// # Errors
/// What the database says.
pub fn set(c: &Connection, volume: &str, path: &[u8], heat: &Heat) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO heat VALUES (?1, ?2, ?3, ?4, ?5)")?
        .execute((volume, path, heat.score, heat.at, heat.seen))?;
    Ok(())
}

/// Forgets the use of files that are no more.
///
/// # Errors
/// What the database says.
pub fn forget(c: &Connection, volume: &str, path: &[u8]) -> Result<()> {
    c.prepare_cached("DELETE FROM heat WHERE volume = ?1 AND path = ?2")?.execute((volume, path))?;
    Ok(())
}

/// Notes that a file was read through us.
///
/// # Errors
/// What the database says.
pub fn note_use(c: &Connection, volume: &str, path: &RelPath, now: i64, half_life: f64) -> Result<()> {
    let key = path.tree_key();
    let known: Option<Heat> = rusqlite::OptionalExtension::optional(c.query_row(
        "SELECT score, at, seen FROM heat WHERE volume = ?1 AND path = ?2",
        (volume, &key),
        |row| Ok(Heat { score: row.get(0)?, at: row.get(1)?, seen: row.get(2)? }),
    ))?;
    let heat = known.unwrap_or(Heat { score: 0.0, at: now, seen: i64::MIN }).used(now, half_life);
    set(c, volume, &key, &heat)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn uses_add_up_and_fade() {
        let day = NANOSECONDS_A_DAY as i64;
        let heat = Heat::of_new(0, 0).used(30 * day, 30.0);
        assert_eq!(heat.at(30 * day, 30.0), 1.5);
        assert_eq!(heat.at(60 * day, 30.0), 0.75);
        assert_eq!(heat.used(0, 30.0).at, 30 * day, "a clock that goes back does no harm");
    }
}
