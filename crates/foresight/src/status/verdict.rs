//! How a pool is, in one word: well, waiting for something that is due anyway, or in need of somebody now.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sieve_core::fate::{Fate, Unguarded};
use sieve_core::units::ByteLength;

use super::Status;
use sieve_core::count::Count;
use sieve_pool::member::State;

/// How a pool is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Everything is there and as guarded as it is meant to be.
    Well,
    /// Nothing is wrong, and something waits for a sync or a settle.
    Waits,
    /// A disk, a file or parity is not as it should be.
    ActNow,
}

/// The loss that would cost most on top of the disks that are missing.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct NextLoss {
    /// The disk.
    pub disk: String,
    /// What could not be had back any more besides what is lost already.
    #[serde(flatten)]
    pub cost: Count,
}

/// What is at stake: how the files would end today, and with one more loss.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Stakes {
    /// All files.
    pub files: Count,
    /// What is not to be had back in its present state as things are.
    pub lost: Count,
    /// What is there or comes back now, and could not survive one more loss.
    pub at_stake: Count,
    /// What is unguarded on purpose: its volume has neither parity nor copies.
    pub on_purpose: Count,
    /// With a disk missing: the second loss that would cost most.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub next_loss: Option<NextLoss>,
}

impl Stakes {
    pub(crate) fn add(&mut self, size: ByteLength, fate: Fate, guard: u8, is_on_purpose: bool) {
        self.files.add(size);
        match (fate, guard) {
            (Fate::Older | Fate::Torn | Fate::Gone, _) => self.lost.add(size),
            (_, 0) => self.at_stake.add(size),
            _ => {}
        }
        if is_on_purpose {
            self.on_purpose.add(size);
        }
    }
}

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
        match (is_wrong, self.unguarded.is_empty()) {
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
