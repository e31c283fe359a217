//! What is to be done, and what is known of how long it takes.

use super::hours::{Hours, Span, less};
use super::when::When;
use crate::forecast::Duration;
use crate::units::ByteLength;
use jiff::tz::TimeZone;

/// What a job does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Task {
    /// What waits on the cache goes to the disks: first, so that a sync guards it.
    Settle,
    /// Parity is brought up to the present.
    Sync,
    /// Contents and parity are read and compared.
    Verify,
    /// Disks test themselves, for some minutes.
    ShortTest,
    /// Disks test their whole surface.
    LongTest,
    /// The page about the pool is written.
    Report,
    /// A listing of what the pool holds is written.
    BackupListing,
}

impl Task {
    /// All of them, in the order in which they are done when several are due.
    pub const ALL: [Self; 7] = [
        Self::Settle,
        Self::Sync,
        Self::Verify,
        Self::ShortTest,
        Self::LongTest,
        Self::Report,
        Self::BackupListing,
    ];

    /// The word for it in a pool file; a self-test says with another key how long.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Settle => "settle",
            Self::Sync => "sync",
            Self::Verify => "verify",
            Self::ShortTest | Self::LongTest => "self-test",
            Self::Report => "report",
            Self::BackupListing => "backup-listing",
        }
    }

    /// One at a time may do so.
    pub const fn is_long(self) -> bool {
        matches!(self, Self::Settle | Self::Sync | Self::Verify)
    }

    /// Disks can be heard while it is done.
    pub const fn is_heard(self) -> bool {
        !matches!(self, Self::Report | Self::BackupListing)
    }

    /// It goes on later from where it stopped.
    pub const fn goes_on(self) -> bool {
        self.is_long()
    }
}

/// How long something takes: at least, and more with what there is to do.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Effort {
    /// Whatever there is to do.
    pub likely: Duration,
    /// The same, cautiously.
    pub cautious: Duration,
    /// For each byte that arrived since it was done last, in seconds.
    pub seconds_per_byte: f64,
}

impl Effort {
    /// Cautious durations are so many times as long, where only a likely one is known.
    pub const CAUTION: f64 = 1.5;

    /// The likely and the cautious duration with so much new, in whole seconds.
    pub(super) fn with(&self, arrived: f64) -> (i64, i64) {
        let more = arrived * self.seconds_per_byte;
        let whole = |seconds: f64| (seconds.max(1.0)).ceil() as i64;
        (whole(self.likely.seconds() + more), whole(self.cautious.seconds() + more * Self::CAUTION))
    }
}

/// One job of the agenda.
#[derive(Clone, Debug, PartialEq)]
pub struct Job {
    /// What it is called.
    pub name: String,
    /// What it does.
    pub task: Task,
    /// Of which volume; of all of the pool where it says none.
    pub volume: Option<usize>,
    /// When.
    pub when: When,
    /// Which share of the rows it verifies, from 0 to 1.
    pub share: f64,
    /// How long it takes.
    pub effort: Effort,
    /// The disks that it keeps awake, as positions in [`Setting::disks`].
    pub disks: Vec<usize>,
}

/// What happens to a volume meanwhile.
#[derive(Clone, Debug, PartialEq)]
pub struct Inflow {
    /// Its name.
    pub name: String,
    /// What arrives in a day on which the machine is on all the time.
    pub arrives_a_day: ByteLength,
    /// What fits on its cache, where there is one.
    pub cache_room: Option<ByteLength>,
    /// What lies on the cache lies on several disks of it.
    pub cache_is_guarded: bool,
    /// How long a file may be unguarded, in seconds.
    pub unguarded_at_most: Option<f64>,
    /// It has parity or copies, which a sync brings up to the present.
    pub has_guard: bool,
}

/// All that an agenda is worked out from.
#[derive(Clone, Debug, PartialEq)]
pub struct Setting {
    /// The jobs.
    pub jobs: Vec<Job>,
    /// The volumes.
    pub volumes: Vec<Inflow>,
    /// The names of the disks.
    pub disks: Vec<String>,
    /// When the machine is on; always, where nothing is said.
    pub awake: Hours,
    /// When disks are not to be heard.
    pub quiet: Hours,
    /// Seconds after which a disk that nobody uses sleeps.
    pub sleeps_after: f64,
}

impl Setting {
    /// When the machine is on.
    pub fn on(&self, within: Span, zone: &TimeZone) -> Vec<Span> {
        if self.awake.is_empty() { vec![within] } else { self.awake.spans(within, zone) }
    }

    /// When work that is heard may be done.
    pub fn usable(&self, within: Span, zone: &TimeZone) -> Vec<Span> {
        less(&self.on(within, zone), &self.quiet.spans(within, zone))
    }
}
