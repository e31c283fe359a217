//! Whether there are disks enough for the goals, whatever the order: if not, no search has to be made to say so.

use super::goal::{Goal, Wanted};
use super::standing::Ground;
use crate::pool::Role;
use crate::units::ByteLength;

/// What is missing, in words, where something is.
pub(super) fn missing(ground: &Ground, wanted: &Wanted<'_>) -> Option<String> {
    if let Some(clash) = contradiction(wanted.goals) {
        return Some(clash);
    }
    let parities = wanted.final_parities();
    let mut sizes: Vec<ByteLength> = (ground.drives.iter().enumerate())
        .filter(|(position, _)| !wanted.is_out(*position))
        .map(|(_, drive)| drive.size)
        .collect();
    sizes.sort_by(|a, b| b.cmp(a));
    let needs: Vec<Need> = wanted.goals.iter().filter_map(|goal| Need::of(ground, goal)).collect();
    for Need { least, .. } in &needs {
        let of_kind = |kind| needs.iter().filter(|need| need.kind == kind && need.least >= *least).count();
        // A disk that is to hold data may be that of a member that is to be large.
        let data = of_kind(Kind::Member).max(of_kind(Kind::Disk));
        let needed = parities + data;
        let there = sizes.iter().filter(|size| *size >= least).count();
        if there < needed {
            let parity = if parities > 0 && data > 0 { ", since parity has to be as large" } else { "" };
            return Some(format!(
                "{needed} disks of at least {least} are needed{parity}, and there are {there}"
            ));
        }
    }
    let caches = ground.start.of_role(Role::Cache).count();
    let seats =
        ground.free_bays.map(|free| (free + ground.start.seats.len()).saturating_sub(parities + caches));
    let space: ByteLength = sizes.iter().skip(parities).take(seats.unwrap_or(usize::MAX)).copied().sum();
    let in_bays = seats.map_or(String::new(), |seats| format!(" in {seats} bays"));
    let copies = wanted.copies as u64;
    let used: ByteLength = ground.start.of_role(Role::Data).map(|seat| seat.used).sum();
    let used = ByteLength::new(used.exact() / ground.start.copies(ground) as u64 * copies);
    let twice = if copies > 1 { format!(", {copies} copies of each") } else { String::new() };
    if used > space {
        return Some(format!(
            "the files take {used}{twice}, and the disks that are left beside parity hold {space}{in_bays}"
        ));
    }
    let (least, space) = (wanted.least_space(), ByteLength::new(space.exact() / copies));
    (space < least).then(|| {
        format!(
            "{least} for files are wanted, and the most that the disks give beside parity{in_bays} is {space}"
        )
    })
}

/// What a disk is needed for.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// A data member, whichever disk it is on.
    Member,
    /// A disk that is to hold data.
    Disk,
    /// Parity, or a cache.
    Other,
}

/// A disk of at least so much.
struct Need {
    least: ByteLength,
    kind: Kind,
}

impl Need {
    fn of(ground: &Ground, goal: &Goal) -> Option<Self> {
        let (least, kind) = match goal {
            Goal::Size { name, size } => {
                let seat = &ground.start.seats[ground.start.seat(name)?];
                (*size, if seat.role == Role::Data { Kind::Member } else { Kind::Other })
            }
            Goal::ParitySize(size) => (*size, Kind::Other),
            Goal::Holds { drive, role: Role::Data, .. } => (ground.drive(*drive).size, Kind::Disk),
            _ => return None,
        };
        Some(Self { least, kind })
    }
}

/// Two goals that nothing can reach together.
fn contradiction(goals: &[Goal]) -> Option<String> {
    let clash = |a: &Goal, b: &Goal| match (a, b) {
        (Goal::Parities(a), Goal::Parities(b)) => a != b,
        (Goal::Kind(a), Goal::Kind(b)) => a != b,
        (Goal::Without { name, .. }, Goal::Size { name: other, .. } | Goal::Holds { name: other, .. }) => {
            name == other
        }
        (Goal::Holds { drive, role, .. }, Goal::Holds { drive: other, role: another, .. }) => {
            drive == other && role != another
        }
        _ => false,
    };
    let mut pairs = goals.iter().flat_map(|a| goals.iter().map(move |b| (a, b)));
    let (a, b) = pairs.find(|(a, b)| clash(a, b))?;
    Some(format!("\"{a}\" and \"{b}\" contradict each other"))
}
