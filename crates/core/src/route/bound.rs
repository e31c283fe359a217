//! What a route costs at least from here: never more than it does, so that the search stays exact.

use super::goal::{Goal, Wanted};
use super::standing::{Ground, Standing};
use crate::pool::{Role, VolumeKind};
use crate::units::ByteLength;

/// To empty a disk costs so many times its files, at the least: they are read for the copy and for parity, written, looked at
/// where they are, and read there for parity.
const EMPTIED: u64 = 5;

/// Milliseconds of disks that the goals still take at least.
///
/// Each step puts one drive on one seat, or takes one seat away, so the parts below are paid by steps of their own. The files
/// of a data disk grow fewer only when it is vacated, which costs more than either part of it here.
pub(super) fn least(ground: &Ground, standing: &Standing, wanted: &Wanted<'_>) -> u64 {
    let fastest = ground.drives.iter().map(|drive| drive.curve.mean().per_second()).fold(0.0, f64::max);
    // What a volume has less of once it is mirrored no more may be the first thing to go.
    let copies = if wanted.copies < standing.copies(ground) { ground.copies as u64 } else { 1 };
    let time = |bytes: u64| if fastest > 0.0 { ((bytes / copies) as f64 / fastest * 1e3) as u64 } else { 0 };
    let data = |name: &str| standing.of_role(Role::Data).find(|seat| &*seat.name == name);
    let mut sum = 0;
    for goal in wanted.goals.iter().filter(|goal| !goal.is_reached(ground, standing)) {
        sum += match goal {
            // It is written, and read somewhere.
            Goal::Size { name, .. } => data(name).map_or(0, |seat| time(2 * seat.used.exact())),
            // The work of a vacate, from which the disk goes by way of no other step.
            Goal::Without { name, .. } => {
                let times = EMPTIED + 4 * floor(ground, standing, wanted) as u64;
                data(name).map_or(0, |seat| time(times * seat.used.exact()))
            }
            // A step of its own: files are read, and written and read back as often as there are further copies of them.
            Goal::Kind(_) => {
                let all: u64 = standing.of_role(Role::Data).map(|seat| seat.used.exact()).sum();
                match (standing.kind, wanted.kind) {
                    (_, VolumeKind::Mirrored) => time(all * (2 * (wanted.copies as u64 - 1) + 1)),
                    (VolumeKind::Mirrored, _) => time(all),
                    _ => 0,
                }
            }
            _ => 0,
        };
    }
    sum + parity_work(ground, standing, wanted, time)
}

/// So many parity drives there are at every moment: where copies guard the files, there may be none.
fn floor(ground: &Ground, standing: &Standing, wanted: &Wanted<'_>) -> usize {
    let is_mirrored = standing.kind == VolumeKind::Mirrored || wanted.kind == VolumeKind::Mirrored;
    if is_mirrored { 0 } else { ground.floor }
}

/// What parity drives that have yet to be put on their seats cost: one more is computed from all files, another in the place
/// of one is at least read and written, and that image is as long as the longest lane. A lane gets shorter only if its disk is
/// emptied, which costs more than up to five times its length.
fn parity_work(ground: &Ground, standing: &Standing, wanted: &Wanted<'_>, time: impl Fn(u64) -> u64) -> u64 {
    let of_floor = if wanted.kind == VolumeKind::Mirrored { 0 } else { ground.floor };
    let needed = wanted.final_parities().max(of_floor);
    let placed = needed.saturating_sub(stays(ground, standing, wanted)) as u64;
    let more = (needed.saturating_sub(standing.parities()) as u64).min(placed);
    let goes = |name: &str| {
        let is_it = |goal: &Goal| {
            matches!(goal, Goal::Without { .. } | Goal::Holds { .. }) && goal.member() == Some(name)
        };
        wanted.goals.iter().any(is_it)
    };
    let lanes = || standing.of_role(Role::Data);
    let longest = lanes().filter(|seat| !goes(&seat.name)).map(|seat| seat.used.exact()).max().unwrap_or(0);
    let all: u64 = lanes().map(|seat| seat.used.exact()).sum();
    let images = (2 * (placed - more) + more).min(EMPTIED);
    time(more * all) + time(images * longest)
}

/// How many parity drives may stay on their seats.
fn stays(ground: &Ground, standing: &Standing, wanted: &Wanted<'_>) -> usize {
    let least = wanted.goals.iter().filter_map(|goal| match goal {
        Goal::ParitySize(size) => Some(*size),
        _ => None,
    });
    let least = least.max().unwrap_or(ByteLength::ZERO);
    let goes = |drive| {
        wanted.goals.iter().any(|goal| match goal {
            Goal::Without { drive: out, .. } | Goal::Holds { drive: out, role: Role::Data, .. } => {
                *out == drive
            }
            _ => false,
        })
    };
    standing.of_role(Role::Parity).filter(|seat| ground.size(seat) >= least && !goes(seat.drive)).count()
}
