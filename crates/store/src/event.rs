//! What happens while something is done, for progress bars and logs.

use serde::Serialize;

/// One thing that happened.
#[derive(Clone, Debug, Serialize)]
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
    /// Something worth a line.
    Note {
        /// In words.
        text: String,
    },
}

/// What a stage counts.
#[derive(Clone, Copy, Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Unit {
    /// Bytes.
    Bytes,
    /// Files.
    Files,
    /// Cells of parity.
    Cells,
}

/// Somebody who wants to know.
pub trait Observer {
    /// Takes one event.
    fn event(&self, event: Event);
}

/// Nobody.
pub struct Silent;

impl Observer for Silent {
    fn event(&self, _event: Event) {}
}
