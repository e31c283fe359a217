//! The pages of a catalogue as of one moment, whatever is written to it meanwhile.

use std::path::{Path, PathBuf};

use rusqlite::Connection;
use rusqlite::backup::Backup;
use sieve_disk::{Error, Result};

use crate::catalogue::create_closed;
use crate::{corrupt, open_reading};

/// Where SQLite says, in the first page, that a database keeps its changes in a log: a copy without one is to be readable
/// where nothing may be written ("The Database File Format", 1.3: 1 is without a log, 2 with one).
const LOG: std::ops::Range<usize> = 18..20;

/// Shows pages: their numbers from 1 on, and their bytes.
pub(super) type Visit<'a> = dyn FnMut(u32, &[u8]) -> Result<()> + 'a;

/// The pages of a database. While this lives they stay as they were.
pub(super) struct Pages {
    database: Connection,
    /// A passing copy of the database, where the pages cannot be seen in their place.
    copy: Option<Passing>,
    pub(super) size: usize,
    pub(super) count: u32,
}

/// A file that is removed when it is dropped.
struct Passing(PathBuf);

impl Drop for Passing {
    fn drop(&mut self) {
        remove_if_there(&self.0);
    }
}

#[expect(clippy::disallowed_methods, reason = "a passing copy beside the catalogue, on no member")]
fn remove_if_there(path: &Path) {
    // What cannot be removed now is in the way the next time, and said then.
    let _ = std::fs::remove_file(path);
}

impl Pages {
    /// The pages of the catalogue there, as they are now.
    pub(super) fn of(path: &Path) -> Result<Self> {
        let database = hold(path)?;
        // The table is in our own build of SQLite; another one may do without.
        let is_shown = database.prepare("SELECT 1 FROM sqlite_dbpage").is_ok();
        if is_shown { Self::with(database, None) } else { Self::copied(path) }
    }

    /// As [`Self::of`], by way of a copy.
    pub(super) fn copied(path: &Path) -> Result<Self> {
        let passing = Passing(path.with_extension(format!("export-{}", std::process::id())));
        remove_if_there(&passing.0);
        create_closed(&passing.0)?;
        let mut copy = Connection::open(&passing.0)?;
        Backup::new(&hold(path)?, &mut copy)?.run_to_completion(4096, std::time::Duration::ZERO, None)?;
        drop(copy);
        Self::with(open_reading(&passing.0)?, Some(passing))
    }

    fn with(database: Connection, copy: Option<Passing>) -> Result<Self> {
        let number = |name: &str| {
            let found = database.pragma_query_value(None, name, |row| row.get::<_, i64>(0))?;
            u32::try_from(found).map_err(|_| corrupt(format!("the catalogue: a {name} of {found}")))
        };
        let (size, count) = (number("page_size")? as usize, number("page_count")?);
        Ok(Self { database, copy, size, count })
    }

    /// The database as it is in these pages.
    pub(super) const fn reading(&self) -> &Connection {
        &self.database
    }

    #[cfg(test)]
    pub(super) const fn is_in_its_place(&self) -> bool {
        self.copy.is_none()
    }

    /// Shows the pages that are `wanted`, in their order.
    pub(super) fn for_each(&self, wanted: impl Fn(u32) -> bool, visit: &mut Visit<'_>) -> Result<()> {
        let mut buffer = vec![0; self.size];
        let mut show = |number: u32, bytes: &[u8]| {
            if number > 1 {
                return visit(number, bytes);
            }
            buffer.copy_from_slice(bytes);
            buffer[LOG].fill(1);
            visit(number, &buffer)
        };
        match &self.copy {
            Some(Passing(path)) => self.for_each_of_file(path, wanted, &mut show),
            None => self.for_each_shown(wanted, &mut show),
        }
    }

    fn for_each_shown(&self, wanted: impl Fn(u32) -> bool, visit: &mut Visit<'_>) -> Result<()> {
        let mut statement = self.database.prepare_cached("SELECT data FROM sqlite_dbpage WHERE pgno = ?1")?;
        for number in (1..=self.count).filter(|number| wanted(*number)) {
            let mut rows = statement.query([number])?;
            let row = rows.next()?.ok_or_else(|| corrupt(format!("the catalogue has no page {number}")))?;
            visit(number, row.get_ref(0)?.as_blob().map_err(rusqlite::Error::from)?)?;
        }
        Ok(())
    }

    fn for_each_of_file(
        &self,
        path: &Path,
        wanted: impl Fn(u32) -> bool,
        visit: &mut Visit<'_>,
    ) -> Result<()> {
        use std::os::unix::fs::FileExt;
        let failed = |error| Error::io("replica.read", path, error);
        let file = std::fs::File::open(path).map_err(failed)?;
        let mut buffer = vec![0; self.size];
        for number in (1..=self.count).filter(|number| wanted(*number)) {
            let start = u64::from(number - 1) * self.size as u64;
            file.read_exact_at(&mut buffer, start).map_err(failed)?;
            visit(number, &buffer)?;
        }
        Ok(())
    }
}

/// A connection that sees the catalogue as it is now, until it is dropped.
fn hold(path: &Path) -> Result<Connection> {
    let database = open_reading(path)?;
    database.pragma_update(None, "trusted_schema", "OFF")?;
    // A page is asked for once: there is nothing to keep.
    database.pragma_update(None, "cache_size", 16)?;
    database.execute_batch("BEGIN")?;
    // The moment is that of the first look.
    database.query_row("SELECT COUNT(*) FROM sqlite_schema", [], |_| Ok(()))?;
    Ok(database)
}
