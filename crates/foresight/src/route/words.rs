//! What a step means for the hands and the keyboard.

use std::rc::Rc;

use sieve_core::pool::{Role, VolumeKind};
use sieve_core::route::{Drive, DriveId, Ground, Leg, Seat, Step};
use sieve_core::units::ByteLength;

use super::ground::Land;
use super::report::{DriveLine, StepLine};

/// So many characters of a serial number are told.
const TAIL: usize = 6;

/// Tells one step after the other: which disk is in which bay changes on the way.
pub(super) struct Teller<'a> {
    land: &'a Land,
    seats: Vec<Seat>,
    /// How many disks may die.
    guard: usize,
    /// The bay of each drive.
    bays: Vec<Option<String>>,
    free: Vec<String>,
}

impl<'a> Teller<'a> {
    pub(super) fn of(land: &'a Land) -> Self {
        let bays = land.ground.drives.iter().map(|drive| drive.bay.clone()).collect();
        let guard = land.ground.start.guard(&land.ground);
        Self { land, seats: land.ground.start.seats.clone(), guard, bays, free: land.bays.clone() }
    }

    pub(super) fn line(&mut self, number: usize, leg: &Leg) -> StepLine {
        let mut line = StepLine {
            number,
            does: "",
            member: String::new(),
            role: "",
            to: None,
            onto: None,
            before: Vec::new(),
            commands: Vec::new(),
            afterwards: Vec::new(),
            likely_seconds: leg.pass.likely.seconds(),
            cautious_seconds: leg.pass.cautious.seconds(),
            disk_seconds: leg.disk_time.seconds(),
            guard_during: leg.guard_during,
            guard_after: leg.guard_after,
            space_after_bytes: leg.space_after,
            not_before: leg.not_before,
        };
        match &leg.step {
            Step::Sync => {
                line.does = "sync";
                line.commands = vec![command(&["sync"])];
            }
            Step::Replace { seat, onto } => self.replace(&mut line, seat, *onto),
            Step::Exchange { seat, onto } => self.exchange(&mut line, seat, *onto),
            Step::Vacate { seat } => self.vacate(&mut line, seat),
            Step::Grow { name, role, drive } => self.grow(&mut line, name, *role, *drive),
            Step::Convert { to } => self.convert(&mut line, *to),
        }
        self.seats.clone_from(&leg.after.seats);
        self.guard = leg.guard_after;
        line
    }

    fn seat(&self, name: &str) -> &Seat {
        self.seats.iter().find(|seat| &*seat.name == name).expect("a step speaks of seats that are there")
    }

