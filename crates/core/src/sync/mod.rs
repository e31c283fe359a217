//! Planning a sync: what parity is to encode next, and what has to be read and written for it.

mod geometry;
mod plan;
mod target;

pub use geometry::CellGeometry;
pub use plan::{
    Circumstances, LaneChange, Method, Preference, WindowPlan, Work, changed_within, lane_change,
    plan_windows,
};
pub use target::{Data, Target, Wanted, plan_lane};
