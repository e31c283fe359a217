//! Who sits where: the disks, the seats of a volume, and what holds of them.

use std::collections::BTreeSet;
use std::rc::Rc;

use jiff::civil::Date;

use crate::forecast::SpeedCurve;
use crate::pool::{Role, VolumeKind};
use crate::units::ByteLength;

/// Of a disk that takes the files of others at least so much stays free: a hundredth.
const STAYS_FREE: u64 = 100;

/// A disk, a member now or not.
#[derive(Clone, Debug)]
pub struct Drive {
    /// What it is called where it joins, unless somebody has that name.
    pub name: Rc<str>,
    /// The space it has for us.
    pub size: ByteLength,
    /// How fast it is.
    pub curve: SpeedCurve,
    /// It is there only from then on.
    pub from: Option<Date>,
    /// Where it is mounted.
    pub path: Option<String>,
    /// Where it sits in the case.
    pub bay: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
}

/// A position in [`Ground::drives`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct DriveId(u16);

impl DriveId {
    /// The drive at a position.
    pub const fn new(position: usize) -> Self {
        Self(position as u16)
    }

    /// Its position.
    pub const fn index(self) -> usize {
        self.0 as usize
    }
}

/// A place in the volume: a lane, a parity image or a cache, which outlives the disk that it is on.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Seat {
    /// The member's name.
    pub name: Rc<str>,
    /// What it does.
    pub role: Role,
    /// The disk it is on.
    pub drive: DriveId,
    /// What its files take; zero for parity, whose image is as long as the longest lane.
    pub used: ByteLength,
}

/// What a volume is at one moment.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Standing {
    /// How it lays its files over its disks.
    pub kind: VolumeKind,
    /// The seats, by name.
    pub seats: Vec<Seat>,
    /// Parity has everything there is.
    pub synced: bool,
    /// It can be reached only from then on.
    pub day: Option<Date>,
    /// Disks that were emptied on the way: none is twice, which would only move files about.
    pub emptied: Vec<DriveId>,
}

/// What does not change on the way.
#[derive(Clone, Debug)]
pub struct Ground {
    /// All disks: members, and those that can become members.
    pub drives: Vec<Drive>,
    /// What the volume is now.
    pub start: Standing,
    /// What parity does not have yet.
    pub unsynced: ByteLength,
    /// Empty bays, where the case is known.
    pub free_bays: Option<usize>,
    /// So many disks may die at every moment without losing a file.
    pub floor: usize,
    /// On so many disks each file lies while the volume is mirrored.
    pub copies: usize,
    /// Members that stay: the fast disks of a tiered volume.
    pub stay: BTreeSet<Rc<str>>,
}

impl Ground {
    /// A drive.
    pub fn drive(&self, id: DriveId) -> &Drive {
        &self.drives[id.index()]
    }

    /// The space of the drive that a seat is on.
    pub fn size(&self, seat: &Seat) -> ByteLength {
        self.drive(seat.drive).size
    }

    /// What a data disk takes of the files of others.
    pub(super) fn room(&self, seat: &Seat) -> ByteLength {
        let size = self.size(seat).exact();
        ByteLength::new(size - size / STAYS_FREE).minus(seat.used)
    }

    /// How many more disks the case takes.
    pub(super) fn bays_left(&self, standing: &Standing) -> usize {
        let Some(free) = self.free_bays else { return usize::MAX };
        (free + self.start.seats.len()).saturating_sub(standing.seats.len())
    }
}

impl Standing {
    /// The seats of a role.
    pub fn of_role(&self, role: Role) -> impl Iterator<Item = &Seat> {
        self.seats.iter().filter(move |seat| seat.role == role)
    }

    /// The position of a seat.
    pub fn seat(&self, name: &str) -> Option<usize> {
        self.seats.iter().position(|seat| &*seat.name == name)
    }

    /// On how many disks each file lies.
    pub fn copies(&self, ground: &Ground) -> usize {
        if self.kind == VolumeKind::Mirrored { ground.copies } else { 1 }
    }

    /// How many disks may die, whichever they are, without losing a file.
    ///
    /// Copies and parity do not add up: where the disks with all copies of a file die, parity has as many lanes to solve in the
    /// same rows, at the worst.
    pub fn guard(&self, ground: &Ground) -> usize {
        self.parities().max(self.copies(ground) - 1)
    }

    /// How many parity drives there are.
    pub fn parities(&self) -> usize {
        self.of_role(Role::Parity).count()
    }

    /// How long a parity image is: as the longest lane.
    pub fn image(&self) -> ByteLength {
        self.of_role(Role::Data).map(|seat| seat.used).max().unwrap_or_default()
    }

    /// Space for files, each of them counted once.
    pub fn space(&self, ground: &Ground) -> ByteLength {
        let all: ByteLength = self.of_role(Role::Data).map(|seat| ground.size(seat)).sum();
        ByteLength::new(all.exact() / self.copies(ground) as u64)
    }

    /// Drives that are on no seat.
    pub fn spare(&self, ground: &Ground) -> impl Iterator<Item = DriveId> {
        (0..ground.drives.len())
            .map(DriveId::new)
            .filter(|id| self.seats.iter().all(|seat| seat.drive != *id))
    }

    /// The same seats are the same standing, in whatever order they came.
    pub fn put_in_order(&mut self) {
        self.seats.sort_by(|a, b| a.name.cmp(&b.name));
    }
}
