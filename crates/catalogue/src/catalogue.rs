//! What the pool knows: a SQLite database beside the pool file, with a replica on every disk.

use crate::{meta, schema};
use std::cell::{OnceCell, RefCell};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rusqlite::backup::Backup;
use rusqlite::{Connection, OpenFlags, OptionalExtension, Transaction, TransactionBehavior};
use sieve_core::units::ByteLength;
use uuid::Uuid;

use sieve_disk::error::UNWRITABLE;
use sieve_disk::machine::Machine;
use sieve_disk::{Error, Kind, Result};

/// An open catalogue.
///
/// Who only reads changes nothing (L3): a catalogue that was opened for reading takes what a scan found into a private
/// copy, made when it is first needed and forgotten with it, so that the same code serves both. Only who holds a lock of
/// the pool opens it for writing.
pub struct Catalogue {
    database: Connection,
    path: PathBuf,
    machine: Arc<dyn Machine>,
    is_shared: bool,
    /// What a reader would have recorded, and nobody else sees.
    aside: OnceCell<Connection>,
    /// Where a reader leaves what it saw, in a moment in which nobody else is at work.
    leaving: RefCell<Option<Connection>>,
    /// Where the private files of a catalogue lie that cannot be read in its place; they go with it.
    _private: Option<tempfile::TempDir>,
}

/// Who the pool is, as the catalogue says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Identity {
    /// The pool.
    pub pool: Uuid,
    /// Its name.
    pub name: String,
}

impl Catalogue {
    /// Creates an empty catalogue for a new pool.
    ///
    /// # Errors
    /// When there is a file at `path`, or the database cannot be written.
    pub fn create(path: &Path, machine: Arc<dyn Machine>, identity: &Identity) -> Result<Self> {
        if path.exists() {
            let message = format!("{}: there is a catalogue already", path.display());
            return Err(Error::new(Kind::Conflict, "catalogue.exists", message));
        }
        create_closed(path)?;
        let mut catalogue = Self::with(Connection::open(path)?, path, machine, true);
        catalogue.configure()?;
        schema::migrate(&mut catalogue.database)?;
        catalogue.transaction(|t| {
            t.pragma_update(None, "application_id", schema::APPLICATION)?;
            t.execute(
                "INSERT INTO meta VALUES ('pool', ?1), ('name', ?2)",
                (identity.pool.to_string(), &identity.name),
            )?;
            Ok(())
        })?;
        Ok(catalogue)
    }

    fn with(database: Connection, path: &Path, machine: Arc<dyn Machine>, is_shared: bool) -> Self {
        Self {
            database,
            path: path.into(),
            machine,
            is_shared,
            aside: OnceCell::new(),
            leaving: RefCell::default(),
            _private: None,
        }
    }

