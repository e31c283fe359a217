//! The steps of a route, and what they come to.

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;

use super::standing::Standing;
use super::step::Step;
use crate::forecast::{Duration, Forecast};
use crate::units::ByteLength;

/// One step of a route, and what it means.
#[derive(Clone, Debug)]
pub struct Leg {
    /// What is done.
    pub step: Step,
    /// How long it takes.
    pub pass: Forecast,
    /// How long it keeps disks busy, all of them added up.
    pub disk_time: Duration,
    /// How many disks may die while it runs without losing a file.
    pub guard_during: usize,
    /// And when it is done.
    pub guard_after: usize,
    /// Space for files when it is done.
    pub space_after: ByteLength,
    /// It needs a disk that is there only from then on, or comes after a step that does.
    pub not_before: Option<Date>,
    /// Who sits where when it is done.
    pub after: Standing,
}

/// The steps, in order.
#[derive(Clone, Debug, Default)]
pub struct Route {
    /// The steps.
    pub legs: Vec<Leg>,
    /// So many standings were looked at to find it.
    pub explored: usize,
}

/// What the steps of a route come to.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, JsonSchema)]
pub struct Totals {
    /// Likely seconds of all passes, one after the other.
    pub likely_seconds: f64,
    /// Cautious ones.
    pub cautious_seconds: f64,
    /// Seconds that disks are busy, all of them added up.
    pub disk_seconds: f64,
    /// Likely seconds during which fewer disks may die without losing a file than at the start.
    pub weakened_seconds: f64,
    /// The fewest disks that may die at any moment without losing a file.
    pub least_guard: usize,
}

impl Totals {
    /// What these steps come to, from a pool of which so many disks may die.
    pub fn of(legs: &[Leg], guard: usize) -> Self {
        let mut totals = Self { least_guard: guard, ..Self::default() };
        for leg in legs {
            totals.likely_seconds += leg.pass.likely.seconds();
            totals.cautious_seconds += leg.pass.cautious.seconds();
            totals.disk_seconds += leg.disk_time.seconds();
            if leg.guard_during < guard {
                totals.weakened_seconds += leg.pass.likely.seconds();
            }
            totals.least_guard = totals.least_guard.min(leg.guard_during).min(leg.guard_after);
        }
        totals
    }
}

/// Why there is no route.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoRoute {
    /// No order of steps reaches it.
    #[error("no order of steps reaches {}", goals.join(", "))]
    Unreachable {
        /// The goals.
        goals: Vec<String>,
    },
    /// There are not the disks for it.
    #[error("{0}")]
    Missing(String),
    /// The search was given up.
    #[error("there are too many possibilities: {0} were looked at")]
    TooMany(usize),
}
