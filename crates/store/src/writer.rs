//! Who may write: one long writer a pool, with a lock on every member; short writers take turns at home.

use std::time::{Duration, Instant};

use sieve_core::path::RelPath;

use crate::disk::{Disk, LockGuard, read_small};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::label::our_folder;
use crate::member::Member;

/// How long a short writer waits for another one.
const PATIENCE: Duration = Duration::from_secs(60);

/// The locks of the one long writer; let go when dropped.
pub struct LongWriter {
    _locks: Vec<Box<dyn LockGuard>>,
}

/// The lock of a short writer; let go when dropped.
pub struct ShortWriter {
    _lock: Box<dyn LockGuard>,
}

impl LongWriter {
    /// Locks the pool's home and every usable member.
    ///
    /// # Errors
    /// When somebody else holds one of the locks: the message says who.
    pub fn begin<'a>(home: &dyn Disk, members: impl Iterator<Item = &'a Member>, what: &str) -> Result<Self> {
        let mut locks = vec![lock(home, what)?];
        for disk in members.filter_map(|m| m.disk.as_ref()) {
            locks.push(lock(&**disk, what)?);
        }
        Ok(Self { _locks: locks })
    }
}

fn lock(disk: &dyn Disk, what: &str) -> Result<Box<dyn LockGuard>> {
    let path = RelPath::fixed(".zinc-sieve/lock");
    let note = RelPath::fixed(".zinc-sieve/lock.holder");
    durable::make_folders(disk, &our_folder())?;
    if let Some(guard) = disk.lock(&path)? {
        let text = format!("{what}, process {}", std::process::id());
        match durable::write_file(disk, &note, text.as_bytes()) {
            // The lock holds on a full disk too; who has it is a help, and no more.
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::StorageFull) => {}
            other => other?,
        }
        return Ok(guard);
    }
    let holder = read_small(disk, &note, 4096).unwrap_or_default();
    let message =
        format!("{} is in use: {}", disk.root().display(), String::from_utf8_lossy(&holder).escape_debug());
    Err(Error::new(Kind::Safety, "pool.busy", message)
        .remedy("wait until it has finished, then run this again"))
}

impl ShortWriter {
    /// Waits for its turn.
    ///
    /// # Errors
    /// When another one does not finish within a minute.
    pub fn begin(home: &dyn Disk) -> Result<Self> {
        let start = Instant::now();
        loop {
            if let Some(writer) = Self::try_begin(home)? {
                return Ok(writer);
            }
            if start.elapsed() > PATIENCE {
                let message =
                    format!("another command has been writing to {} for a minute", home.root().display());
                return Err(Error::new(Kind::Safety, "pool.busy", message)
                    .remedy("wait until it has finished, then run this again"));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Takes the turn if it is free.
    ///
    /// # Errors
    /// What the disk says.
    pub fn try_begin(home: &dyn Disk) -> Result<Option<Self>> {
        durable::make_folders(home, &our_folder())?;
        Ok(home.lock(&RelPath::fixed(".zinc-sieve/turn"))?.map(|lock| Self { _lock: lock }))
    }
}
