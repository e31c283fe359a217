//! Holding back: not more than so many bytes per second from and to one disk.

use std::sync::Mutex;
use std::time::{Duration, Instant};

use sieve_core::units::Rate;

use crate::event::{Event, Observer};

/// Within this time a disk may run ahead of its limit.
const BURST: Duration = Duration::from_millis(100);

/// The pace of one disk, shared by those who read and write it.
pub(crate) struct Pace {
    limit: Option<Rate>,
    /// When what was let through so far would be over at the limit.
    due: Mutex<Instant>,
}

impl Pace {
    pub(crate) fn new(limit: Option<Rate>) -> Self {
        Self { limit, due: Mutex::new(Instant::now()) }
    }

    /// Waits until `bytes` more may pass.
    pub(crate) fn pass(&self, bytes: usize) {
        let Some(limit) = self.limit else { return };
        let wait = {
            let mut due = self.due.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            let now = Instant::now();
            let wait = due.saturating_duration_since(now).saturating_sub(BURST);
            *due = (*due).max(now) + Duration::from_secs_f64(bytes as f64 / limit.per_second().max(1.0));
            wait
        };
        if !wait.is_zero() {
            std::thread::sleep(wait);
        }
    }
}

/// Who hears of bytes only once they may pass.
pub(crate) struct Paced<'a, O: ?Sized> {
    pub(crate) pace: &'a Pace,
    pub(crate) observer: &'a O,
}

impl<O: Observer + ?Sized> Observer for Paced<'_, O> {
    fn event(&self, event: Event) {
        if let Event::Advanced { by } = &event {
            self.pace.pass(usize::try_from(*by).unwrap_or(usize::MAX));
        }
        self.observer.event(event);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Waiting is at least what the limit demands; how much longer the machine takes is its own affair.
    #[test]
    fn a_limit_holds_back_and_none_does_not() {
        let pace = Pace::new(Some(Rate::from_per_second(10e6)));
        let begun = Instant::now();
        for _ in 0..4 {
            pace.pass(1_000_000);
        }
        assert!(begun.elapsed() >= Duration::from_millis(190), "{:?}", begun.elapsed());
        let free = Pace::new(None);
        for _ in 0..1000 {
            free.pass(usize::MAX);
        }
    }
}
