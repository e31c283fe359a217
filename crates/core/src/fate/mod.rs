//! What becomes of every file when disks are lost.
//!
//! The theorem: with a set of disks lost, the missing lanes of a row are those that are not zero and
//! lost or stale. They all come back if they are at most as many as the surviving valid parities of the
//! row; otherwise none does. Everything here follows from it by arithmetic on intervals.

mod composite;
mod exposure;
mod guard;
mod map;
mod model;
mod pattern;
mod sets;
mod shortage;
mod sweep;
mod verdict;

pub use composite::{fate_of_composite, guard_of_composite};
pub use exposure::{DiskSet, ExposureId, Exposures, Limit, MOST_DISKS, Stakes};
pub use guard::{Guard, Unguarded, guards, own_trouble};
pub use map::LossMap;
pub use model::{
    Composite, DiskIndex, LaneState, LostSet, Model, ObjectState, ParityState, Standing, StatedPiece,
    VersionState,
};
pub use pattern::{Pattern, for_each_pattern};
pub use sets::{Cost, RankedSet, rank_sets};
pub use shortage::{Cause, Shortage, Shortages};
pub use sweep::{Losses, losses};
pub use verdict::{Fate, Recovered, Verdicts, cells_back, fate_by_contents, verdicts};
