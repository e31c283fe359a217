//! How a pool is, in one word: well, waiting for something that is due anyway, or in need of somebody now.

use std::collections::BTreeMap;

use sieve_core::fate::Unguarded;

use super::report::{Status, Verdict};
use sieve_core::count::Count;
use sieve_pool::member::State;

/// What a reason waits for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Wanting {
    Sync,
    Settle,
    Somebody,
}

/// A new file, a change, times that moved: the next sync takes them. What is on a cache settles. The rest is wrong.
const fn wanting(reason: Unguarded) -> Wanting {
    match reason {
        Unguarded::New | Unguarded::Changed | Unguarded::Doubtful | Unguarded::StaleNeighbours => {
            Wanting::Sync
        }
        Unguarded::OnCache => Wanting::Settle,
        Unguarded::Suspect | Unguarded::NoParity | Unguarded::DiskMissing | Unguarded::NoReplica => {
            Wanting::Somebody
        }
    }
}

fn sum(unguarded: &BTreeMap<Unguarded, Count>, of: Wanting) -> Count {
    let amounts = unguarded.iter().filter(|(reason, _)| wanting(**reason) == of).map(|(_, count)| count);
    amounts.fold(Count::default(), |sum, one| Count {
        files: sum.files + one.files,
        bytes: sum.bytes.plus(one.bytes),
    })
}

impl Status {
    /// How the pool is.
    pub fn judge(&self) -> Verdict {
        let is_away =
            self.disks.iter().any(|d| !matches!(d.state, State::Present | State::OnPaper) || d.read_only);
        let is_wrong = is_away
            || self.damaged_cells > 0
            || !self.conflicts.is_empty()
            || !self.out_of_sight.is_empty()
            || !self.damaged_tables.is_empty()
            || self.suspicious.is_some()
            || sum(&self.unguarded, Wanting::Somebody).files > 0;
        match (is_wrong, self.unguarded.is_empty() && self.differs.is_empty()) {
            (true, _) => Verdict::ActNow,
            (false, false) => Verdict::Waits,
            (false, true) => Verdict::Well,
        }
    }

    /// What waits for a sync.
    pub fn waits_for_sync(&self) -> Count {
        sum(&self.unguarded, Wanting::Sync)
    }

    /// What waits on a cache.
    pub fn waits_for_settle(&self) -> Count {
        sum(&self.unguarded, Wanting::Settle)
    }

    /// Whether a disk of the pool is not to be had.
    pub fn has_disk_away(&self) -> bool {
        self.disks.iter().any(|disk| !disk.state.is_usable() && disk.state != State::OnPaper)
    }
}
