//! What disks reported about themselves at earlier looks, by serial number.

use rusqlite::{Connection, OptionalExtension};
use sieve_core::health::Look;

use crate::{signed, unsigned};
use sieve_disk::Result;

/// The newest look at a disk that is older than `before`, nanoseconds since 1970.
///
/// # Errors
/// What the database says.
pub fn newest(c: &Connection, serial: &str, before: i64) -> Result<Option<Look>> {
    one(c, "at < ?2 ORDER BY at DESC", serial, before)
}

/// What a disk counted at a moment, nanoseconds since 1970: at the newest look before it, or at the first one after it.
///
/// # Errors
/// What the database says.
pub fn as_of(c: &Connection, serial: &str, moment: i64) -> Result<Option<Look>> {
    match newest(c, serial, moment)? {
        None => one(c, "at >= ?2 ORDER BY at", serial, moment),
        found => Ok(found),
    }
}

fn one(c: &Connection, which: &str, serial: &str, moment: i64) -> Result<Option<Look>> {
    let look = c
        .prepare_cached(&format!(
            "SELECT at, reallocated, pending, uncorrectable, reported, timeouts, spin_retries, link_errors
             FROM look WHERE serial = ?1 AND {which} LIMIT 1"
        ))?
        .query_row((serial, moment), |row| {
            let count = |name: &str| row.get::<_, Option<i64>>(name).map(|n| n.map(unsigned));
            Ok(Look {
                at: row.get("at")?,
                reallocated: count("reallocated")?,
                pending: count("pending")?,
                uncorrectable: count("uncorrectable")?,
                reported: count("reported")?,
                timeouts: count("timeouts")?,
                spin_retries: count("spin_retries")?,
                link_errors: count("link_errors")?,
            })
        })
        .optional()?;
    Ok(look)
}

/// Keeps a look, unless it shows nothing but what the newest one does.
///
/// # Errors
/// What the database says.
pub fn keep(c: &Connection, serial: &str, look: &Look) -> Result<()> {
    if let Some(last) = newest(c, serial, look.at)?
        && (Look { at: look.at, ..last }) == *look
    {
        return Ok(());
    }
    let number = |count: Option<u64>| count.map(signed);
    c.prepare_cached(
        "INSERT OR REPLACE INTO look (serial, at, reallocated, pending, uncorrectable, reported, timeouts,
             spin_retries, link_errors) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
    )?
    .execute((
        serial,
        look.at,
        number(look.reallocated),
        number(look.pending),
        number(look.uncorrectable),
        number(look.reported),
        number(look.timeouts),
        number(look.spin_retries),
        number(look.link_errors),
    ))?;
    Ok(())
}
