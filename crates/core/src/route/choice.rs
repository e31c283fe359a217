//! Which steps are tried from a standing. Of what is alike only one, since which of two equal disks is taken changes nothing;
//! and what serves no goal, neither by itself nor by the bay, the disk or the room that it lends, is not tried at all: without
//! such a step the same route is shorter.

use std::collections::BTreeSet;
use std::rc::Rc;

use jiff::civil::Date;

use super::goal::{Goal, Wanted};
use super::standing::{Drive, DriveId, Ground, Seat, Standing};
use super::step::Step;
use crate::pool::{Role, VolumeKind};
use crate::units::ByteLength;

/// Of members that are alike and that no goal names, so many are tried: those with the fewest files, which cost least to move.
const OF_A_KIND: usize = 2;

/// Which steps may be taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ways {
    /// All of them.
    All,
    /// Disks are only exchanged by pulling them, as one does without a free bay or a plan.
    Pulling,
}

/// What matters of a standing: seats with their names (those of members that were there at the start), roles, kinds of drives
/// and files; the kind of the volume; whether it is synced; its day; the kinds of drives that were emptied.
pub(super) type Essence =
    (Vec<(Option<Rc<str>>, Role, DriveId, ByteLength)>, VolumeKind, bool, Option<Date>, Vec<DriveId>);

/// What is tried.
pub(super) struct Choice {
    ways: Ways,
    /// Drives that goals name: no other stands in for them.
    apart: BTreeSet<DriveId>,
    /// Members that goals name.
    named: BTreeSet<Rc<str>>,
    /// Members for which another, which is like them and has fewer files, is tried.
    kept_out: BTreeSet<Rc<str>>,
    /// The kind that is wanted.
    kind: VolumeKind,
    /// What is wanted.
    serves: Serves,
}

/// What a step can be good for.
struct Serves {
    /// More space for files.
    space: bool,
    /// Room for files that have to go elsewhere.
    room: bool,
    /// Another number of parity drives, or other ones.
    parity: bool,
    /// Bays, of which there are too few for what joins and for a disk beside the one that it takes over from: two disks may
    /// become one.
    bays: bool,
    /// A disk of at least so much, for another seat.
    disk_of: Option<ByteLength>,
}

impl Serves {
    fn of(ground: &Ground, goals: &[Goal]) -> Self {
        let is_mirrored = ground.start.kind == VolumeKind::Mirrored;
        let loses_copies = |kind: VolumeKind| is_mirrored && kind != VolumeKind::Mirrored;
        let is_parity = |drive: &DriveId| ground.start.of_role(Role::Parity).any(|seat| seat.drive == *drive);
        let largest = ground.start.of_role(Role::Data).map(|seat| ground.size(seat)).max();
        let disk_of = goals.iter().filter_map(|goal| match goal {
            Goal::Size { size, .. } | Goal::ParitySize(size) => Some(*size),
            Goal::Parities(_) => largest,
            Goal::Holds { drive, .. } | Goal::Without { drive, .. } => {
                is_parity(drive).then_some(largest.unwrap_or_default())
            }
            Goal::Kind(kind) => loses_copies(*kind).then_some(largest.unwrap_or_default()),
            Goal::Space(_) => None,
        });
        let more = Wanted::of(ground, goals).final_parities().saturating_sub(ground.start.parities());
        Self {
            bays: ground.free_bays.is_some_and(|free| free < 1 + more),
            space: goals.iter().any(|goal| match goal {
                Goal::Space(_) => true,
                Goal::Kind(VolumeKind::Mirrored) => !is_mirrored && !has_room_for_copies(ground, goals),
                _ => false,
            }),
            room: goals.iter().any(|goal| matches!(goal, Goal::Without { .. } | Goal::Holds { .. })),
            // Where files may be guarded less, parity may be let go and computed anew.
            parity: ground.floor < ground.start.guard(ground)
                || is_mirrored && ground.start.parities() > 0
                || goals.iter().any(|goal| match goal {
                    Goal::Parities(_) | Goal::ParitySize(_) => true,
                    Goal::Holds { drive, role, .. } => *role == Role::Parity || is_parity(drive),
                    Goal::Without { drive, .. } => is_parity(drive),
                    Goal::Kind(kind) => loses_copies(*kind),
                    _ => false,
                }),
            disk_of: disk_of.min(),
        }
    }
}

