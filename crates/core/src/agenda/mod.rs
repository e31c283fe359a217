//! The agenda: what is to be done when, how long it takes, what collides, and times at which nothing does.

mod clash;
mod days;
mod hours;
mod job;
#[cfg(test)]
mod laws;
mod play;
mod solve;
mod when;

pub use clash::{Clash, clashes};
pub use days::{Clock, DaySet, name as day_name};
pub use hours::{Hours, Span};
pub use job::{Effort, Inflow, Job, Setting, Task};
pub use play::{Exposure, Hall, Played, Run, play, wanted};
pub use solve::{Cost, FOUR_WEEKS, Judged, cost, judge, solve};
pub use when::When;
