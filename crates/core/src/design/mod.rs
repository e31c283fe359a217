//! What could be built from a set of disks, and what each way gives and risks.

mod disks;
mod figures;
mod front;
mod layout;
mod loss;
mod recommend;
mod risk;

pub use disks::{DesignDisk, DiskListError, given_curve, parse_disk_table, parse_disks};
pub use figures::{Addition, Figures, Speed, figures};
pub use front::front;
pub use layout::{Layout, Plan, plans};
pub use loss::{Loss, one_more, survives};
pub use recommend::{Recommendation, Want, Wishes, recommend};
pub use risk::PlanRisk;
