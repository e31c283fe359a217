//! What collides when every job is done at the time that is wished.

use std::collections::{BTreeMap, BTreeSet};

use super::hours::{Span, around};
use super::job::{Setting, Task};
use super::play::{Hall, Played};

/// Two jobs that are in each other's way, or one that does not fit.
#[derive(Clone, Debug, PartialEq)]
pub enum Clash {
    /// Two long works at once: the second waits.
    TwoAtOnce {
        /// The one that is at work, and until when (seconds since 1970, cautiously).
        first: usize,
        /// Until when.
        until: i64,
        /// The one that waits.
        second: usize,
        /// Since when.
        at: i64,
    },
    /// A disk tests itself while it is read or written: both become slower, and the test may give up.
    TestDuringWork {
        /// The test.
        test: usize,
        /// The work.
        work: usize,
        /// When.
        at: i64,
    },
    /// It begins with the machine off, or in quiet hours.
    NotThen {
        /// Which job.
        job: usize,
        /// When.
        at: i64,
        /// Whether the machine is off then; else it is quiet.
        off: bool,
    },
    /// It is not at its end when the machine goes off, or quiet hours begin.
    DoesNotFit {
        /// Which job.
        job: usize,
        /// When it begins.
        at: i64,
        /// When it would end, cautiously.
        end: i64,
        /// When it is stopped.
        until: i64,
        /// Whether the machine goes off then; else quiet hours begin.
        off: bool,
    },
    /// More arrives between two settles than fits on the cache.
    CacheOverflows {
        /// Which volume.
        volume: usize,
        /// What waits at most, in bytes.
        waits: f64,
    },
    /// Files are unguarded for longer than is wanted.
    UnguardedTooLong {
        /// Which volume.
        volume: usize,
        /// For how long, in seconds.
        longest: f64,
    },
    /// A job is never done.
    NeverDone {
        /// Which job.
        job: usize,
    },
}

impl Clash {
    /// Which kind it is.
    pub const fn word(&self) -> &'static str {
        match self {
            Self::TwoAtOnce { .. } => "two-at-once",
            Self::TestDuringWork { .. } => "test-during-work",
            Self::NotThen { .. } => "not-then",
            Self::DoesNotFit { .. } => "does-not-fit",
            Self::CacheOverflows { .. } => "cache-overflows",
            Self::UnguardedTooLong { .. } => "unguarded-too-long",
            Self::NeverDone { .. } => "never-done",
        }
    }
}

/// A run as it is wished.
struct Wish {
    job: usize,
    span: Span,
}

/// Everything that collides between two moments, each kind once for the same jobs: the first time that it happens.
pub fn clashes<W: AsRef<[i64]>>(setting: &Setting, hall: &Hall, wanted: &[W], played: &Played) -> Vec<Clash> {
    let mut found = Vec::new();
    let wishes = wishes(setting, wanted, played);
    for wish in &wishes {
        misplaced(setting, hall, wish, &mut found);
    }
    at_once(setting, &wishes, &mut found);
    for (volume, (of, exposure)) in setting.volumes.iter().zip(&played.exposure).enumerate() {
        if of.cache_room.is_some_and(|room| exposure.cache_peak > room.exact() as f64) {
            found.push(Clash::CacheOverflows { volume, waits: exposure.cache_peak });
        }
        if of.unguarded_at_most.is_some_and(|most| exposure.longest > most) {
            found.push(Clash::UnguardedTooLong { volume, longest: exposure.longest });
        }
    }
    let done: BTreeSet<usize> = played.runs.iter().map(|run| run.job).collect();
    let never = |job: &usize| !wanted[*job].as_ref().is_empty() && !done.contains(job);
    found.extend((0..setting.jobs.len()).filter(never).map(|job| Clash::NeverDone { job }));
    found
}

