//! What the pool knows: a SQLite database beside the pool file, with a replica on every disk.

pub mod apart;
pub mod checks;
pub mod disks;
pub(crate) mod folders;
pub mod gone;
pub mod heat;
pub mod held_files;
pub mod intents;
pub mod looks;
pub mod nodes;
pub mod objects;
pub mod parity_state;
pub mod pieces;
pub mod proofs;
mod schema;
pub mod unfinished;
pub mod versions;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, OptionalExtension, Transaction, TransactionBehavior};
use sieve_core::units::ByteLength;
use uuid::Uuid;

use crate::error::{Error, Kind, Result};
use crate::machine::Machine;

/// An open catalogue.
pub struct Catalogue {
    database: Connection,
    path: PathBuf,
    machine: Arc<dyn Machine>,
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
        let catalogue = Self { database: Connection::open(path)?, path: path.into(), machine };
        catalogue.configure()?;
        catalogue.transaction(|t| {
            t.execute_batch(schema::TABLES)?;
            t.execute_batch(schema::SINCE_FORMAT_2)?;
            t.execute_batch(schema::SINCE_FORMAT_4)?;
            t.pragma_update(None, "application_id", schema::APPLICATION)?;
            t.pragma_update(None, "user_version", schema::FORMAT)?;
            t.execute(
                "INSERT INTO meta VALUES ('pool', ?1), ('name', ?2)",
                (identity.pool.to_string(), &identity.name),
            )?;
            Ok(())
        })?;
        Ok(catalogue)
    }

    /// Opens a catalogue.
    ///
    /// # Errors
    /// When it is damaged, is not a catalogue, or is of a newer format.
    pub fn open(path: &Path, machine: Arc<dyn Machine>) -> Result<Self> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let database = Connection::open_with_flags(path, flags).map_err(|error| {
            Error::new(Kind::Io, "catalogue.open", format!("{}: {error}", path.display()))
        })?;
        let catalogue = Self { database, path: path.into(), machine };
        check_format(&catalogue.database, path)?;
        catalogue.configure()?;
        catalogue.migrate()?;
        Ok(catalogue)
    }

    /// Brings a catalogue of an older format up to this one, in one transaction.
    fn migrate(&self) -> Result<()> {
        let format = |c: &Connection| c.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0));
        if format(&self.database)? >= schema::FORMAT {
            return Ok(());
        }
        self.transaction(|t| {
            // Another command may have done it in between.
            if format(t)? < 2 {
                t.execute_batch(schema::SINCE_FORMAT_2)?;
            }
            if format(t)? < 3 {
                t.execute_batch(schema::DISKS_OF_FORMAT_3)?;
            }
            if format(t)? < 4 {
                t.execute_batch(schema::SINCE_FORMAT_4)?;
                t.execute_batch(schema::INDICES_OF_FORMAT_4)?;
            }
            t.pragma_update(None, "user_version", schema::FORMAT)?;
            Ok(())
        })
    }

    fn configure(&self) -> Result<()> {
        self.database.busy_timeout(Duration::from_secs(30))?;
        self.database.pragma_update(None, "journal_mode", "WAL")?;
        self.database.pragma_update(None, "synchronous", "FULL")?;
        // Pages that change again and again are copied into the database once for many commits: 32 MiB.
        self.database.pragma_update(None, "wal_autocheckpoint", 8192)?;
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
        &self.database
    }

    /// Runs `work` in one transaction.
    ///
    /// # Crash safety
    /// All of it is durable on return, or none of it happened.
    ///
    /// # Errors
    /// Those of `work`, and of the database.
    pub fn transaction<T>(&self, work: impl FnOnce(&Transaction<'_>) -> Result<T>) -> Result<T> {
        let transaction = Transaction::new_unchecked(&self.database, TransactionBehavior::Immediate)?;
        let result = work(&transaction)?;
        self.machine.before_commit()?;
        transaction.commit()?;
        Ok(result)
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

/// Opens a further connection for reading, for use by another thread.
///
/// # Errors
/// What the database says.
pub(crate) fn open_reading(path: &Path) -> Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let reading = Connection::open_with_flags(path, flags)?;
    reading.busy_timeout(Duration::from_secs(30))?;
    Ok(reading)
}

/// The text of the pool file when the replicas were last brought up to date, if it was noted.
///
/// # Errors
/// What the database says.
pub(crate) fn pool_file_text(c: &Connection) -> Result<Option<String>> {
    Ok(c.query_row("SELECT value FROM meta WHERE key = 'pool_file'", [], |row| row.get(0)).optional()?)
}

/// Notes the text of the pool file, for a pool that is carried elsewhere.
///
/// # Errors
/// What the database says.
pub(crate) fn set_pool_file_text(c: &Connection, text: &str) -> Result<()> {
    c.execute("INSERT OR REPLACE INTO meta VALUES ('pool_file', ?1)", [text])?;
    Ok(())
}

/// Notes when the last sync began.
///
/// # Errors
/// What the database says.
pub(crate) fn set_synced_at(c: &Connection, at: i64) -> Result<()> {
    c.execute("INSERT OR REPLACE INTO meta VALUES ('synced_at', ?1)", [at.to_string()])?;
    Ok(())
}

/// Notes that the replicas have to follow at the next sync, whatever else it finds.
///
/// # Errors
/// What the database says.
pub(crate) fn mark_changed(c: &Connection) -> Result<()> {
    c.execute("INSERT OR REPLACE INTO meta VALUES ('changed', 'yes')", [])?;
    Ok(())
}

/// Whether anything changed since the last checkpoint.
///
/// # Errors
/// What the database says.
pub(crate) fn is_changed(c: &Connection) -> Result<bool> {
    Ok(c.query_row("SELECT EXISTS (SELECT 1 FROM meta WHERE key = 'changed')", [], |row| row.get(0))?)
}

/// Notes that the coming replicas know everything.
///
/// # Errors
/// What the database says.
pub(crate) fn clear_changed(c: &Connection) -> Result<()> {
    c.execute("DELETE FROM meta WHERE key = 'changed'", [])?;
    Ok(())
}

/// A file of ours, of a format that this program knows.
///
/// # Errors
/// When it is not, or is damaged.
pub(crate) fn check_format(c: &Connection, path: &Path) -> Result<()> {
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
pub(crate) fn rows_in(c: &Connection, table: &'static str) -> Result<usize> {
    let count: i64 = c.query_row(&format!("SELECT COUNT(*) FROM {table}"), [], |row| row.get(0))?;
    Ok(usize::try_from(count).unwrap_or(0))
}

pub(crate) fn corrupt(message: String) -> Error {
    Error::new(Kind::Corrupt, "catalogue.damaged", message)
}

/// SQLite keeps signed numbers: what does not fit is a bug or a hostile catalogue, and is cut to the border.
pub(crate) fn signed(number: u64) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

pub(crate) fn unsigned(number: i64) -> u64 {
    u64::try_from(number).unwrap_or(0)
}
