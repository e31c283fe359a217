//! Where a new file goes. How large it becomes nobody says; so the disk is chosen as if it became large.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant};

use rustix::io::Errno;
use sieve_catalogue::label::Role;
use sieve_core::landing::{Ground, Lander, Spot};
use sieve_core::path::RelPath;
use sieve_core::placement::Placement;
use sieve_core::pool::VolumeSpec;
use sieve_core::units::ByteLength;

use crate::below::branch::Branch;
use crate::below::knowledge::Knowledge;
use crate::guarded;

/// So long what is free on the disks counts as known.
const ROOM_HOLDS: Duration = Duration::from_secs(1);
/// A new file goes where there is room for so much; where there is nowhere, for less.
const EXPECTED: [u64; 4] = [1 << 30, 64 << 20, 1 << 20, 0];

/// The places of a volume.
pub(crate) struct Places {
    spec: VolumeSpec,
    known: Mutex<Option<Known>>,
    /// For each branch what programs have written through the mount, and the last look at its files did not know.
    grown: Vec<Grown>,
    /// The branch that took the last file of a folder.
    homes: Mutex<HashMap<RelPath, usize>>,
}

#[derive(Default)]
struct Grown {
    bytes: AtomicI64,
    /// When that look was.
    since: AtomicI64,
}

struct Known {
    since: Instant,
    /// The branches that take files, in the order of their grounds.
    branches: Vec<usize>,
    lander: Lander,
}

impl Places {
    pub(crate) fn new(spec: VolumeSpec, branches: usize) -> Self {
        let grown = (0..branches).map(|_| Grown::default()).collect();
        Self { spec, known: Mutex::default(), grown, homes: Mutex::default() }
    }

    /// The branches for a new file: several are copies of each other.
    pub(crate) fn for_file(
        &self,
        branches: &[Branch],
        knowledge: &Knowledge,
        path: &RelPath,
    ) -> Result<Vec<usize>, Errno> {
        let mut known = guarded(&self.known);
        if known.as_ref().is_none_or(|known| known.since.elapsed() > ROOM_HOLDS) {
            *known = Some(self.look(branches, knowledge)?);
        }
        let known = known.as_mut().expect("it was just looked at");
        for size in EXPECTED {
            // Each time anew: the room is not taken before something is written.
            let mut lander = known.lander.clone();
            if let Some(Spot::Whole(places)) = lander.land_whole(path, ByteLength::new(size)) {
                let places: Vec<usize> = places.into_iter().map(|place| known.branches[place]).collect();
                if self.spec.placement == Placement::KeepTogether
                    && let (Some(folder), Some(home)) = (path.parent(), places.first())
                {
                    guarded(&self.homes).insert(folder, *home);
                }
                return Ok(places);
            }
        }
        Err(Errno::NOSPC)
    }

    /// The branch for a new folder.
    pub(crate) fn for_folder(
        &self,
        branches: &[Branch],
        knowledge: &Knowledge,
        path: &RelPath,
    ) -> Result<usize, Errno> {
        let known = self.look(branches, knowledge)?;
        let place = known.lander.for_folder(path).and_then(|ground| known.branches.get(ground).copied());
        place.or_else(|| known.branches.first().copied()).ok_or(Errno::NOSPC)
    }

    fn look(&self, branches: &[Branch], knowledge: &Knowledge) -> Result<Known, Errno> {
        let (mut grounds, mut taking) = (Vec::new(), Vec::new());
        for (position, branch) in branches.iter().enumerate().filter(|(_, branch)| branch.lives()) {
            let Ok(total) = branch.room().map(|room| room.f_blocks * room.f_frsize) else { continue };
            grounds.push(Ground {
                name: branch.name.clone(),
                is_cache: branch.role == Role::Cache,
                total: branch.capacity.unwrap_or(ByteLength::new(total)).min(ByteLength::new(total)),
                free: ByteLength::new(self.free(branches, knowledge, position)),
            });
            taking.push(position);
        }
        let mut lander = Lander::new(&self.spec, &grounds, ByteLength::ZERO);
        for (folder, home) in &*guarded(&self.homes) {
            if let Some(ground) = taking.iter().position(|branch| branch == home) {
                lander.placer().settle_home(folder, ground);
            }
        }
        Ok(Known { since: Instant::now(), branches: taking, lander })
    }

    /// What may still be written to a branch, in bytes.
    pub(crate) fn free(&self, branches: &[Branch], knowledge: &Knowledge, position: usize) -> u64 {
        let branch = &branches[position];
        let available = branch.room().map_or(0, |room| room.f_bavail.saturating_mul(room.f_frsize));
        let Some(capacity) = branch.capacity else { return available };
        let Ok((used, looked_at)) = knowledge.used(branch.id) else { return 0 };
        let grown = &self.grown[position];
        if grown.since.swap(looked_at, Ordering::Relaxed) != looked_at {
            grown.bytes.store(0, Ordering::Relaxed);
        }
        let used = used.exact().saturating_add_signed(grown.bytes.load(Ordering::Relaxed));
        available.min(capacity.exact().saturating_sub(used))
    }

    /// A file of a branch became larger or smaller by so much.
    pub(crate) fn grew(&self, position: usize, bytes: i64) {
        self.grown[position].bytes.fetch_add(bytes, Ordering::Relaxed);
    }
}
