//! What would be: after other steps, when disks are lost, in a year, in a pool that does not exist yet.
//!
//! It reads, and changes nothing: what it asks of actions are their plans.

mod after;
pub mod agenda;
mod backup;
mod group;
pub mod holdings;
mod listing;
mod look;
pub mod notices;
mod others;
mod outlook;
pub mod paper;
pub mod risk;
pub mod route;
mod stakes;
pub mod status;

pub use after::{Step, after};
pub use backup::{Backup, Found};
pub use group::disks_of_group;
pub use look::Look;
pub use others::{Kept, KeptTotals, Other, Others, Unread};
pub use outlook::{AtPath, Costs, Missing, Outlook, PoolOutlook};
pub use stakes::{RiskMember, RiskVolume};
