//! Which volumes there are, and what they are: known here and on the labels, whatever the pool file says.

use std::collections::BTreeMap;
use std::str::FromStr;

use rusqlite::{Connection, OptionalExtension};
use sieve_core::pool::{VolumeKind, parse};
use uuid::Uuid;

use crate::{corrupt, pool_file_text};
use sieve_disk::Result;

/// Tables with a column `volume`.
pub(super) const WITH_VOLUME: [&str; 4] = ["parity_cell", "checked", "heat", "apart"];

/// What `meta` keeps of a volume, under these words and its name.
const ID: &str = "volume-id:";
const KIND: &str = "volume-kind:";
const SETTLED: &str = "settled_at:";

fn value(c: &Connection, word: &str, name: &str) -> Result<Option<String>> {
    let key = format!("{word}{name}");
    Ok(c.query_row("SELECT value FROM meta WHERE key = ?1", [key], |row| row.get(0)).optional()?)
}

/// Notes who a volume is.
///
/// # Errors
/// What the database says.
pub fn identify(c: &Connection, name: &str, id: Uuid, kind: VolumeKind) -> Result<()> {
    for (word, value) in [(ID, id.to_string()), (KIND, kind.word().to_string())] {
        c.execute("INSERT OR REPLACE INTO meta VALUES (?1, ?2)", (format!("{word}{name}"), value))?;
    }
    Ok(())
}

/// Who a volume is; nothing where it was built before volumes had an id.
///
/// # Errors
/// What the database says; when it is no id.
pub fn id(c: &Connection, name: &str) -> Result<Option<Uuid>> {
    let parsed = |text: String| {
        Uuid::from_str(&text)
            .map_err(|_| corrupt(format!("the id of volume {name} in the catalogue is no uuid")))
    };
    value(c, ID, name)?.map(parsed).transpose()
}

/// The kinds of the volumes; of those that were built before kinds were noted, as the pool file had it at the last sync.
///
/// # Errors
/// What the database says.
pub fn kinds(c: &Connection) -> Result<BTreeMap<String, VolumeKind>> {
    let names = c
        .prepare_cached("SELECT name FROM volume")?
        .query_map([], |row| row.get(0))?
        .collect::<rusqlite::Result<Vec<String>>>()?;
    let (mut kinds, mut unknown) = (BTreeMap::new(), Vec::new());
    for name in names {
        let word = value(c, KIND, &name)?;
        match VolumeKind::ALL.into_iter().find(|kind| word.as_deref() == Some(kind.word())) {
            Some(kind) => drop(kinds.insert(name, kind)),
            None => unknown.push(name),
        }
    }
    if !unknown.is_empty() {
        let said = parse(&pool_file_text(c)?.unwrap_or_default()).spec.map(|spec| spec.volumes);
        let said = said.unwrap_or_default().into_iter().filter(|volume| unknown.contains(&volume.name));
        kinds.extend(said.map(|volume| (volume.name, volume.kind)));
    }
    Ok(kinds)
}

/// Gives a volume another name.
///
/// # Errors
/// When there is one of that name.
pub fn rename(c: &Connection, old: &str, new: &str) -> Result<()> {
    for table in WITH_VOLUME.into_iter().chain(["disk"]) {
        c.execute(&format!("UPDATE {table} SET volume = ?2 WHERE volume = ?1"), [old, new])?;
    }
    for word in [ID, KIND, SETTLED] {
        c.execute(
            "UPDATE meta SET key = ?2 WHERE key = ?1",
            [format!("{word}{old}"), format!("{word}{new}")],
        )?;
    }
    c.execute("UPDATE volume SET name = ?2 WHERE name = ?1", [old, new])?;
    Ok(())
}

/// Forgets who a volume was.
///
/// # Errors
/// What the database says.
pub(super) fn forget(c: &Connection, name: &str) -> Result<()> {
    for word in [ID, KIND, SETTLED] {
        c.execute("DELETE FROM meta WHERE key = ?1", [format!("{word}{name}")])?;
    }
    Ok(())
}