/// Each wished run with its cautious end; what it really had to do is known from the play.
fn wishes<W: AsRef<[i64]>>(setting: &Setting, wanted: &[W], played: &Played) -> Vec<Wish> {
    let first = played.runs.iter().filter(|run| !run.goes_on);
    let lengths: BTreeMap<(usize, i64), i64> =
        first.map(|run| ((run.job, run.wanted), run.cautious_end - run.begin)).collect();
    let mut wishes = Vec::new();
    for (job, starts) in wanted.iter().enumerate() {
        let cautious = |at: i64| {
            lengths.get(&(job, at)).copied().unwrap_or_else(|| setting.jobs[job].effort.with(0.0).1)
        };
        wishes.extend(
            starts
                .as_ref()
                .iter()
                .map(|at| Wish { job, span: Span { from: *at, until: at + cautious(*at) } }),
        );
    }
    wishes.sort_by_key(|wish| (wish.span, wish.job));
    wishes
}

fn misplaced(setting: &Setting, hall: &Hall, wish: &Wish, found: &mut Vec<Clash>) {
    let (job, Span { from: at, until: end }) = (wish.job, wish.span);
    let task = setting.jobs[job].task;
    let is_on = |at: i64| around(&hall.on, at).is_some();
    // What comes around many times a day waits until it may, and nobody is surprised.
    if is_frequent(setting, job) {
        return;
    }
    let clash = match around(hall.hours(task), at) {
        None => Clash::NotThen { job, at, off: !is_on(at) },
        Some(hours) if hours.until < end.min(hall.within.until) => {
            Clash::DoesNotFit { job, at, end, until: hours.until, off: !is_on(hours.until) }
        }
        Some(_) => return,
    };
    let is_same = |known: &Clash| {
        let of = |clash: &Clash| match clash {
            Clash::NotThen { job, .. } | Clash::DoesNotFit { job, .. } => Some(*job),
            _ => None,
        };
        std::mem::discriminant(known) == std::mem::discriminant(&clash) && of(known) == Some(job)
    };
    if !found.iter().any(is_same) {
        found.push(clash);
    }
}

/// Whether a job is wanted so often that it may well wait for its next time.
fn is_frequent(setting: &Setting, job: usize) -> bool {
    setting.jobs[job].when.period() < 0.5 || setting.jobs[job].when.clock().is_none()
}

fn at_once(setting: &Setting, wishes: &[Wish], found: &mut Vec<Clash>) {
    for (position, first) in wishes.iter().enumerate() {
        let beside = wishes[position + 1..].iter().take_while(|second| second.span.from < first.span.until);
        for second in beside {
            if let Some(clash) = pair(setting, first, second)
                && !found.iter().any(|known| same_pair(known, &clash))
            {
                found.push(clash);
            }
        }
    }
}

fn pair(setting: &Setting, first: &Wish, second: &Wish) -> Option<Clash> {
    let task = |wish: &Wish| setting.jobs[wish.job].task;
    let is_test = |task: Task| matches!(task, Task::ShortTest | Task::LongTest);
    let shared =
        setting.jobs[first.job].disks.iter().any(|disk| setting.jobs[second.job].disks.contains(disk));
    let at = second.span.from;
    if first.job != second.job && task(first).is_long() && task(second).is_long() {
        let frequent = is_frequent(setting, second.job) || is_frequent(setting, first.job);
        let clash = Clash::TwoAtOnce { first: first.job, until: first.span.until, second: second.job, at };
        return (!frequent).then_some(clash);
    }
    match (is_test(task(first)), is_test(task(second))) {
        (true, false) if shared && task(second).is_long() => {
            Some(Clash::TestDuringWork { test: first.job, work: second.job, at })
        }
        (false, true) if shared && task(first).is_long() => {
            Some(Clash::TestDuringWork { test: second.job, work: first.job, at })
        }
        _ => None,
    }
}

fn same_pair(one: &Clash, other: &Clash) -> bool {
    match (one, other) {
        (Clash::TwoAtOnce { first: a, second: b, .. }, Clash::TwoAtOnce { first: c, second: d, .. }) => {
            (a, b) == (c, d) || (a, b) == (d, c)
        }
        (Clash::TestDuringWork { test: a, work: b, .. }, Clash::TestDuringWork { test: c, work: d, .. }) => {
            (a, b) == (c, d)
        }
        _ => false,
    }
}
