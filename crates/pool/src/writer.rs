//! Who may write: one long writer a pool, with a lock on every member; short writers take turns at home.

use std::time::{Duration, Instant};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;

use sieve_disk::durable;
use sieve_disk::{Disk, LockGuard, WriteFile, read_small};
use sieve_disk::{Error, Kind, Result};

/// How long a short writer waits for another one.
const PATIENCE: Duration = Duration::from_secs(60);

/// A reader that leaves what it saw, and a short writer that finishes what a killed one began, hold the long lock for a
/// moment: a long writer does not give up on them.
const GLANCE: Duration = Duration::from_secs(2);

/// The locks of the one long writer; let go when dropped.
pub struct LongWriter {
    _locks: Vec<Box<dyn LockGuard>>,
}

/// The lock of a short writer; let go when dropped.
pub struct ShortWriter {
    _lock: Box<dyn LockGuard>,
}

impl LongWriter {
    /// Locks the pool's home.
    ///
    /// # Errors
    /// When somebody else holds the lock: the message says who.
    pub fn begin(home: &dyn Disk, what: &str) -> Result<Self> {
        Ok(Self { _locks: vec![lock(home, what)?] })
    }

    /// Locks these members as well: they may be members of a copied pool file somewhere else.
    ///
    /// # Errors
    /// As [`Self::begin`].
    pub fn lock_members<'a>(&mut self, disks: impl Iterator<Item = &'a dyn Disk>, what: &str) -> Result<()> {
        for disk in disks {
            self._locks.push(lock(disk, what)?);
        }
        Ok(())
    }

    /// The lock of the home, if nobody is at a long work.
    ///
    /// # Errors
    /// What the disk says.
    pub fn try_home(home: &dyn Disk) -> Result<Option<Self>> {
        Ok(home.lock(&lock_path())?.map(|lock| Self { _locks: vec![lock] }))
    }
}

/// A long work that is under way.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct AtWork {
    /// What, and which process is at it.
    pub what: String,
    /// Since when, nanoseconds since 1970.
    #[serde(with = "sieve_core::moment")]
    #[schemars(with = "sieve_core::moment::Text")]
    pub since: i64,
    /// How far it was when it last said so; none while it has not.
    pub progress: Option<HowFar>,
}

/// How far a long work has come.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct HowFar {
    /// The share of the present stage that is done, from 0 to 1.
    pub share: f64,
    /// Seconds that remain of it, and of the volumes after it.
    pub remaining_seconds: f64,
}

/// Writes down how far a long work has come, for whoever asks meanwhile.
///
/// A help and no more: it is not made durable, and the work goes on where it cannot be written.
pub(crate) fn say_how_far(home: &dyn Disk, progress: HowFar) {
    let Ok(text) = serde_json::to_vec(&progress) else { return };
    let write = |mut file: Box<dyn WriteFile>| {
        file.write_at(&text, 0)?;
        file.set_length(text.len() as u64)
    };
    // An error here says nothing about the work; the disk will say it again where it matters.
    let _ = home.modify(&progress_path()).and_then(write);
}

/// The long work that is under way at this home; nothing where nobody is at one, or this user may not ask for the lock.
///
/// A reader has the lock for a moment as well, and what is written down beside it may be of somebody who was killed: only a
/// process that lives is told.
pub fn at_work(home: &dyn Disk) -> Option<AtWork> {
    home.stat(&lock_path()).ok()??;
    let work = matches!(home.lock(&lock_path()), Ok(None)).then(|| holder(home))??;
    let (_, process) = work.what.rsplit_once(PROCESS)?;
    std::path::Path::new("/proc").join(process).exists().then_some(work)
}

/// Between what somebody does and the number of the process that is at it.
const PROCESS: &str = ", process ";

/// Who wrote down that it has the lock.
fn holder(disk: &dyn Disk) -> Option<AtWork> {
    let since = disk.stat(&note_path()).ok()??.mtime;
    let text = read_small(disk, &note_path(), 4096).ok()?;
    let what = String::from_utf8_lossy(&text).escape_debug().to_string();
    Some(AtWork { what, since, progress: how_far(disk, since) })
}

/// What was said since then; what is older is of another work, and what makes no sense is none.
fn how_far(disk: &dyn Disk, since: i64) -> Option<HowFar> {
    disk.stat(&progress_path()).ok()?.filter(|stat| stat.mtime >= since)?;
    let said: HowFar = serde_json::from_slice(&read_small(disk, &progress_path(), 4096).ok()?).ok()?;
    let makes_sense = (0.0..=1.0).contains(&said.share) && (0.0..1e9).contains(&said.remaining_seconds);
    makes_sense.then_some(said)
}

fn progress_path() -> RelPath {
    OurPlace::LockProgress.path()
}

fn lock_path() -> RelPath {
    OurPlace::Lock.path()
}

fn note_path() -> RelPath {
    OurPlace::LockHolder.path()
}

fn lock(disk: &dyn Disk, what: &str) -> Result<Box<dyn LockGuard>> {
    durable::make_own_folder(disk, &OurPlace::Folder.path())?;
    if let Some(guard) = patiently(GLANCE, || disk.lock(&lock_path()))? {
        let text = format!("{what}{PROCESS}{}", std::process::id());
        match durable::write_file(disk, &note_path(), text.as_bytes()) {
            // The lock holds on a full disk too; who has it is a help, and no more.
            Err(error) if error.io_kind() == Some(std::io::ErrorKind::StorageFull) => {}
            other => other?,
        }
        return Ok(guard);
    }
    let holder = holder(disk).map_or_else(
        || "somebody does not say who".into(),
        |AtWork { what, since, progress }| {
            let far =
                progress.map_or_else(String::new, |far| format!(", {:.0} % of it done", far.share * 100.0));
            format!("{what}, since {}{far}", clock(since))
        },
    );
    let message = format!("{} is in use: {holder}", disk.root().display());
    Err(Error::new(Kind::Safety, "pool.busy", message)
        .remedy("wait until it has finished, then run this again"))
}

/// The date and time of day, in the zone of this machine.
fn clock(at: i64) -> String {
    let stamp = jiff::Timestamp::from_nanosecond(i128::from(at)).unwrap_or_default();
    stamp.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M %Z").to_string()
}

/// Tries again and again for so long.
fn patiently<T>(patience: Duration, mut try_it: impl FnMut() -> Result<Option<T>>) -> Result<Option<T>> {
    let start = Instant::now();
    loop {
        let taken = try_it()?;
        if taken.is_some() || start.elapsed() > patience {
            return Ok(taken);
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

impl ShortWriter {
    /// Waits for its turn.
    ///
    /// # Errors
    /// When another one does not finish within a minute.
    pub fn begin(home: &dyn Disk) -> Result<Self> {
        patiently(PATIENCE, || Self::try_begin(home))?.ok_or_else(|| {
            let message =
                format!("another command has been writing to {} for a minute", home.root().display());
            Error::new(Kind::Safety, "pool.busy", message)
                .remedy("wait until it has finished, then run this again")
        })
    }

    /// Takes the turn if it is free.
    ///
    /// # Errors
    /// What the disk says.
    pub fn try_begin(home: &dyn Disk) -> Result<Option<Self>> {
        durable::make_own_folder(home, &OurPlace::Folder.path())?;
        Ok(home.lock(&OurPlace::Turn.path())?.map(|lock| Self { _lock: lock }))
    }
}
