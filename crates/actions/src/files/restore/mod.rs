//! Files that were removed, replaced, deleted or overwritten since the last sync, brought back: from what is held, or
//! from parity.

mod find;
mod run;

pub use find::{Candidate, Recoverable, What, list};
pub use run::{RestoreReport, Restored, Target, execute};
