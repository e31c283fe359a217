//! When something arrives: the kernel tells of changes in the folders of the disks, and nothing has to be read for it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

use notify::{Event, EventKind, RecommendedWatcher, RecursiveMode, Watcher};
use sieve_actions::agenda::Arrived;
use sieve_core::agenda::When;
use sieve_core::layout::OurPlace;
use sieve_core::pool::{JobSpec, PoolSpec};
use sieve_disk::machine::Machine;
use sieve_disk::{Error, Kind, Result};

/// What arrived, by the disk.
type Seen = Arc<Mutex<BTreeMap<String, i64>>>;

/// Somebody who watches the data and cache disks of a pool.
pub(super) struct Arrivals {
    seen: Seen,
    machine: Arc<dyn Machine>,
    _watcher: RecommendedWatcher,
}

impl Arrivals {
    /// Watches from now on. What came before is found by the first sync.
    ///
    /// # Errors
    /// When the system does not tell: for want of watches, for instance.
    pub(super) fn watch(spec: &PoolSpec, machine: Arc<dyn Machine>) -> Result<Self> {
        let disks: Vec<(String, PathBuf)> = spec
            .volumes
            .iter()
            .flat_map(|volume| volume.data.iter().chain(&volume.cache.disks))
            .filter_map(|name| Some((name.clone(), PathBuf::from(spec.disk(name)?.path.as_ref()?))))
            .collect();
        let seen: Seen = Arc::default();
        let (noted, folders, clock) = (Arc::clone(&seen), disks.clone(), Arc::clone(&machine));
        let note = move |event: notify::Result<Event>| {
            let Ok(event) = event else { return };
            if !is_arrival(event.kind) {
                return;
            }
            for path in &event.paths {
                if let Some(name) = disk_of(&folders, path) {
                    lock(&noted).insert(name.clone(), clock.now());
                }
            }
        };
        let failed = |e: notify::Error| {
            Error::new(Kind::Io, "agenda.watch", format!("the system does not tell of changes: {e}")).remedy(
                "allow more watches (sysctl fs.inotify.max_user_watches), or sync at set times instead of after arrivals",
            )
        };
        let mut watcher = notify::recommended_watcher(note).map_err(failed)?;
        for (_, path) in &disks {
            // A disk that is not there is told elsewhere; nothing arrives on it.
            if path.is_dir() {
                watcher.watch(path, RecursiveMode::Recursive).map_err(failed)?;
            }
        }
        Ok(Self { seen, machine, _watcher: watcher })
    }

    /// What arrived so far and was not synced.
    pub(super) fn seen(&self) -> Arrived {
        let seen = lock(&self.seen);
        Arrived { at: seen.values().max().copied(), disks: seen.keys().cloned().collect(), is_watched: true }
    }

    /// Whether something arrived so long ago that a job that follows arrivals is due.
    pub(super) fn have_rested(&self, jobs: &[JobSpec]) -> bool {
        let rest = jobs.iter().filter_map(|job| match job.when {
            When::AfterArrival(seconds) => Some(i64::from(seconds) * 1_000_000_000),
            _ => None,
        });
        let (Some(rest), Some(last)) = (rest.min(), lock(&self.seen).values().max().copied()) else {
            return false;
        };
        last.saturating_add(rest) <= self.machine.now()
    }

    /// A job that follows arrivals has passed what had arrived when it began.
    pub(super) fn passed(&self, job: &JobSpec, arrived: &Arrived) {
        if matches!(job.when, When::AfterArrival(_)) {
            lock(&self.seen).retain(|_, at| arrived.at.is_none_or(|passed| *at > passed));
        }
    }
}

fn lock(seen: &Seen) -> MutexGuard<'_, BTreeMap<String, i64>> {
    seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// Reading is no arrival, nor is what only looks at a file.
const fn is_arrival(kind: EventKind) -> bool {
    matches!(kind, EventKind::Create(_) | EventKind::Modify(_) | EventKind::Remove(_))
}

/// The disk that a path lies on, if it is not in our own folder there.
fn disk_of<'a>(disks: &'a [(String, PathBuf)], path: &Path) -> Option<&'a String> {
    let ours = OurPlace::Folder.path().to_string();
    let within = disks.iter().filter_map(|(name, root)| Some((name, path.strip_prefix(root).ok()?)));
    within.filter(|(_, inside)| !inside.starts_with(&ours)).map(|(name, _)| name).next()
}
