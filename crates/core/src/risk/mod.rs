//! How much to worry: what may be expected to be lost in a year, from what, and what would help.
//!
//! The process. All disks of a volume are there; each fails by chance at its own rate. The one that fails is replaced
//! and rebuilt, which takes its *window*. Within it another disk may fail, likelier if it is of a batch that is down
//! already; then all are rebuilt in the window of that one, in which another may fail, and so on, until all are there
//! again. Parity is as old as the time since the last sync, which at the moment of a failure is anything from nothing to
//! the interval of the syncs. While everything that survives is read, sectors turn out to be unreadable by chance.
//!
//! What a loss costs comes from the fate model, exact; what comes between syncs, from the habit of the past.
//! [`closed_form`] gives the expected values of this process, [`simulate`] plays it; the two must agree.

mod advice;
mod assess;
mod closed;
mod habit;
mod process;
mod rates;
mod simulate;
mod unreadable;

pub use advice::{Action, Advice, FolderOnDisk, Market, UnitPrice, advise};
pub use assess::{Assessment, Conditions, Subject, assess};
pub use closed::{Expected, Step, closed_form, expected};
pub use habit::{Arrivals, Habit, HabitSource, Waiting};
pub use process::{Cause, Figure, Hazard, Loss, Losses, Odds, Process, RiskDisk};
pub use rates::{RateEnd, RateSource, YearlyRate, default_unreadable_per_bit, yearly_rate};
pub use simulate::{Comparison, Simulated, compare, simulate};
pub use unreadable::UnreadableRows;

/// Days in a year.
pub const DAYS: f64 = 365.25;
