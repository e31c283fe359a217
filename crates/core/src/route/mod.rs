//! In which order a pool is changed: the steps that reach all goals with the least time of disks, such that no file is ever
//! guarded by fewer parity drives than was allowed.
//!
//! A pool that changes is a graph: a [`Standing`] is who sits on which seat, a [`Step`] leads from one to the next, and what it
//! costs is how long disks are kept busy. [`search`] finds the cheapest way (uniform cost with an admissible bound: Hart,
//! Nilsson and Raphael, *A Formal Basis for the Heuristic Determination of Minimum Cost Paths*), which is exact: what it finds
//! cannot be bettered by any order of these steps.

mod bound;
mod by_hand;
mod choice;
mod enough;
mod goal;
mod leg;
mod search;
mod standing;
mod step;
#[cfg(test)]
mod tests;
mod transition;

pub use by_hand::{ByHand, by_hand};
pub use choice::Ways;
pub use goal::{Goal, GoalError};
pub use leg::{Leg, NoRoute, Route, Totals};
pub use search::route;
pub use standing::{Drive, DriveId, Ground, Seat, Standing};
pub use step::Step;
