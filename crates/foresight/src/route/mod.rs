//! The way from a pool as it is to the pool that is wanted, step by step, each with the command that takes it.

mod buy;
mod checklist;
mod ground;
mod report;
mod words;

use sieve_core::route::{self, Goal, Ground, NoRoute, Totals, Ways};
use sieve_disk::{Error, Kind, Result};

pub use buy::Purchase;
pub use checklist::{Checklist, Next, next};
pub use ground::{Land, of_paper, of_pool};
pub use report::{Answer, ByHandLine, DriveLine, StepLine};

/// What is asked for.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The goals, in words.
    pub goals: Vec<String>,
    /// What is bought, in words; where there is nothing, what the goals need is taken to be.
    pub buy: Vec<String>,
    /// So many disks may die at every moment without losing a file; as many as now, where nobody says so.
    pub never_below: Option<usize>,
}

/// Finds the way.
///
/// # Errors
/// When a goal or a purchase is not understood, or no order of steps reaches the goals.
pub fn plan(mut land: Land, request: &Request) -> Result<Answer> {
    let goals = request.goals.iter().map(|text| parse(text, &land.ground)).collect::<Result<Vec<_>>>()?;
    if goals.is_empty() {
        return Err(usage("route.goals", "there is no goal".into()).remedy(forms()));
    }
    let guard_now = land.ground.start.guard(&land.ground);
    land.ground.floor = floor(request, &goals, &land.ground)?;
    let purchases = request.buy.iter().map(|text| Purchase::parse(text)).collect::<Result<Vec<_>>>()?;
    let buying_is_assumed = purchases.is_empty();
    let purchases = if buying_is_assumed { buy::assumed(&land.ground, &goals) } else { purchases };
    let members = land.ground.drives.len();
    buy::add(&mut land.ground, &purchases);
    let found = route::route(&land.ground, &goals, Ways::All).map_err(|why| none(&why, &land, &goals))?;
    let by_hand = route::by_hand(&land.ground, &goals);
    let mut teller = words::Teller::of(&land);
    let steps: Vec<StepLine> = (1..).zip(&found.legs).map(|(number, leg)| teller.line(number, leg)).collect();
    let is_used = |name: &str| steps.iter().any(|s| s.onto.as_ref().is_some_and(|d| d.name == name));
    let bought = land.ground.drives[members..].iter();
    let to_buy = bought.filter(|d| is_used(&d.name)).map(|drive| words::drive_line(drive, None)).collect();
    Ok(Answer {
        goals: goals.iter().map(ToString::to_string).collect(),
        totals: Totals::of(&found.legs, guard_now),
        guard_now,
        space_now_bytes: land.ground.start.space(&land.ground),
        to_buy,
        buying_is_assumed,
        by_hand: ByHandLine {
            steps: by_hand.legs.iter().map(|leg| words::short(&land.ground, leg)).collect(),
            totals: Totals::of(&by_hand.legs, guard_now),
            stuck_at: by_hand.stuck_at.map(|goal| goal.to_string()),
        },
        explored: found.explored,
        steps,
        volume: land.volume,
        kind: land.ground.start.kind.word(),
        notes: land.notes,
    })
}

fn parse(text: &str, ground: &Ground) -> Result<Goal> {
    Goal::parse(text, ground).map_err(|why| usage("route.goal", why.to_string()).remedy(forms()))
}

fn forms() -> String {
    format!("goals are said like {}", Goal::FORMS)
}

fn usage(code: &'static str, message: String) -> Error {
    Error::new(Kind::Usage, code, message)
}

/// How many disks may die at every moment without losing a file.
fn floor(request: &Request, goals: &[Goal], ground: &Ground) -> Result<usize> {
    let now = ground.start.guard(ground);
    let wanted = goals.iter().find_map(|goal| match goal {
        Goal::Parities(count) => Some((*count).max(ground.start.copies(ground) - 1)),
        _ => None,
    });
    match request.never_below {
        Some(floor) if floor > now => {
            let message = format!("guard is {now} now, which is below {floor}");
            Err(usage("route.floor", message).remedy(format!("say at most --never-below {now}")))
        }
        Some(floor) => Ok(floor),
        None => Ok(wanted.map_or(now, |wanted| wanted.min(now))),
    }
}

fn none(why: &NoRoute, land: &Land, goals: &[Goal]) -> Error {
    let mut ways = Vec::new();
    match why {
        NoRoute::Missing(_) => ways.push("say what you would buy, with --buy \"14 TB\", or want less".into()),
        NoRoute::Unreachable { .. } => {
            if land.ground.free_bays == Some(0) {
                ways.push("every bay of the case is taken, and a disk has to be beside the one that it takes over from: a bay more helps".to_string());
            }
            if land.ground.floor > 0 {
                let floor = land.ground.floor - 1;
                ways.push(format!(
                    "--never-below {floor} allows steps while which fewer disks may die without losing a file"
                ));
            }
            ways.push("--buy adds disks".into());
        }
        NoRoute::TooMany(_) => ways.push("ask for fewer goals at once".into()),
    }
    let code = if matches!(why, NoRoute::TooMany(_)) { "route.too-many" } else { "route.none" };
    let together = if goals.len() > 1 { " (all goals together)" } else { "" };
    usage(code, format!("{why}{together}")).remedy(ways.join("; "))
}
