//! What flows through one disk: counted, and held to so many bytes per second.
//!
//! Every file of a disk reads and writes through here, so that a limit holds for whatever is done with the disk, by whom
//! ever, and no action has to remember it.

use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use sieve_core::units::Rate;

/// Within this time a disk may run ahead of its limit.
const BURST: Duration = Duration::from_millis(100);

/// Bytes of content that went through a disk, how long it was busy with them, and how fast they may go.
#[derive(Debug, Default)]
pub struct Flow {
    read: AtomicU64,
    written: AtomicU64,
    busy_nanoseconds: AtomicU64,
    limit: Mutex<Option<Limit>>,
}

#[derive(Debug)]
struct Limit {
    rate: Rate,
    /// When what was let through so far would be over at that rate.
    due: Instant,
}

impl Flow {
    pub(crate) fn add_read(&self, bytes: usize, since: Instant) {
        self.read.fetch_add(bytes as u64, Ordering::Relaxed);
        self.add_busy(since);
        self.hold_back(bytes);
    }

    pub(crate) fn add_written(&self, bytes: usize, since: Instant) {
        self.written.fetch_add(bytes as u64, Ordering::Relaxed);
        self.add_busy(since);
        self.hold_back(bytes);
    }

    /// It was busy since then.
    pub fn add_busy(&self, since: Instant) {
        let nanoseconds = u64::try_from(since.elapsed().as_nanos()).unwrap_or(u64::MAX);
        self.busy_nanoseconds.fetch_add(nanoseconds, Ordering::Relaxed);
    }

    /// Bytes read and written so far.
    pub fn totals(&self) -> (u64, u64) {
        (self.read.load(Ordering::Relaxed), self.written.load(Ordering::Relaxed))
    }

    /// How long it was busy with them, in seconds.
    pub fn busy(&self) -> f64 {
        self.busy_nanoseconds.load(Ordering::Relaxed) as f64 / 1e9
    }

    /// From now on not more than so many bytes per second, read and written together.
    pub fn limit(&self, rate: Option<Rate>) {
        *self.lock() = rate.map(|rate| Limit { rate, due: Instant::now() });
    }

    /// Waits as long as `bytes` that have just passed take at the limit. Afterwards and not before: nobody knows before how
    /// much there is to read.
    fn hold_back(&self, bytes: usize) {
        let wait = {
            let mut limit = self.lock();
            let Some(limit) = limit.as_mut() else { return };
            let took = Duration::from_secs_f64(bytes as f64 / limit.rate.per_second().max(1.0));
            let now = Instant::now();
            limit.due = limit.due.max(now) + took;
            limit.due.duration_since(now).saturating_sub(BURST)
        };
        if !wait.is_zero() {
            std::thread::sleep(wait);
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Option<Limit>> {
        self.limit.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Waiting is at least what the limit demands; how much longer the machine takes is its own affair.
    #[test]
    fn a_limit_holds_back_what_is_read_and_written_and_none_does_not() {
        let flow = Flow::default();
        flow.limit(Some(Rate::from_per_second(10e6)));
        let begun = Instant::now();
        for _ in 0..2 {
            flow.add_read(1_000_000, begun);
            flow.add_written(1_000_000, begun);
        }
        assert!(begun.elapsed() >= Duration::from_millis(290), "{:?}", begun.elapsed());
        assert_eq!(flow.totals(), (2_000_000, 2_000_000));
        flow.limit(None);
        for _ in 0..1000 {
            flow.add_read(1_000_000_000, begun);
        }
    }
}
