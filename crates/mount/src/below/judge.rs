//! How well files are guarded, and what becomes of them as things stand: worked out for the whole volume at once, with a pool
//! that is opened anew where anything changed, so that disks count as they are now. Nothing is ever written here.

use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use sieve_catalogue::objects;
use sieve_core::fate::{Fate, Guard, Unguarded};
use sieve_core::path::RelPath;
use sieve_core::pool::PoolSpec;
use sieve_core::units::DiskId;
use sieve_disk::Result;
use sieve_disk::machine::Machine;
use sieve_pool::fate::{Evaluation, VolumeModel, load};
use sieve_pool::pool::Pool;

use crate::guarded;

/// A disk that dies changes no catalogue: so often it is looked whether all are there.
const BELIEVED: Duration = Duration::from_secs(10);

/// Judges the files of a volume.
pub(crate) struct Judge {
    machine: Arc<dyn Machine>,
    file: PathBuf,
    spec: PoolSpec,
    volume: String,
    known: Mutex<Option<Judged>>,
}

/// The files of a volume as they were when the catalogue was seen like this.
struct Judged {
    pool: Pool,
    seen: Option<i64>,
    at: Instant,
    model: VolumeModel,
    evaluation: Evaluation,
}

/// How a file looks now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Looks {
    pub(crate) size: u64,
    /// Its modification time, in nanoseconds since 1970.
    pub(crate) modified: i64,
}

impl Judge {
    pub(crate) fn of(pool: &Pool, volume: &str) -> Self {
        Self {
            machine: Arc::clone(&pool.machine),
            file: pool.file.clone(),
            spec: pool.spec.clone(),
            volume: volume.into(),
            known: Mutex::default(),
        }
    }

    /// What becomes of the file that a disk has at a path, and its guard. `looks` is how it is now, where that can be seen:
    /// what changed since the catalogue knew it is not what parity has.
    pub(crate) fn judge(&self, disk: DiskId, path: &RelPath, looks: Option<Looks>) -> Result<(Fate, Guard)> {
        let mut known = guarded(&self.known);
        let is_fresh = |judged: &Judged| {
            judged.seen.is_some()
                && judged.pool.catalogue.seen() == judged.seen
                && judged.at.elapsed() < BELIEVED
        };
        if !known.as_ref().is_some_and(is_fresh) {
            *known = Some(self.look()?);
        }
        let unguarded = |reason| (Fate::Untouched, Guard { level: 0, reason: Some(reason) });
        let Some(judged) = known.as_ref() else { return Ok(unguarded(Unguarded::New)) };
        let Some(object) = objects::by_path(judged.pool.catalogue.reading(), disk, path)? else {
            return Ok(unguarded(Unguarded::New));
        };
        if looks.is_some_and(|now| now != Looks { size: object.size.exact(), modified: object.mtime }) {
            return Ok(unguarded(Unguarded::Changed));
        }
        let found = judged.model.of_object(&judged.evaluation, object.id);
        Ok(found.unwrap_or_else(|| unguarded(Unguarded::New)))
    }

    fn look(&self) -> Result<Judged> {
        let pool = sieve_pool::open(Arc::clone(&self.machine), &self.file, self.spec.clone())?;
        // Seen before it is read: what changes meanwhile is seen by the next one who asks.
        let (seen, at) = (pool.catalogue.seen(), Instant::now());
        let model = load(&pool, &self.volume)?;
        let evaluation = model.evaluate(&[]);
        Ok(Judged { pool, seen, at, model, evaluation })
    }
}
