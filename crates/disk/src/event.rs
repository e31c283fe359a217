//! What happens while something is done, for progress bars and logs.

use schemars::JsonSchema;
use serde::Serialize;

use crate::{Error, Result};

/// One thing that happened.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A stage began; `total` counts in `unit`.
    Stage {
        /// What is done now.
        name: &'static str,
        /// How much there is to do, in `unit`.
        total: u64,
        /// What is counted.
        unit: Unit,
    },
    /// So much more of the stage is done.
    Advanced {
        /// In the unit of the stage.
        by: u64,
    },
    /// How a long stage is getting on, about twice a second.
    Progress {
        /// How much of the stage is done, in its unit.
        done: u64,
        /// How much there is to do.
        total: u64,
        /// Bytes read and written so far, on all disks.
        moved_bytes: u64,
        /// Bytes per second of late.
        bytes_per_second: f64,
        /// Seconds since the stage began.
        elapsed_seconds: f64,
        /// Seconds that are left, of this stage and of the volumes after it: from the disks' curves, corrected by what was
        /// measured.
        remaining_seconds: f64,
    },
    /// Something worth a line.
    Note {
        /// In words.
        text: String,
    },
}

/// What a stage counts.
#[derive(Clone, Copy, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Unit {
    /// Bytes.
    Bytes,
    /// Files.
    Files,
    /// Cells of parity.
    Cells,
}

/// Somebody who wants to know, and who may have enough.
pub trait Observer {
    /// Takes one event.
    fn event(&self, event: Event);

    /// Whether what is watched is to stop, at the next point where what is done so far is of use.
    fn is_stopped(&self) -> bool {
        false
    }

    /// Seconds that other stages take after the present one: they remain as well.
    fn later_seconds(&self) -> f64 {
        0.0
    }
}

/// Tells that so much more is done, and ends the copy of a file that is to be stopped in the middle: whoever began the
/// file takes it away again.
///
/// # Errors
/// [`Error::stopped`] when the observer wants no more.
pub fn advance(observer: &dyn Observer, by: usize) -> Result<()> {
    observer.event(Event::Advanced { by: by as u64 });
    heed(observer)
}

/// Ends what is in the middle of a file and has nothing to tell, where the observer wants no more.
///
/// # Errors
/// [`Error::stopped`].
pub fn heed(observer: &dyn Observer) -> Result<()> {
    if observer.is_stopped() { Err(Error::stopped()) } else { Ok(()) }
}

/// Nobody.
pub struct Silent;

impl Observer for Silent {
    fn event(&self, _event: Event) {}
}