impl Choice {
    pub(super) fn of(ground: &Ground, goals: &[Goal], ways: Ways) -> Self {
        let apart: BTreeSet<DriveId> = goals.iter().filter_map(Goal::drive).collect();
        let named: BTreeSet<Rc<str>> = goals.iter().filter_map(Goal::member).map(Rc::from).collect();
        let is_named = |seat: &Seat| named.contains(&seat.name) || apart.contains(&seat.drive);
        let mut members: Vec<_> = ground.start.of_role(Role::Data).filter(|seat| !is_named(seat)).collect();
        members.sort_by_key(|seat| seat.used);
        let is_kept_out = |(position, seat): &(usize, &&Seat)| {
            let before = members[..*position].iter();
            let alike =
                before.filter(|other| is_alike(ground.drive(other.drive), ground.drive(seat.drive))).count();
            alike >= OF_A_KIND
        };
        let kept_out =
            members.iter().enumerate().filter(is_kept_out).map(|(_, seat)| seat.name.clone()).collect();
        let kind = goals.iter().find_map(Goal::kind).unwrap_or(ground.start.kind);
        Self { ways, apart, named, kept_out, kind, serves: Serves::of(ground, goals) }
    }

    /// The steps from a standing, also such as are not allowed.
    pub(super) fn steps(&self, ground: &Ground, standing: &Standing) -> Vec<Step> {
        if !standing.synced {
            return vec![Step::Sync];
        }
        let mut steps = Vec::new();
        let seats = || standing.seats.iter().filter(|seat| !self.kept_out.contains(&seat.name));
        for drive in self.unlike(ground, standing) {
            for seat in seats().filter(|seat| self.is_worth_moving(ground, seat, drive)) {
                let (name, onto) = (seat.name.clone(), drive);
                if self.ways == Ways::All {
                    steps.push(Step::Replace { seat: name.clone(), onto });
                }
                if standing.guard(ground) > ground.floor || seat.role == Role::Parity {
                    steps.push(Step::Exchange { seat: name, onto });
                }
            }
            let name = free_name(standing, &ground.drive(drive).name);
            let roles = [Role::Data, Role::Parity].into_iter();
            steps.extend(
                roles
                    .filter(|role| self.is_worth_joining(ground, standing, drive, *role))
                    .map(|role| Step::Grow { name: name.clone(), role, drive }),
            );
        }
        let leaves = seats().filter(|seat| self.is_worth_leaving(ground, standing, seat));
        steps.extend(leaves.map(|seat| Step::Vacate { seat: seat.name.clone() }));
        if standing.kind != self.kind {
            steps.push(Step::Convert { to: self.kind });
        }
        steps
    }

    fn lends_disk(&self, ground: &Ground, seat: &Seat) -> bool {
        self.serves.disk_of.is_some_and(|least| ground.size(seat) >= least)
    }

    fn is_named(&self, seat: &Seat) -> bool {
        self.named.contains(&seat.name) || self.apart.contains(&seat.drive)
    }

    fn is_worth_moving(&self, ground: &Ground, seat: &Seat, onto: DriveId) -> bool {
        self.apart.contains(&onto)
            || seat.role == Role::Parity
            || self.is_named(seat)
            || self.serves.space
            || self.serves.bays
            || self.lends_disk(ground, seat)
    }

    fn is_worth_leaving(&self, ground: &Ground, standing: &Standing, seat: &Seat) -> bool {
        let lends = self.lends_disk(ground, seat) || self.serves.bays || ground.bays_left(standing) == 0;
        match seat.role {
            Role::Parity => self.serves.parity || lends,
            Role::Data | Role::Cache => self.is_named(seat) || lends,
        }
    }

