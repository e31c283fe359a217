//! What it would cost without a plan: goal after goal in the order in which they were said, every disk pulled and its
//! successor computed from the others.

use super::choice::Ways;
use super::goal::Goal;
use super::standing::Ground;

use super::leg::Leg;
use super::search;

/// How far one comes that way.
#[derive(Clone, Debug, Default)]
pub struct ByHand {
    /// The steps.
    pub legs: Vec<Leg>,
    /// The first goal that can no longer be reached then, with those before it kept.
    pub stuck_at: Option<Goal>,
}

/// Goal after goal, each in its cheapest way, without a thought for the next one or for guard.
pub fn by_hand(ground: &Ground, goals: &[Goal]) -> ByHand {
    let mut ground = Ground { floor: 0, ..ground.clone() };
    let mut done = ByHand::default();
    for count in 1..=goals.len() {
        match search::route(&ground, &goals[..count], Ways::Pulling) {
            Ok(route) => {
                let bays = route.legs.last().map(|leg| ground.bays_left(&leg.after));
                if let (Some(left), Some(last)) = (bays, route.legs.last()) {
                    ground.free_bays = ground.free_bays.map(|_| left);
                    ground.start = last.after.clone();
                }
                done.legs.extend(route.legs);
            }
            Err(_) => {
                done.stuck_at = Some(goals[count - 1].clone());
                break;
            }
        }
    }
    done
}
