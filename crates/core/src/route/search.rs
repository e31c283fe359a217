//! The cheapest way through the graph.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, HashMap};
use std::rc::Rc;

use super::bound::least;
use super::choice::{Choice, Essence, Ways};
use super::enough;
use super::goal::{Goal, Wanted};
use super::leg::{Leg, NoRoute, Route};
use super::standing::{Ground, Standing};
use super::step::Step;

/// No route has more steps.
const MOST_STEPS: u32 = 16;
/// So many standings are kept before the search is given up: some hundred megabytes in a pool of many disks.
const MOST_STANDINGS: usize = 400_000;

/// What a way costs, in the order of what matters.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Cost {
    /// Milliseconds of disks.
    pub(super) busy: u64,
    /// Steps.
    pub(super) steps: u32,
    /// Days, added up over the steps, that steps wait for disks.
    pub(super) waits: i64,
}

/// How a standing was reached.
struct Reached {
    standing: Rc<Standing>,
    cost: Cost,
    from: Option<(usize, Step)>,
}

/// The steps that reach all goals with the least time of disks; of those that take the same, the fewest, and then those that
/// wait for new disks last.
///
/// # Errors
/// When no order of steps does, or too many would have to be looked at.
pub fn route(ground: &Ground, goals: &[Goal], ways: Ways) -> Result<Route, NoRoute> {
    let wanted = Wanted::of(ground, goals);
    if let Some(missing) = enough::missing(ground, &wanted) {
        return Err(NoRoute::Missing(missing));
    }
    let choice = Choice::of(ground, goals, ways);
    let first = ground.drives.iter().filter_map(|drive| drive.from).min();
    let start = Rc::new(ground.start.clone());
    let mut best: HashMap<Essence, Cost> = HashMap::from([(choice.essence(ground, &start), Cost::default())]);
    let mut found = vec![Reached { standing: start, cost: Cost::default(), from: None }];
    let mut open = BinaryHeap::from([Reverse((Cost::default(), 0))]);
    let mut explored = 0;
    while let Some(Reverse((_, here))) = open.pop() {
        let Reached { standing, cost, .. } = &found[here];
        let (standing, cost) = (standing.clone(), *cost);
        if best.get(&choice.essence(ground, &standing)).is_some_and(|known| *known < cost) {
            continue;
        }
        if wanted.is_reached(ground, &standing) {
            return Ok(Route { legs: legs(ground, &found, here), explored });
        }
        explored += 1;
        if found.len() > MOST_STANDINGS {
            return Err(NoRoute::TooMany(explored));
        }
        if cost.steps == MOST_STEPS {
            continue;
        }
        for step in choice.steps(ground, &standing) {
            let Some(after) = standing.after(ground, &step).map(Rc::new) else { continue };
            let waits = after.day.zip(first).map_or(0, |(day, first)| days(first, day));
            let next = Cost {
                busy: cost.busy + step.disk_milliseconds(ground, &standing, &after),
                steps: cost.steps + 1,
                waits: cost.waits + waits,
            };
            let essence = choice.essence(ground, &after);
            if best.get(&essence).is_none_or(|known| next < *known) {
                let guess = Cost { busy: next.busy + least(ground, &after, &wanted), ..next };
                best.insert(essence, next);
                open.push(Reverse((guess, found.len())));
                found.push(Reached { standing: after, cost: next, from: Some((here, step)) });
            }
        }
    }
    Err(NoRoute::Unreachable { goals: goals.iter().map(ToString::to_string).collect() })
}

/// From the day before the first disk comes, so that the first wait counts.
fn days(first: jiff::civil::Date, day: jiff::civil::Date) -> i64 {
    first.until(day).map_or(0, |span| i64::from(span.get_days())) + 1
}

fn legs(ground: &Ground, found: &[Reached], end: usize) -> Vec<Leg> {
    let mut legs = Vec::new();
    let mut here = end;
    while let Some((before, step)) = &found[here].from {
        legs.push(leg(ground, &found[*before].standing, step, &found[here].standing));
        here = *before;
    }
    legs.reverse();
    legs
}

fn leg(ground: &Ground, before: &Standing, step: &Step, after: &Standing) -> Leg {
    let (pass, disk_time) = step.durations(ground, before, after);
    Leg {
        step: step.clone(),
        pass,
        disk_time,
        guard_during: step.guard_during(ground, before, after),
        guard_after: after.guard(ground),
        space_after: after.space(ground),
        not_before: after.day,
        after: after.clone(),
    }
}