    fn is_worth_joining(&self, ground: &Ground, standing: &Standing, drive: DriveId, role: Role) -> bool {
        match role {
            Role::Parity => self.serves.parity,
            _ => self.is_asked_for(ground, standing, drive),
        }
    }

    /// A disk joins with the data disks only if a goal wants it or space, or if it was one of them, or if something that has to
    /// go finds no room: one more disk that nobody asked for is one more that can die.
    pub(super) fn is_asked_for(&self, ground: &Ground, standing: &Standing, drive: DriveId) -> bool {
        let was_data = ground.start.of_role(Role::Data).any(|seat| seat.drive == drive);
        let named = |seat: &&Seat| self.is_named(seat);
        let goes = standing.of_role(Role::Data).filter(named).map(|seat| seat.used).max();
        let others = standing.of_role(Role::Data).filter(|seat| !self.is_named(seat));
        let room: ByteLength = others.map(|seat| ground.room(seat)).sum();
        let lacks_room = self.serves.room && goes.is_some_and(|goes| goes > room);
        self.serves.space || self.apart.contains(&drive) || was_data || lacks_room
    }

    /// What a standing is as far as it matters: of drives that are alike, which one is where does not.
    pub(super) fn essence(&self, ground: &Ground, standing: &Standing) -> Essence {
        let kind = |id: DriveId| {
            let alike = |other: &DriveId| {
                !self.apart.contains(other) && is_alike(ground.drive(*other), ground.drive(id))
            };
            let all = (0..ground.drives.len()).map(DriveId::new);
            if self.apart.contains(&id) { id } else { all.into_iter().find(alike).unwrap_or(id) }
        };
        let joined = |seat: &Seat| ground.start.seat(&seat.name).is_none();
        let mut seats: Vec<_> = standing
            .seats
            .iter()
            .map(|seat| {
                let name = (!joined(seat)).then(|| seat.name.clone());
                (name, seat.role, kind(seat.drive), seat.used)
            })
            .collect();
        seats.sort_by(|a, b| (&a.0, a.2, a.3, a.1.word()).cmp(&(&b.0, b.2, b.3, b.1.word())));
        let mut emptied: Vec<DriveId> = standing.emptied.iter().map(|id| kind(*id)).collect();
        emptied.sort_unstable();
        (seats, standing.kind, standing.synced, standing.day, emptied)
    }

    /// Drives that are on no seat, of those that are alike only the first.
    fn unlike(&self, ground: &Ground, standing: &Standing) -> Vec<DriveId> {
        let mut found: Vec<DriveId> = Vec::new();
        for id in standing.spare(ground) {
            let stands_in = |known: &DriveId| {
                !self.apart.contains(known)
                    && standing.emptied.contains(known) == standing.emptied.contains(&id)
                    && is_alike(ground.drive(*known), ground.drive(id))
            };
            if self.apart.contains(&id) || !found.iter().any(stands_in) {
                found.push(id);
            }
        }
        found
    }
}

fn is_alike(a: &Drive, b: &Drive) -> bool {
    a.size == b.size && a.from == b.from && a.curve == b.curve
}

/// Whether further copies find room on the disks that no goal takes away.
fn has_room_for_copies(ground: &Ground, goals: &[Goal]) -> bool {
    let mut left = ground.start.clone();
    let goes = |seat: &Seat| {
        goals.iter().any(|goal| match goal {
            Goal::Without { drive, .. } | Goal::Holds { drive, role: Role::Parity, .. } => {
                seat.drive == *drive
            }
            _ => false,
        })
    };
    while let Some(seat) = left.seats.iter().position(|seat| seat.role == Role::Data && goes(seat)) {
        if left.vacate(ground, seat).is_none() {
            return false;
        }
    }
    left.convert(ground, VolumeKind::Mirrored).is_some()
}

/// A name nobody has.
fn free_name(standing: &Standing, wanted: &Rc<str>) -> Rc<str> {
    let mut name = wanted.clone();
    let mut count = 2;
    while standing.seat(&name).is_some() {
        name = format!("{wanted}-{count}").into();
        count += 1;
    }
    name
}
