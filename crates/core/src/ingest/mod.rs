//! How fast copies go in, and how large a cache must be.

mod copy;
mod day;

pub use copy::{Copy, FastArea, Landing, Network, Stage, copy, wired, wireless};
pub use day::{Arrival, Day, DayError, SettleTimes, fill_through_a_day, parse_arrivals, parse_settles};
