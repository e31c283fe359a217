//! Single facts about the whole pool.

use rusqlite::{Connection, OptionalExtension};
use sieve_disk::Result;

/// The text of the pool file when the replicas were last brought up to date, if it was noted.
///
/// # Errors
/// What the database says.
pub fn pool_file_text(c: &Connection) -> Result<Option<String>> {
    Ok(c.query_row("SELECT value FROM meta WHERE key = 'pool_file'", [], |row| row.get(0)).optional()?)
}

/// Gives the pool another name.
///
/// # Errors
/// What the database says.
pub fn set_name(c: &Connection, name: &str) -> Result<()> {
    c.execute("UPDATE meta SET value = ?1 WHERE key = 'name'", [name])?;
    Ok(())
}

/// Notes the text of the pool file, for a pool that is carried elsewhere.
///
/// # Errors
/// What the database says.
pub fn set_pool_file_text(c: &Connection, text: &str) -> Result<()> {
    c.execute("INSERT OR REPLACE INTO meta VALUES ('pool_file', ?1)", [text])?;
    Ok(())
}

/// Notes when the last sync began.
///
/// # Errors
/// What the database says.
pub fn set_synced_at(c: &Connection, at: i64) -> Result<()> {
    c.execute("INSERT OR REPLACE INTO meta VALUES ('synced_at', ?1)", [at.to_string()])?;
    Ok(())
}

/// Notes that the replicas have to follow at the next sync, whatever else it finds.
///
/// # Errors
/// What the database says.
pub fn mark_changed(c: &Connection) -> Result<()> {
    c.execute("INSERT OR REPLACE INTO meta VALUES ('changed', 'yes')", [])?;
    Ok(())
}

/// Whether anything changed since the last checkpoint.
///
/// # Errors
/// What the database says.
pub fn is_changed(c: &Connection) -> Result<bool> {
    Ok(c.query_row("SELECT EXISTS (SELECT 1 FROM meta WHERE key = 'changed')", [], |row| row.get(0))?)
}

/// Notes that the coming replicas know everything.
///
/// # Errors
/// What the database says.
pub fn clear_changed(c: &Connection) -> Result<()> {
    c.execute("DELETE FROM meta WHERE key = 'changed'", [])?;
    Ok(())
}

/// When a volume settled last, nanoseconds since 1970.
///
/// # Errors
/// What the database says.
pub fn settled_at(c: &Connection, volume: &str) -> Result<Option<i64>> {
    let key = format!("settled_at:{volume}");
    let text: Option<String> =
        c.query_row("SELECT value FROM meta WHERE key = ?1", [key], |row| row.get(0)).optional()?;
    Ok(text.and_then(|text| text.parse().ok()))
}

/// Notes when a volume settled.
///
/// # Errors
/// What the database says.
pub fn set_settled_at(c: &Connection, volume: &str, at: i64) -> Result<()> {
    let key = format!("settled_at:{volume}");
    c.execute("INSERT OR REPLACE INTO meta VALUES (?1, ?2)", (key, at.to_string()))?;
    Ok(())
}

/// What is another after every change of the catalogue, whoever makes it: by chance and not a count, so that a catalogue that
/// goes on from an older replica never comes to one that was there before.
///
/// # Errors
/// What the database says.
pub fn revision(c: &Connection) -> Result<Option<String>> {
    let sql = "SELECT value FROM meta WHERE key = 'revision'";
    Ok(c.query_row(sql, [], |row| row.get(0)).optional()?)
}

pub(super) fn renew_revision(c: &Connection) -> Result<()> {
    c.prepare_cached("INSERT OR REPLACE INTO meta VALUES ('revision', hex(randomblob(16)))")?.execute([])?;
    Ok(())
}
