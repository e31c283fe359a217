//! What a step leads to, and where it is not allowed.

use super::standing::{DriveId, Ground, Seat, Standing};
use super::step::Step;
use crate::pool::Role;
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
                    Role::Data => self.parities() > 0,
                    Role::Parity => true,
                    Role::Cache => false,
                };
                (comes_back && self.parities() > ground.floor).then_some(())?;
            }
            Step::Vacate { seat } => after.vacate(ground, self.seat(seat)?)?,
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
        }
        (after.parities() >= ground.floor).then_some(after)
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
    fn vacate(&mut self, ground: &Ground, seat: usize) -> Option<()> {
        let left = self.seats.remove(seat);
        if left.role == Role::Parity {
            return Some(());
        }
        self.of_role(Role::Data).next()?;
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
