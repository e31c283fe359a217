//! What survives, for pools that exist and pools on paper: the core computes it, here it gets names.

mod after;
mod backup;
mod copies;
mod count;
mod file;
mod group;
mod load;
mod outlook;
mod reason;
mod volume;

pub use after::Step;
pub use backup::{Backup, Found};
pub(crate) use copies::Elsewhere;
pub use count::{Count, Totals};
pub use file::{FileFate, shown_path};
pub use group::disks_of_group;
pub use load::load;
pub use outlook::{AtPath, Costs, Missing, Outlook, PoolOutlook};
pub(crate) use reason::shortage_of;
pub use reason::{Reason, RowsShort, StaleLane};
pub use volume::{Evaluation, VolumeModel};
