//! What a step leads to, and where it is not allowed.

use super::standing::{DriveId, Ground, Seat, Standing};
use super::step::Step;
use crate::pool::{Role, VolumeKind};
use crate::units::ByteLength;

impl Standing {
    /// What a step leads to; nothing where it is not allowed.
    pub fn after(&self, ground: &Ground, step: &Step) -> Option<Self> {
        if !self.synced && *step != Step::Sync {
            return None;
        }
        let mut after = self.clone();
        match step {
            Step::Sync => {
                after.synced = true;
                return (!self.synced).then_some(after);
            }
            Step::Replace { seat, onto } => {
                after.put_on(ground, self.seat(seat)?, *onto)?;
                (ground.bays_left(self) >= 1).then_some(())?;
            }
            Step::Exchange { seat, onto } => {
                let seat = self.seat(seat)?;
                after.put_on(ground, seat, *onto)?;
                let comes_back = match self.seats[seat].role {
                    Role::Data => self.guard(ground) > 0,
                    Role::Parity => true,
                    Role::Cache => false,
                };
                (comes_back && step.guard_during(ground, self, &after) >= ground.floor).then_some(())?;
            }
            Step::Vacate { seat } => {
                (!ground.stay.contains(seat)).then_some(())?;
                after.vacate(ground, self.seat(seat)?)?;
            }
            Step::Grow { name, role, drive } => {
                (ground.bays_left(self) >= 1 && self.seat(name).is_none()).then_some(())?;
                after.seats.push(Seat {
                    name: name.clone(),
                    role: *role,
                    drive: *drive,
                    used: ByteLength::ZERO,
                });
                after.arrive(ground, *drive);
                let seat = after.seats.len() - 1;
                (after.is_within_slots(*role) && after.is_covered(ground, seat)).then_some(())?;
                after.put_in_order();
            }
            Step::Convert { to } => after.convert(ground, *to)?,
        }
        (after.guard(ground) >= ground.floor).then_some(after)
    }

    /// It becomes another kind: a mirrored one gets further copies, each on a disk that has none of the file; of one that was
    /// mirrored one copy stays.
    pub(super) fn convert(&mut self, ground: &Ground, to: VolumeKind) -> Option<()> {
        let from = std::mem::replace(&mut self.kind, to);
        (from != to).then_some(())?;
        let copies = ground.copies as u64;
        if to == VolumeKind::Mirrored {
            (self.of_role(Role::Data).count() >= ground.copies).then_some(())?;
            let room: u128 = self.of_role(Role::Data).map(|s| u128::from(ground.room(s).exact())).sum();
            let fits = |seat: &Seat| {
                let elsewhere = room - u128::from(ground.room(seat).exact());
                u128::from(seat.used.exact()) * u128::from(copies - 1) <= elsewhere
            };
            self.of_role(Role::Data).all(fits).then_some(())?;
            let used: ByteLength = self.of_role(Role::Data).map(|seat| seat.used).sum();
            self.pour(ground, ByteLength::new(used.exact().saturating_mul(copies - 1)))?;
        } else if from == VolumeKind::Mirrored {
            for seat in self.seats.iter_mut().filter(|seat| seat.role == Role::Data) {
                seat.used = ByteLength::new(seat.used.exact().div_ceil(copies));
            }
        }
        Some(())
    }

    /// A seat goes on on another drive.
    fn put_on(&mut self, ground: &Ground, seat: usize, onto: DriveId) -> Option<()> {
        self.seats[seat].drive = onto;
        self.arrive(ground, onto);
        let needs = if self.seats[seat].role == Role::Parity { self.image() } else { self.seats[seat].used };
        (ground.drive(onto).size >= needs && self.is_covered(ground, seat)).then_some(())
    }

    fn arrive(&mut self, ground: &Ground, drive: DriveId) {
        self.day = self.day.max(ground.drive(drive).from);
    }

    fn is_within_slots(&self, role: Role) -> bool {
        self.of_role(role).count() <= role.slots()
    }

    /// A parity drive is at least as large as the largest data disk.
    fn is_covered(&self, ground: &Ground, seat: usize) -> bool {
        let size = ground.size(&self.seats[seat]);
        match self.seats[seat].role {
            Role::Data => self.of_role(Role::Parity).all(|parity| ground.size(parity) >= size),
            Role::Parity => self.of_role(Role::Data).all(|data| ground.size(data) <= size),
            Role::Cache => true,
        }
    }

    /// A seat goes; its files go to the data disks that are left.
    pub(super) fn vacate(&mut self, ground: &Ground, seat: usize) -> Option<()> {
        let left = self.seats.remove(seat);
        if left.role == Role::Parity {
            return Some(());
        }
        (self.of_role(Role::Data).count() >= self.copies(ground)).then_some(())?;
        let place = self.emptied.binary_search(&left.drive).err()?;
        self.emptied.insert(place, left.drive);
        self.pour(ground, left.used)
    }

    /// Files go to the emptiest disk, one after the other: in the end as many disks as take part have the same space free.
    fn pour(&mut self, ground: &Ground, amount: ByteLength) -> Option<()> {
        let mut room: Vec<(u64, usize)> = (0..self.seats.len())
            .filter(|seat| self.seats[*seat].role == Role::Data)
            .map(|seat| (ground.room(&self.seats[seat]).exact(), seat))
            .collect();
        room.sort_by(|a, b| b.cmp(a));
        let mut left = amount.exact();
        if room.iter().map(|(free, _)| u128::from(*free)).sum::<u128>() < u128::from(left) {
            return None;
        }
        let mut level = room.first().map_or(0, |(free, _)| *free);
        for taking in 1..=room.len() {
            let next = room.get(taking).map_or(0, |(free, _)| *free);
            let drop = (level - next).min(left.div_ceil(taking as u64));
            level -= drop;
            left = left.saturating_sub(drop * taking as u64);
            if left == 0 {
                break;
            }
        }
        for (free, seat) in room.into_iter().filter(|(free, _)| *free > level) {
            self.seats[seat].used = self.seats[seat].used.plus(ByteLength::new(free - level));
        }
        Some(())
    }
}
