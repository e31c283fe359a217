//! How long things take: speed curves of disks, and the pace of a pass over several of them.

mod curve;
mod duration;
mod filling;
mod pass;
mod underway;

use curve::time_over;
pub use curve::{CurveSource, SpeedCurve, default_curve};
pub use duration::Duration;
pub use filling::{Filling, filling};
pub use pass::{Forecast, Link, Participant, Pass, assumed_processor, forecast};
pub use underway::{Measured, Underway};
