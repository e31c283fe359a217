//! Being asked to stop. A signal ends the program, as it does elsewhere, but while somebody listens: a work comes to a
//! checkpoint first. What is only read or reckoned with after that work listens to nothing, and ends at once again.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock};

use sieve_disk::{Error, Kind, Result};
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::{SigId, flag, low_level};

/// One signal, and how many listen to it.
struct Heard {
    listeners: AtomicUsize,
    /// Nobody listens: it ends the program. The handler reads it, which may do no more than that.
    ends: Arc<AtomicBool>,
}

impl Heard {
    /// Once a handler is there, the system's own way to end the program is gone: it has to be put in its place.
    fn of(signal: i32) -> Self {
        let ends = Arc::new(AtomicBool::new(false));
        // Where it cannot be, the signal does nothing between two works, and stops each of them all the same.
        let _ = flag::register_conditional_default(signal, Arc::clone(&ends));
        Self { listeners: AtomicUsize::new(0), ends }
    }
}

static INTERRUPT: LazyLock<Heard> = LazyLock::new(|| Heard::of(SIGINT));
static TERMINATE: LazyLock<Heard> = LazyLock::new(|| Heard::of(SIGTERM));

fn heard(signal: i32) -> &'static Heard {
    if signal == SIGINT { &INTERRUPT } else { &TERMINATE }
}

/// Somebody who listens, until it is dropped.
pub(crate) struct Listener {
    came: Arc<AtomicBool>,
    ids: Vec<(i32, SigId)>,
}

impl Listener {
    /// Listens to both signals that ask a program to end.
    ///
    /// # Errors
    /// When signals cannot be taken.
    pub(crate) fn begin() -> Result<Self> {
        Self::to(&[SIGINT, SIGTERM])
    }

    /// Listens to the key that interrupts alone.
    ///
    /// # Errors
    /// As [`Self::begin`].
    pub(crate) fn to_the_key() -> Result<Self> {
        Self::to(&[SIGINT])
    }

    fn to(signals: &[i32]) -> Result<Self> {
        let mut listener = Self { came: Arc::default(), ids: Vec::new() };
        for signal in signals {
            let heard = heard(*signal);
            let id = flag::register(*signal, Arc::clone(&listener.came))
                .map_err(|e| Error::new(Kind::Internal, "signal", e.to_string()))?;
            listener.ids.push((*signal, id));
            heard.listeners.fetch_add(1, Ordering::SeqCst);
            heard.ends.store(false, Ordering::SeqCst);
        }
        Ok(listener)
    }

    /// Whether one came.
    pub(crate) fn is_asked_to_stop(&self) -> bool {
        self.came.load(Ordering::Relaxed)
    }
}

impl Drop for Listener {
    fn drop(&mut self) {
        for (signal, id) in self.ids.drain(..) {
            low_level::unregister(id);
            let heard = heard(signal);
            if heard.listeners.fetch_sub(1, Ordering::SeqCst) == 1 {
                heard.ends.store(true, Ordering::SeqCst);
            }
        }
    }
}
