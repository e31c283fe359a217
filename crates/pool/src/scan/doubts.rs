//! Files that may not be what the catalogue says: a time moved and perhaps nothing else. They are read, and settled.

use sieve_catalogue::contents::{self, Files};
use std::time::Duration;

use sieve_core::checksum::ContentSum;
use sieve_core::fate::Standing;
use sieve_core::lane::Rows;
use sieve_core::path::RelPath;
use sieve_core::units::VersionId;

use crate::member::Member;
use crate::pool::Pool;
use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{parity_state, versions};
use sieve_disk::Disk;
use sieve_disk::copying;
use sieve_disk::event::{Observer, heed};
use sieve_disk::{Error, Result};

/// Two changes within one tick of the filesystem's clock cannot be told apart by times.
const CLOCK_TICK: Duration = Duration::from_millis(20);

/// What reading one object showed.
pub enum Reading {
    /// It was read whole, and was the same before and after.
    Done(ContentSum, Vec<Rows>),
    /// It changed while it was read, or since the scan.
    Unsteady,
    /// It cannot be read.
    Failed(Error),
}

/// Reads the doubtful files of a disk again, and settles for each whether it is what it was.
///
/// # Errors
/// What the database says; a file that cannot be read stays doubtful.
pub fn resolve_doubts(pool: &Pool, member: &Member, observer: &dyn Observer) -> Result<()> {
    let disk = member.usable()?;
    for id in contents::files(pool.catalogue.reading(), member.row.id, Files::Doubtful)? {
        let reading = pool.catalogue.reading();
        let Some(object) = objects::get(reading, id)? else { continue };
        let Some(known) = object.version.filter(|_| object.standing != Standing::Changed) else { continue };
        let Some(path) = objects::names(reading, id)?.into_iter().next() else { continue };
        if let Reading::Done(sum, data) = read_object(pool, &**disk, &object, &path, observer)? {
            let version = versions::get(reading, known)?;
            if version.sum.whole == sum.whole
                && version.sum.size == sum.size
                && holes_allow(&version.data, &data)
            {
                pool.catalogue.transaction(|t| {
                    // It was read whole, and is well: what was damaged of it was mended.
                    parity_state::clear_damaged_content(t, known)?;
                    objects::set_version(t, id, Some(known), Standing::Same, object.older)
                })?;
            }
        }
    }
    Ok(())
}

/// Reads what is doubtful on a disk, or was found wrong before, and says of each content that is not what was checksummed
/// which of its cells are not. What is as it was is trusted again.
///
/// # Errors
/// What the database says; a file that cannot be read stays doubtful.
pub fn read_doubts(
    pool: &Pool,
    member: &Member,
    observer: &dyn Observer,
) -> Result<Vec<(VersionId, Vec<u64>)>> {
    resolve_doubts(pool, member, observer)?;
    let disk = member.usable()?;
    let reading = pool.catalogue.reading();
    let mut wrong = Vec::new();
    for id in contents::files(reading, member.row.id, Files::InDoubtWithChecksum)? {
        let Some(object) = objects::get(reading, id)? else { continue };
        let Some(known) = object.version else { continue };
        let Some(path) = objects::names(reading, id)?.into_iter().next() else { continue };
        let version = versions::get(reading, known)?;
        let Reading::Done(sum, _) = read_object(pool, &**disk, &object, &path, observer)? else { continue };
        if version.unfinished || sum.size != version.sum.size {
            continue;
        }
        let cells = version.sum.cells.iter().zip(&sum.cells).zip(0..);
        let cells: Vec<u64> = cells.filter(|((known, now), _)| known != now).map(|(_, cell)| cell).collect();
        if !cells.is_empty() {
            pool.catalogue
                .transaction(|t| objects::set_version(t, id, Some(known), Standing::Suspect, object.older))?;
            wrong.push((known, cells));
        }
    }
    Ok(wrong)
}

/// Reads an object whole, and makes sure that it was the same from the scan to the end of the reading.
///
/// # Errors
/// Only when the observer wants no more.
pub fn read_object(
    pool: &Pool,
    disk: &dyn Disk,
    object: &ObjectRow,
    path: &RelPath,
    observer: &dyn Observer,
) -> Result<Reading> {
    let read = || -> Result<Reading> {
        heed(observer)?;
        let mut file = disk.open(path)?;
        if !object.matches(&file.stat()?) {
            return Ok(Reading::Unsteady);
        }
        if pool.machine.now().saturating_sub(object.ctime) < CLOCK_TICK.as_nanos() as i64 {
            std::thread::sleep(CLOCK_TICK);
        }
        let data = file.data_ranges()?;
        let sum = copying::checksum(&mut *file, object.size, |_| heed(observer))?;
        let after = disk.stat(path)?;
        Ok(match sum {
            Some(sum) if after.is_some_and(|s| object.matches(&s)) => Reading::Done(sum, data),
            _ => Reading::Unsteady,
        })
    };
    match read() {
        Err(error) if error.is_stop() => Err(error),
        reading => Ok(reading.unwrap_or_else(Reading::Failed)),
    }
}

/// The same bytes with other holes: what is data now must have been data then, or it is in no lane.
pub fn holes_allow(then: &[Rows], now: &[Rows]) -> bool {
    now.iter().all(|n| then.iter().any(|t| t.start() <= n.start() && n.end() <= t.end()))
}