    /// Opens a catalogue for writing: for who holds a lock of its pool, or has it alone.
    ///
    /// # Errors
    /// When it is damaged, is not a catalogue, or is of a newer format.
    pub fn open(path: &Path, machine: Arc<dyn Machine>) -> Result<Self> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let database = Connection::open_with_flags(path, flags).map_err(|error| {
            Error::new(Kind::Io, "catalogue.open", format!("{}: {error}", path.display()))
        })?;
        let mut catalogue = Self::with(database, path, machine, true);
        check_format(&catalogue.database, path)?;
        catalogue.configure()?;
        if catalogue.format()? < schema::FORMAT {
            schema::migrate(&mut catalogue.database)?;
        }
        Ok(catalogue)
    }

    /// Opens a catalogue for reading: nothing of it is changed, whatever is recorded.
    ///
    /// Where the process may not write beside it (another user, a filesystem that takes no writes), SQLite cannot keep
    /// its log there: then a private copy of both is read.
    ///
    /// # Errors
    /// As [`Self::open`], and when it may not be read.
    pub fn open_to_read(path: &Path, machine: Arc<dyn Machine>) -> Result<Self> {
        std::fs::File::open(path).map_err(|error| Error::io("catalogue.open", path, error))?;
        let catalogue = match open_reading(path).and_then(|database| {
            database.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0))?;
            Ok(database)
        }) {
            Ok(database) => Self::with(database, path, machine, false),
            Err(error) if is_unwritable(&error) => Self::copy_of(path, machine)?,
            Err(_) => Self::with(open_reading(path)?, path, machine, false),
        };
        check_format(&catalogue.database, path)?;
        catalogue.prepare_reading()?;
        if catalogue.format()? < schema::FORMAT {
            let mut aside = catalogue.copy_aside()?;
            schema::migrate(&mut aside)?;
            catalogue.aside.get_or_init(|| aside);
        }
        Ok(catalogue)
    }

    /// A catalogue that this process alone has, in a private folder that goes with it: it never becomes the pool's.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn open_private(folder: tempfile::TempDir, name: &str, machine: Arc<dyn Machine>) -> Result<Self> {
        let path = folder.path().join(name);
        let mut catalogue = Self::open(&path, machine)?;
        catalogue.is_shared = false;
        catalogue._private = Some(folder);
        Ok(catalogue)
    }

    /// A private copy of the catalogue and its log, both of one moment: while a writer is at work it is taken again.
    fn copy_of(path: &Path, machine: Arc<dyn Machine>) -> Result<Self> {
        const TRIES: usize = 20;
        let mut log = path.as_os_str().to_os_string();
        log.push("-wal");
        let log = PathBuf::from(log);
        for _ in 0..TRIES {
            let folder = private_folder()?;
            let before = (file_state(path)?, file_state(&log)?);
            copy_if_there(path, &folder.path().join("catalogue.sqlite"))?;
            copy_if_there(&log, &folder.path().join("catalogue.sqlite-wal"))?;
            if before == (file_state(path)?, file_state(&log)?) {
                return Self::open_private(folder, "catalogue.sqlite", machine);
            }
            std::thread::sleep(std::time::Duration::from_millis(50));
        }
        Err(Error::new(
            Kind::Conflict,
            "catalogue.open",
            format!(
                "{}: a writer is at work and this user cannot read beside it; try again when it is done",
                path.display()
            ),
        ))
    }

    /// Opens it for writing from now on; what was set aside is forgotten, since it may have been overtaken.
    ///
    /// # Errors
    /// As [`Self::open`].
    pub fn become_writing(&mut self) -> Result<()> {
        if !self.is_shared {
            *self = Self::open(&self.path, Arc::clone(&self.machine))?;
        }
        Ok(())
    }

    /// Whether what is recorded is the pool's from then on.
    pub const fn is_shared(&self) -> bool {
        self.is_shared
    }

    /// Whether this reader has recorded anything for itself: then no other connection knows what it knows.
    pub fn has_own_state(&self) -> bool {
        self.aside.get().is_some()
    }

    /// A number that moves when anybody else changes the catalogue; nothing where this is no reader of a shared one.
    pub fn seen(&self) -> Option<i64> {
        let is_reader = !self.is_shared && !self.has_own_state() && self._private.is_none();
        is_reader
            .then(|| self.database.pragma_query_value(None, "data_version", |row| row.get(0)).ok())
            .flatten()
    }

    /// From now on a reader's transactions are the pool's, until [`Self::stop_leaving`]: only while it holds both locks.
    /// False where it may not write.
    pub fn begin_leaving(&self) -> bool {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let Ok(leaving) = Connection::open_with_flags(&self.path, flags) else { return false };
        let may_write = leaving.busy_timeout(Duration::from_millis(200)).is_ok()
            && leaving.execute_batch("BEGIN IMMEDIATE; ROLLBACK").is_ok();
        if may_write {
            leaving.set_prepared_statement_cache_capacity(64);
            self.leaving.replace(Some(leaving));
        }
        may_write
    }

    /// From now on a reader keeps to itself again what it sees.
    pub fn stop_leaving(&self) {
        self.leaving.replace(None);
    }

    fn aside(&self) -> Result<&Connection> {
        if let Some(aside) = self.aside.get() {
            return Ok(aside);
        }
        let aside = self.copy_aside()?;
        Ok(self.aside.get_or_init(|| aside))
    }

    fn copy_aside(&self) -> Result<Connection> {
        // A database without a name: SQLite unlinks its file at once, and keeps it in memory while it is small.
        let mut aside = Connection::open("")?;
        Backup::new(&self.database, &mut aside)?.run_to_completion(4096, Duration::ZERO, None)?;
        aside.pragma_update(None, "synchronous", "OFF")?;
        aside.set_prepared_statement_cache_capacity(64);
        Ok(aside)
    }

    fn format(&self) -> Result<i64> {
        Ok(self.reading().pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0))?)
    }

    fn configure(&self) -> Result<()> {
        self.database.busy_timeout(Duration::from_secs(30))?;
        self.database.pragma_update(None, "journal_mode", "WAL")?;
        self.database.pragma_update(None, "synchronous", "FULL")?;
        // Pages that change again and again are copied into the database once for many commits: 32 MiB.
        self.database.pragma_update(None, "wal_autocheckpoint", 8192)?;
        self.prepare_reading()
    }

    fn prepare_reading(&self) -> Result<()> {
        self.database.pragma_update(None, "cache_size", -4096)?;
        self.database.pragma_update(None, "trusted_schema", "OFF")?;
        self.database.set_prepared_statement_cache_capacity(64);
        Ok(())
    }

    /// Checks every page: for a catalogue that comes from elsewhere.
    ///
    /// # Errors
    /// When the database is damaged.
    pub fn check_integrity(&self) -> Result<()> {
        let answer: String = self.database.query_row("PRAGMA integrity_check(1)", [], |row| row.get(0))?;
        if answer == "ok" {
            return Ok(());
        }
        let message = format!("{}: the catalogue is damaged: {answer}", self.path.display());
        Err(Error::new(Kind::Corrupt, "catalogue.damaged", message))
    }

    /// Writes all of it to a new file that only its owner can read.
    ///
    /// # Errors
    /// When there is a file at `path`, or what the database says.
    pub fn copy_to(&self, path: &Path) -> Result<()> {
        create_closed(path)?;
        self.reading().execute("VACUUM INTO ?1", [path.to_string_lossy()])?;
        Ok(())
    }

    /// Where it lies.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How large it is.
    ///
    /// # Errors
    /// What the database says.
    pub fn size(&self) -> Result<ByteLength> {
        let number = |name: &str| self.database.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
        Ok(ByteLength::new(unsigned(number("page_count")?).saturating_mul(unsigned(number("page_size")?))))
    }

    /// The connection, for reading.
    pub fn reading(&self) -> &Connection {
        self.aside.get().unwrap_or(&self.database)
    }

    /// Runs `work` in one transaction.
    ///
    /// # Crash safety
    /// All of it is durable on return, or none of it happened. Of a catalogue that was opened for reading nothing is:
    /// the work is done in a copy that only this reader sees.
    ///
    /// # Errors
    /// Those of `work`, and of the database.
    pub fn transaction<T>(&self, work: impl FnOnce(&Transaction<'_>) -> Result<T>) -> Result<T> {
        let leaving = self.leaving.borrow();
        let is_pools = self.is_shared || leaving.is_some();
        let database = match &*leaving {
            Some(leaving) => leaving,
            None if self.is_shared => &self.database,
            None => self.aside()?,
        };
        let transaction = Transaction::new_unchecked(database, TransactionBehavior::Immediate)?;
        let result = work(&transaction)?;
        meta::renew_revision(&transaction)?;
        if is_pools {
            self.machine.before_commit()?;
        }
        transaction.commit()?;
        Ok(result)
    }

    /// Runs `work` for what a reader leaves to the pool: what was read, and how disks looked. Where it may not write, or
    /// somebody else is writing for long, it does without.
    ///
    /// # Errors
    /// Those of `work`.
    pub fn note(&self, work: impl FnOnce(&Transaction<'_>) -> Result<()>) -> Result<()> {
        self.note_with(work, meta::renew_revision)
    }

    /// As [`Self::note`], for what nothing follows from that is told of files: what was worked out of the rest stays right.
    ///
    /// # Errors
    /// Those of `work`.
    pub fn note_beside(&self, work: impl FnOnce(&Transaction<'_>) -> Result<()>) -> Result<()> {
        self.note_with(work, |_| Ok(()))
    }

    fn note_with(
        &self,
        work: impl FnOnce(&Transaction<'_>) -> Result<()>,
        conclude: impl FnOnce(&Connection) -> Result<()>,
    ) -> Result<()> {
        if self.is_shared {
            return self.transaction(work);
        }
        if self._private.is_some() || self.format()? != schema::FORMAT {
            return Ok(());
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let noted =
            Connection::open_with_flags(&self.path, flags).map_err(Error::from).and_then(|database| {
                database.busy_timeout(Duration::from_millis(200))?;
                let transaction = Transaction::new_unchecked(&database, TransactionBehavior::Immediate)?;
                work(&transaction)?;
                conclude(&transaction)?;
                Ok(transaction.commit()?)
            });
        match noted {
            Err(error) if is_unwritable(&error) || error.kind == Kind::Conflict => Ok(()),
            other => other,
        }
    }

    /// When the last sync began, nanoseconds since 1970.
    ///
    /// # Errors
    /// What the database says.
    pub fn synced_at(&self) -> Result<Option<i64>> {
        let text: Option<String> = self
            .database
            .query_row("SELECT value FROM meta WHERE key = 'synced_at'", [], |row| row.get(0))
            .optional()?;
        Ok(text.and_then(|t| t.parse().ok()))
    }

    /// When the first sync was, nanoseconds since 1970.
    ///
    /// # Errors
    /// What the database says.
    pub fn first_synced_at(&self) -> Result<Option<i64>> {
        let sql = "SELECT MIN(at) FROM checkpoint";
        Ok(self.reading().query_row(sql, [], |row| row.get(0))?)
    }

    /// Who the pool is.
    ///
    /// # Errors
    /// When the catalogue does not say so.
    pub fn identity(&self) -> Result<Identity> {
        let read = |key: &str| {
            let found: Option<String> = self
                .database
                .query_row("SELECT value FROM meta WHERE key = ?1", [key], |row| row.get(0))
                .optional()?;
            found.ok_or_else(|| corrupt(format!("{}: the catalogue has no `{key}`", self.path.display())))
        };
        let pool =
            read("pool")?.parse().map_err(|_| corrupt("the pool's id in the catalogue is no uuid".into()))?;
        Ok(Identity { pool, name: read("name")? })
    }
}

/// What SQLite says where it may not write, or not keep its log beside the database.
fn is_unwritable(error: &Error) -> bool {
    error.code == UNWRITABLE
}

/// A folder that only this process's user sees (L5), removed with its value.
///
/// # Errors
/// What the operating system says.
pub(crate) fn private_folder() -> Result<tempfile::TempDir> {
    use std::os::unix::fs::PermissionsExt;
    tempfile::Builder::new()
        .prefix("zinc-sieve-")
        .permissions(std::fs::Permissions::from_mode(0o700)) // the package leaves folders to the umask
        .tempdir()
        .map_err(|error| Error::io("private.folder", &std::env::temp_dir(), error))
}

/// What tells that a file was written between two looks: its size and its time of change; none where it is not there.
fn file_state(path: &Path) -> Result<Option<(u64, std::time::SystemTime)>> {
    match std::fs::metadata(path).and_then(|found| Ok((found.len(), found.modified()?))) {
        Ok(state) => Ok(Some(state)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(Error::io("catalogue.open", path, error)),
    }
}

#[expect(clippy::disallowed_methods, reason = "the catalogue lies on no member")]
fn copy_if_there(from: &Path, to: &Path) -> Result<()> {
    match std::fs::copy(from, to) {
        Ok(_) => Ok(()),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(()),
        Err(error) => Err(Error::io("catalogue.open", from, error)),
    }
}

/// The catalogue knows every name on the disks: only its owner reads it (L5). SQLite gives its log the same mode.
pub(crate) fn create_closed(path: &Path) -> Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path)
        .map(drop)
        .map_err(|error| Error::io("catalogue.create", path, error))
}

/// Opens a further connection for reading, for use by another thread.
///
/// # Errors
/// What the database says.
pub fn open_reading(path: &Path) -> Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let reading = Connection::open_with_flags(path, flags)?;
    reading.busy_timeout(Duration::from_secs(30))?;
    Ok(reading)
}

/// A file of ours, of a format that this program knows.
///
/// # Errors
/// When it is not, or is damaged.
pub fn check_format(c: &Connection, path: &Path) -> Result<()> {
    let place = path.display();
    let number = |name: &str| c.pragma_query_value(None, name, |row| row.get::<_, i64>(0));
    let corrupt = |why: String| {
        Error::new(Kind::Corrupt, "catalogue.damaged", format!("{place}: {why}"))
            .remedy("move this file away: the next command takes the newest replica from the disks")
    };
    let application = number("application_id")
        .map_err(|error| corrupt(format!("the catalogue cannot be read: {error}")))?;
    if application != schema::APPLICATION {
        return Err(corrupt("this file is not a catalogue".into()));
    }
    let format = number("user_version")?;
    if format > schema::FORMAT {
        let message = format!(
            "{place}: the catalogue has format {format}, this program knows formats up to {}",
            schema::FORMAT
        );
        return Err(Error::new(Kind::Corrupt, "catalogue.newer", message).remedy("use a newer zinc-sieve"));
    }
    Ok(())
}

/// How many rows a table has: room for them is made once.
///
/// # Errors
/// What the database says.
pub fn rows_in(c: &Connection, table: &'static str) -> Result<usize> {
    let count: i64 = c.query_row(&format!("SELECT COUNT(*) FROM {table}"), [], |row| row.get(0))?;
    Ok(usize::try_from(count).unwrap_or(0))
}

/// The error for a catalogue that contradicts itself.
pub fn corrupt(message: String) -> Error {
    Error::new(Kind::Corrupt, "catalogue.damaged", message)
}

/// SQLite keeps signed numbers: what does not fit is a bug or a hostile catalogue, and is cut to the border.
pub(crate) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

/// A number of the database that is never negative; one that is all the same counts as nothing.
pub fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}

/// Brings all that is in the log into the file itself, so that the file alone is the whole catalogue.
///
/// # Errors
/// What the database says.
pub fn empty_log(c: &Connection) -> Result<()> {
    Ok(c.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::MetadataExt;

    use super::*;

    #[test]
    fn the_private_copy_of_a_catalogue_lies_where_nobody_else_may_look() {
        let folder = private_folder().unwrap();
        assert_eq!(std::fs::metadata(folder.path()).unwrap().mode() & 0o777, 0o700);
    }
}
