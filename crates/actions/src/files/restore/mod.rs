//! Files that were removed, replaced, deleted or overwritten since the last sync, brought back: from what is held, or
//! from parity.

mod find;
mod make;
mod place;
mod report;
mod run;

pub use find::{Candidate, Recoverable, What, list};
pub use report::{RestoreReport, Restored, Target};
pub use run::execute;
