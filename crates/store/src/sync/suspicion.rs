//! A sync throws the only way back away: what looks like an accident stops it.

use crate::error::{Error, Kind, Result};
use crate::label::Role;
use crate::pool::Pool;

use super::Options;

/// Fewer files than this are never an accident by their share alone.
const FEWEST: u64 = 10;

/// Compares with the last sync: contents of the snapshot whose file is gone or empty, and not held.
pub(super) fn refuse_suspicious(pool: &Pool, options: &Options) -> Result<()> {
    for member in pool.members.iter().filter(|m| m.row.role == Role::Data) {
        let name = &member.row.name;
        if options.accept.contains(name) {
            continue;
        }
        let limit = pool.spec.volumes.iter().find(|v| v.name == member.row.volume).map(|v| v.stop_when_gone);
        let (total, alive): (i64, i64) = pool.catalogue.reading().query_row(
            "SELECT COUNT(DISTINCT l.version), COUNT(DISTINCT o.v) FROM lane l
             LEFT JOIN (SELECT version AS v FROM object WHERE disk = ?1 AND version IS NOT NULL AND size > 0
                  UNION SELECT older FROM object WHERE disk = ?1 AND older IS NOT NULL AND size > 0) o
             ON o.v = l.version WHERE l.disk = ?1",
            [member.row.id.get()],
            |row| Ok((row.get(0)?, row.get(1)?)),
        )?;
        let (total, gone) = (total.unsigned_abs(), (total - alive).unsigned_abs());
        let emptied = total > 0 && gone == total;
        let too_many = gone >= FEWEST && limit.is_some_and(|share| share.exceeded_by(gone, total));
        if !emptied && !too_many {
            continue;
        }
        let what = if emptied { "every file".to_string() } else { format!("{gone} of {total} files") };
        let message = format!(
            "{what} that the last sync knew on disk {name} is gone or has length zero; a sync now would give up the only way to get them back"
        );
        return Err(Error::new(Kind::Safety, "sync.suspicious", message).remedy(format!(
            "if that was an accident, do not sync: zinc-sieve restore --list shows what can be had back, zinc-sieve restore PATH brings it back; if it is right: zinc-sieve sync --accept {name}"
        )));
    }
    Ok(())
}
