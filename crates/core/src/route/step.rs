//! The steps there are, and how much each reads and writes.

use std::collections::BTreeMap;
use std::rc::Rc;

use super::standing::{DriveId, Ground, Seat, Standing};
use crate::forecast::{Duration, Forecast, Participant, Pass, assumed_processor, forecast};
use crate::pool::{Role, VolumeKind};
use crate::units::ByteLength;

/// What is done to a volume.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Step {
    /// Parity is brought up to the present.
    Sync,
    /// What is on a disk is copied onto another, which takes its place; both are there meanwhile.
    Replace {
        /// The member.
        seat: Rc<str>,
        /// The new disk.
        onto: DriveId,
    },
    /// A disk is pulled, another comes into its bay, and what was on it is computed from the others: meanwhile one disk fewer
    /// guards the files.
    Exchange {
        /// The member.
        seat: Rc<str>,
        /// The new disk.
        onto: DriveId,
    },
    /// A disk leaves, after its files went to the others and a sync passed them there.
    Vacate {
        /// The member.
        seat: Rc<str>,
    },
    /// A disk joins, empty.
    Grow {
        /// What it is called.
        name: Rc<str>,
        /// What it does.
        role: Role,
        /// The disk.
        drive: DriveId,
    },
    /// The volume becomes another kind, and a sync makes the copies that are missing, or frees those that are one too many.
    Convert {
        /// The kind.
        to: VolumeKind,
    },
}

impl Step {
    /// How many disks may die while it runs without losing a file.
    pub fn guard_during(&self, ground: &Ground, before: &Standing, after: &Standing) -> usize {
        match self {
            Self::Exchange { seat, .. } if named(before, seat).role == Role::Parity => {
                (before.parities() - 1).max(before.copies(ground) - 1)
            }
            Self::Exchange { .. } => before.guard(ground).saturating_sub(1),
            _ => before.guard(ground).min(after.guard(ground)),
        }
    }

    /// What each disk reads and writes.
    pub(super) fn work(
        &self,
        ground: &Ground,
        before: &Standing,
        after: &Standing,
    ) -> BTreeMap<DriveId, u64> {
        let mut work = Work(BTreeMap::new());
        match self {
            // What is new is read where it is, and parity is read and written there. Which disk it is on is not asked.
            Self::Sync => {
                before.of_role(Role::Parity).for_each(|seat| work.add(seat, ground.unsynced, 2));
                before.of_role(Role::Data).take(1).for_each(|seat| work.add(seat, ground.unsynced, 1));
            }
            Self::Replace { seat, .. } => {
                let (old, new) = (named(before, seat), named(after, seat));
                let amount = if old.role == Role::Parity { before.image() } else { old.used };
                work.add(old, amount, 1);
                // It is read again, to see that it is the same.
                work.add(new, amount, if old.role == Role::Parity { 1 } else { 2 });
            }
            Self::Exchange { seat, .. } => {
                let (old, new) = (named(before, seat), named(after, seat));
                let needs_parity = old.role == Role::Data;
                let amount = if needs_parity { old.used } else { before.image() };
                let others = before.seats.iter().filter(|other| other.name != old.name);
                for other in others.filter(|other| other.role == Role::Data) {
                    work.add(other, other.used.min(amount), 1);
                }
                if needs_parity && before.kind != VolumeKind::Mirrored {
                    before.of_role(Role::Parity).take(1).for_each(|parity| work.add(parity, amount, 1));
                }
                work.add(new, amount, 1);
            }
            Self::Vacate { seat } => vacated(&mut work, before, after, seat),
            Self::Grow { role: Role::Parity, name, .. } => {
                before.of_role(Role::Data).for_each(|seat| work.add(seat, seat.used, 1));
                work.add(named(after, name), before.image(), 1);
            }
            Self::Grow { .. } => {}
            Self::Convert { .. } => converted(&mut work, before, after),
        }
        work.0
    }

    /// Milliseconds that disks are busy with it, all of them added up.
    pub(super) fn disk_milliseconds(&self, ground: &Ground, before: &Standing, after: &Standing) -> u64 {
        let work = self.work(ground, before, after);
        work.into_iter().map(|(drive, bytes)| milliseconds(ground, drive, bytes)).sum()
    }

    /// How long it takes, and how long it keeps disks busy.
    pub(super) fn durations(
        &self,
        ground: &Ground,
        before: &Standing,
        after: &Standing,
    ) -> (Forecast, Duration) {
        let busy = self.disk_milliseconds(ground, before, after);
        let participant = |(drive, bytes): (DriveId, u64)| {
            let drive = ground.drive(drive);
            let end = ByteLength::new(bytes);
            Participant {
                name: drive.name.to_string(),
                end,
                capacity: drive.size.max(end),
                curve: drive.curve.clone(),
                link: None,
            }
        };
        let disks = self.work(ground, before, after).into_iter().map(participant).collect();
        let pass = Pass { disks, links: Vec::new(), processor: Some(assumed_processor()) };
        (forecast(&pass), Duration::from_seconds(busy as f64 / 1e3))
    }
}

/// How long a drive is busy with so many bytes.
pub(super) fn milliseconds(ground: &Ground, drive: DriveId, bytes: u64) -> u64 {
    (ground.drive(drive).curve.mean().seconds_for(ByteLength::new(bytes)) * 1e3) as u64
}

/// Bytes that drives read and write.
struct Work(BTreeMap<DriveId, u64>);

impl Work {
    fn add(&mut self, seat: &Seat, amount: ByteLength, times: u64) {
        let bytes = amount.exact().saturating_mul(times);
        if bytes > 0 {
            *self.0.entry(seat.drive).or_default() += bytes;
        }
    }
}

fn named<'a>(standing: &'a Standing, name: &str) -> &'a Seat {
    standing.seats.iter().find(|seat| &*seat.name == name).expect("a step speaks of seats that are there")
}

/// Files are read, written elsewhere and looked at there; parity takes them in there and gives them up here.
fn vacated(work: &mut Work, before: &Standing, after: &Standing, seat: &str) {
    let left = named(before, seat);
    if left.role == Role::Parity {
        return;
    }
    let guarded = if left.role == Role::Data { 2 } else { 1 };
    work.add(left, left.used, guarded);
    for taking in after.of_role(Role::Data) {
        work.add(taking, taking.used.minus(named(before, &taking.name).used), 3);
    }
    for parity in before.of_role(Role::Parity) {
        work.add(parity, left.used, 2 * guarded);
    }
}

/// Each further copy is read once, written and read back; what becomes surplus is compared with what stays. Parity takes in what is
/// new, and gives up what goes.
fn converted(work: &mut Work, before: &Standing, after: &Standing) {
    let mut moved = ByteLength::ZERO;
    for new in after.of_role(Role::Data) {
        let old = named(before, &new.name);
        if after.kind == VolumeKind::Mirrored {
            work.add(old, old.used, 1);
            work.add(new, new.used.minus(old.used), 2);
            moved = moved.plus(new.used.minus(old.used));
        } else {
            work.add(old, new.used.min(old.used.minus(new.used)), 1);
            moved = moved.plus(old.used.minus(new.used));
        }
    }
    before.of_role(Role::Parity).for_each(|parity| work.add(parity, moved, 2));
}