    fn drive(&self, id: DriveId) -> &'a Drive {
        self.land.ground.drive(id)
    }

    fn replace(&mut self, line: &mut StepLine, name: &str, onto: DriveId) {
        let seat = self.seat(name).clone();
        line.does = "replace";
        self.comes(line, onto);
        let path = path_of(self.drive(onto));
        let mut arguments = vec!["replace", name, "--onto", &path];
        let size = exact(self.drive(onto).size);
        if self.land.limited.iter().any(|limited| limited == name) {
            arguments.extend(["--capacity", &size]);
        }
        let bay = self.bays[onto.index()].clone();
        if let Some(bay) = &bay {
            arguments.extend(["--bay", bay]);
        }
        line.commands.push(command(&arguments));
        self.goes(line, seat.drive, &format!("the old {name}"));
        self.about(line, &seat, onto);
    }

    fn exchange(&mut self, line: &mut StepLine, name: &str, onto: DriveId) {
        let seat = self.seat(name).clone();
        line.does = "rebuild";
        let bay = self.bays[seat.drive.index()].take();
        let place = bay.as_deref().map_or(String::new(), |bay| format!(" out of bay {bay}"));
        line.before.push(format!("pull {name}{place}{}", tail(self.drive(seat.drive))));
        self.free.extend(bay);
        self.comes(line, onto);
        line.commands.push(command(&["rebuild", name, "--onto", &path_of(self.drive(onto))]));
        self.about(line, &seat, onto);
    }

    fn vacate(&mut self, line: &mut StepLine, name: &str) {
        let seat = self.seat(name).clone();
        line.does = "vacate";
        if seat.role == Role::Cache {
            line.commands.push(command(&["settle", "--then-sync"]));
        }
        line.commands.push(command(&["vacate", name]));
        self.goes(line, seat.drive, name);
        line.member = name.into();
        line.role = seat.role.word();
    }

    fn grow(&mut self, line: &mut StepLine, name: &str, role: Role, drive: DriveId) {
        line.does = "grow";
        self.comes(line, drive);
        let path = path_of(self.drive(drive));
        let mut arguments = vec!["grow", name, "--as", role.word()];
        if !self.land.in_file.iter().any(|known| known == name) {
            arguments.extend(["--at", &path]);
        }
        if self.land.names_volume {
            arguments.extend(["--volume", &self.land.volume]);
        }
        line.commands.push(command(&arguments));
        line.member = name.into();
        line.role = role.word();
        line.onto = Some(drive_line(self.drive(drive), self.bays[drive.index()].as_deref()));
    }

    fn convert(&self, line: &mut StepLine, to: VolumeKind) {
        line.does = "convert";
        line.member.clone_from(&self.land.volume);
        line.to = Some(to.word());
        let guard = line.guard_after.to_string();
        let mut arguments = vec!["convert", &self.land.volume, "--to", to.word()];
        if line.guard_after < self.guard {
            arguments.extend(["--never-below", &guard]);
        }
        line.commands = vec![command(&arguments), command(&["sync"])];
    }

    fn about(&self, line: &mut StepLine, seat: &Seat, onto: DriveId) {
        line.member = seat.name.to_string();
        line.role = seat.role.word();
        line.onto = Some(drive_line(self.drive(onto), self.bays[onto.index()].as_deref()));
    }

    /// A disk comes into the case; one that was a member before is emptied.
    fn comes(&mut self, line: &mut StepLine, id: DriveId) {
        let drive = self.drive(id);
        let was_member = self.land.ground.start.seats.iter().any(|seat| seat.drive == id);
        if was_member {
            line.before.push(format!(
                "make a new filesystem on the disk that was {}{}: what it held is elsewhere now",
                drive.name,
                tail(drive)
            ));
        }
        if self.bays[id.index()].is_none() && !self.free.is_empty() {
            let bay = self.free.remove(0);
            let which = if was_member {
                format!("that disk, {},", drive.size)
            } else {
                format!("{}, {},", drive.name, drive.size)
            };
            line.before.push(format!("{which} goes into bay {bay}"));
            self.bays[id.index()] = Some(bay);
        }
    }

    /// A disk is no member any more; where bays are short, it is pulled.
    fn goes(&mut self, line: &mut StepLine, id: DriveId, called: &str) {
        match self.bays[id.index()].take() {
            Some(bay) => {
                line.afterwards.push(format!("pull {called} out of bay {bay}{}", tail(self.drive(id))));
                self.free.insert(0, bay);
            }
            None => line.afterwards.push(format!("{called} is free{}", tail(self.drive(id)))),
        }
    }
}

fn command(arguments: &[&str]) -> Vec<String> {
    std::iter::once("zinc-sieve").chain(arguments.iter().copied()).map(String::from).collect()
}

/// Where a disk is mounted, or would be by a script that `prepare` prints.
fn path_of(drive: &Drive) -> String {
    drive.path.clone().unwrap_or_else(|| format!("/mnt/{}", drive.name))
}

fn exact(size: ByteLength) -> String {
    format!("{} B", size.exact())
}

fn serial_tail(drive: &Drive) -> Option<String> {
    let serial: Vec<char> = drive.serial.as_deref()?.chars().collect();
    Some(serial[serial.len().saturating_sub(TAIL)..].iter().collect())
}

fn tail(drive: &Drive) -> String {
    serial_tail(drive).map_or(String::new(), |tail| format!(" (serial …{tail})"))
}

pub(super) fn drive_line(drive: &Drive, bay: Option<&str>) -> DriveLine {
    DriveLine {
        name: drive.name.to_string(),
        size_bytes: drive.size,
        path: path_of(drive),
        bay: bay.map(Into::into),
        serial_tail: serial_tail(drive),
        from: drive.from,
    }
}

/// A step in a few words.
pub(super) fn short(ground: &Ground, leg: &Leg) -> String {
    let drive = |id: &DriveId| -> Rc<str> { ground.drive(*id).name.clone() };
    match &leg.step {
        Step::Sync => "sync".into(),
        Step::Replace { seat, onto } => format!("replace {seat} by {}", drive(onto)),
        Step::Exchange { seat, onto } => format!("pull {seat}, rebuild it onto {}", drive(onto)),
        Step::Vacate { seat } => format!("vacate {seat}"),
        Step::Grow { name, role, .. } => format!("{name} joins as {}", role.word()),
        Step::Convert { to } => format!("become {}", to.word()),
    }
}
