//! What could be built from a set of disks, and what each way gives and risks.

mod arrange;
mod copies;
mod disks;
mod figures;
mod front;
mod layout;
mod loss;
mod passes;
mod recommend;
mod risk;
mod saving;
mod speed;

pub use arrange::plans;
pub use disks::{DesignDisk, DiskListError, given_curve, parse_disk_table, parse_disks};
pub use figures::{Addition, Figures, figures};
pub use front::front;
pub use layout::{Layout, Plan, PlannedVolume};
pub use loss::Loss;
pub use recommend::{Recommendation, Want, Wishes, recommend};
pub use risk::PlanRisk;
pub use saving::YEARS_OF_USE;
pub use speed::Speed;
