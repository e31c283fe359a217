//! Recognising members: by the label bound to its filesystem, never by the path alone.

use std::path::Path;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::path::RelPath;
use sieve_core::pool::{DiskSpec, Media};
use sieve_core::units::ByteLength;
use uuid::Uuid;

use sieve_catalogue::disks::{DiskRow, retired_at};
use sieve_catalogue::label;
use sieve_catalogue::label::{Label, Role};
use sieve_catalogue::replica;
use sieve_catalogue::replica::Stamp;
use sieve_catalogue::{Catalogue, objects};
use sieve_disk::machine::Machine;
use sieve_disk::{Disk, Filesystem};
use sieve_disk::{Error, Kind, Result};

/// What is found where a member should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum State {
    /// The member itself.
    Present,
    /// It is not there yet: it takes part in every calculation and in no action.
    OnPaper,
    /// It is not there.
    Missing {
        /// What is in its place.
        at: Place,
    },
    /// The pool file gives it no path.
    NoPath,
    /// There is another member of this pool.
    WrongDisk {
        /// Which.
        found: String,
    },
    /// There is a member of another pool.
    OtherPool {
        /// Its name.
        found: String,
    },
    /// The label is right and the filesystem is not: a copy of the disk.
    Clone,
    /// Another disk of the pool file shows the same label.
    ClaimedTwice {
        /// Which.
        other: String,
    },
    /// It was replaced by another disk, and comes back.
    Replaced,
    /// It is the member as it was some time ago: an older copy was put back.
    OlderCopy {
        /// The number of the checkpoint it shows.
        found: u64,
        /// The number of the checkpoint that was written to it.
        expected: u64,
    },
    /// The label or the disk cannot be read.
    Unreadable {
        /// Why.
        why: String,
    },
}

/// What is where a missing disk should be.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// No folder.
    Nothing,
    /// An empty folder, as it is left when nothing is mounted.
    EmptyFolder,
    /// A folder with something else in it.
    OtherFolder,
}

impl Place {
    fn of(disk: &dyn Disk) -> Self {
        let is_empty = disk.list(&RelPath::ROOT).is_ok_and(|names| names.is_empty());
        if is_empty { Self::EmptyFolder } else { Self::OtherFolder }
    }

    const fn words(self) -> &'static str {
        match self {
            Self::Nothing => "does not exist",
            Self::EmptyFolder => "is an empty folder: nothing is mounted there",
            Self::OtherFolder => "is a folder without its label: something else is there",
        }
    }
}

impl State {
    /// The word for tables.
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Present => "present",
            Self::OnPaper => "on paper",
            Self::Missing { .. } => "missing",
            Self::NoPath => "no path",
            Self::WrongDisk { .. } => "wrong disk",
            Self::OtherPool { .. } => "other pool",
            Self::Clone => "clone",
            Self::ClaimedTwice { .. } => "claimed twice",
            Self::Replaced => "replaced",
            Self::OlderCopy { .. } => "older copy",
            Self::Unreadable { .. } => "unreadable",
        }
    }

    /// Whether the member's files are there.
    pub const fn is_usable(&self) -> bool {
        matches!(self, Self::Present | Self::OlderCopy { .. })
    }
}

/// A member and what was found of it.
#[derive(Clone)]
pub struct Member {
    /// What the catalogue knows.
    pub row: DiskRow,
    /// What the pool file says.
    pub spec: Option<DiskSpec>,
    /// What was found.
    pub state: State,
    /// The newest replica of the catalogue on it.
    pub replica: Option<Stamp>,
    /// The disk, when it is usable.
    pub disk: Option<Arc<dyn Disk>>,
    /// Its filesystem, when it is usable.
    pub filesystem: Option<Filesystem>,
}

/// Room that stays free on a disk for the label, folders and what the filesystem itself writes down.
const OWN_NEEDS: ByteLength = ByteLength::new(1 << 20);

impl Member {
    /// Whether it is a disk that turns, as far as is known.
    pub fn turns(&self) -> bool {
        self.spec.as_ref().is_none_or(|spec| spec.media.is_none_or(|media| media == Media::Hdd))
    }

    /// The disk, for something that cannot do without.
    ///
    /// # Errors
    /// With the state and the advice, when it is not there.
    pub fn usable(&self) -> Result<&Arc<dyn Disk>> {
        self.disk.as_ref().filter(|_| self.state.is_usable()).ok_or_else(|| self.refusal())
    }

    /// The disk, for writing.
    ///
    /// # Errors
    /// When it is not there, or takes no writes.
    pub fn writable(&self) -> Result<&Arc<dyn Disk>> {
        let disk = self.usable()?;
        if self.filesystem.as_ref().is_some_and(|f| f.read_only) {
            let message = format!("disk {} ({}) is mounted read-only", self.row.name, disk.root().display());
            return Err(Error::new(Kind::Safety, "disk.read-only", message).remedy(
                "see in the system's log why; after repair, remount it for writing and run this again",
            ));
        }
        Ok(disk)
    }

    /// The state in words, as an error.
    pub fn refusal(&self) -> Error {
        let name = &self.row.name;
        let place = self.spec.as_ref().and_then(|s| s.path.as_deref()).unwrap_or("no path");
        let (message, remedy) = match &self.state {
            State::Present => (format!("disk {name} is present"), String::new()),
            State::OnPaper => (format!("disk {name} is on paper"), "give it a path in the pool file".into()),
            State::Missing { at } => (
                format!("disk {name} is missing: {place} {}", at.words()),
                format!(
                    "if it comes back: mount it at {place}; if it is dead: zinc-sieve fate --lose {name}, then zinc-sieve rebuild {name} --onto DIR"
                ),
            ),
            State::NoPath => (
                format!("disk {name} is a member, and the pool file gives it no path"),
                format!(
                    "mount it and add path = \"…\" to disk {name} in the pool file; if it is dead: zinc-sieve rebuild {name} --onto DIR"
                ),
            ),
            State::WrongDisk { found } => (
                format!("the wrong disk is at {place}: {name} should be there, the label says {found}"),
                "correct the paths in the pool file, or the mounts".into(),
            ),
            State::OtherPool { found } => (
                format!("at {place}, where {name} should be, is a disk of another pool, {found}"),
                "correct the path in the pool file, or the mount".into(),
            ),
            State::Clone => (
                format!("at {place} is a copy of disk {name}: the label is right, the filesystem is another"),
                format!(
                    "mount the original; or, if this copy is to take its place: zinc-sieve rebuild {name} --onto an empty disk"
                ),
            ),
            State::ClaimedTwice { other } => (
                format!("disks {name} and {other} both show the label of {name}: one is a copy"),
                "unmount the copy and correct the pool file".into(),
            ),
            State::Replaced => (
                format!("at {place} is a disk that was {name} until it was replaced"),
                "mount the present one; wipe the old one before it is used again".into(),
            ),
            State::OlderCopy { found, expected } => (
                format!(
                    "disk {name} shows an older state of itself: checkpoint {found}, and {expected} was written to it; it seems to have been put back from a copy"
                ),
                format!(
                    "if what it holds now is right: zinc-sieve sync --accept {name}; else rebuild {name} from the others onto an empty disk"
                ),
            ),
            State::Unreadable { why } => (
                format!("disk {name} cannot be recognised: {why}"),
                format!("check the disk; if it is dead: zinc-sieve fate --lose {name}"),
            ),
        };
        Error::new(Kind::Safety, "disk.not-usable", message).remedy(remedy)
    }

    /// What may be used of the disk in all: its capacity in the pool file, or its filesystem.
    pub fn usable_bytes(&self) -> Option<ByteLength> {
        usable_bytes(self.spec.as_ref(), self.filesystem.as_ref())
    }

    /// What may still be written to it.
    ///
    /// # Errors
    /// What the database says.
    pub fn free_bytes(&self, catalogue: &Catalogue) -> Result<ByteLength> {
        let Some(filesystem) = &self.filesystem else { return Ok(ByteLength::ZERO) };
        // The next replica of the catalogue is written before the present one goes.
        let own = catalogue.size()?.plus(OWN_NEEDS);
        let available = filesystem.available.minus(own);
        let Some(capacity) = self.spec.as_ref().and_then(|s| s.capacity) else {
            return Ok(available);
        };
        Ok(available.min(capacity.minus(self.used_bytes(catalogue)?)))
    }

    /// What our files take on it.
    ///
    /// # Errors
    /// What the database says.
    pub fn used_bytes(&self, catalogue: &Catalogue) -> Result<ByteLength> {
        match self.row.role {
            Role::Parity => Ok(self.row.parity_bytes),
            Role::Data | Role::Cache => Ok(objects::taken(catalogue.reading(), self.row.id)?.bytes),
        }
    }
}

/// What may be used of a disk in all; nothing when neither the pool file nor a filesystem says.
pub fn usable_bytes(spec: Option<&DiskSpec>, filesystem: Option<&Filesystem>) -> Option<ByteLength> {
    match (spec.and_then(|s| s.capacity), filesystem) {
        (Some(capacity), Some(f)) => Some(capacity.min(f.total)),
        (capacity, filesystem) => capacity.or(filesystem.map(|f| f.total)),
    }
}

/// Looks at the place of every member and says what is there.
///
/// # Errors
/// What the database says; a disk that cannot be read is a state, not an error.
pub fn recognise(
    machine: &dyn Machine,
    catalogue: &Catalogue,
    pool: Uuid,
    rows: Vec<DiskRow>,
    specs: &[DiskSpec],
) -> Result<Vec<Member>> {
    let mut members = Vec::new();
    for row in rows {
        let spec = specs.iter().find(|s| s.name == row.name).cloned();
        members.push(look(machine, catalogue, pool, row, spec)?);
    }
    find_double_claims(machine, specs, &mut members);
    Ok(members)
}

fn look(
    machine: &dyn Machine,
    catalogue: &Catalogue,
    pool: Uuid,
    row: DiskRow,
    spec: Option<DiskSpec>,
) -> Result<Member> {
    let mut member = Member { row, spec, state: State::NoPath, replica: None, disk: None, filesystem: None };
    let Some(path) = member.spec.as_ref().and_then(|s| s.path.clone()) else { return Ok(member) };
    let simulated = member.spec.as_ref().is_some_and(|s| s.simulated);
    let opened = machine.open_disk(Path::new(&path)).and_then(|disk| {
        let label = label::read(&*disk)?;
        let filesystem = disk.filesystem()?;
        Ok((disk, label, filesystem))
    });
    let (disk, label, filesystem) = match opened {
        Ok(found) => found,
        Err(error) => {
            member.state = match error.io_kind() {
                Some(std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => {
                    State::Missing { at: Place::Nothing }
                }
                _ => State::Unreadable { why: error.message },
            };
            return Ok(member);
        }
    };
    member.state = match label {
        None => State::Missing { at: Place::of(&*disk) },
        Some(label) => state_by_label(catalogue, pool, &member.row, &label, &filesystem, simulated)?,
    };
    if member.state == State::Present {
        member.replica = replica::newest_on(&*disk)?;
        member.state = state_by_replica(member.replica, &member.row);
    }
    if member.state.is_usable() {
        (member.disk, member.filesystem) = (Some(disk), Some(filesystem));
    }
    Ok(member)
}

fn state_by_label(
    catalogue: &Catalogue,
    pool: Uuid,
    row: &DiskRow,
    label: &Label,
    filesystem: &Filesystem,
    simulated: bool,
) -> Result<State> {
    if label.pool != pool {
        return Ok(State::OtherPool { found: label.pool_name.clone() });
    }
    if label.disk != row.uuid {
        return Ok(match retired_at(catalogue.reading(), label.disk)? {
            Some(_) => State::Replaced,
            None => State::WrongDisk { found: label.disk_name.clone() },
        });
    }
    let says = (label.role, label.slot, label.first_cell);
    if says != (row.role, row.slot, row.first_cell) || !is_of_its_volume(label, row) {
        let why = format!(
            "its label says {} slot {} of {} (or another volume of that name), the catalogue {} slot {} of {}",
            label.role.word(),
            label.slot,
            label.volume,
            row.role.word(),
            row.slot,
            row.volume
        );
        return Ok(State::Unreadable { why });
    }
    let bound = label.filesystem.as_ref().filter(|_| !simulated);
    Ok(if bound.is_some_and(|id| *id != filesystem.id) { State::Clone } else { State::Present })
}

/// Whether the volume of a label is the one of the row: by its id, whatever either calls it. Where one of the two is older than
/// ids, the disk's own id and its place say enough.
pub fn is_of_its_volume(label: &Label, row: &DiskRow) -> bool {
    match (label.volume_id, row.volume_id) {
        (Some(said), Some(known)) => said == known,
        _ => true,
    }
}

/// The replica on a disk tells how far the disk has come.
fn state_by_replica(replica: Option<Stamp>, row: &DiskRow) -> State {
    let Some(expected) = row.replica else { return State::Present };
    let found = replica.map_or(0, |stamp| stamp.number);
    if found < expected { State::OlderCopy { found, expected } } else { State::Present }
}

fn find_double_claims(machine: &dyn Machine, specs: &[DiskSpec], members: &mut [Member]) {
    let labels: Vec<(String, Uuid)> = specs
        .iter()
        .filter_map(|spec| {
            let disk = machine.open_disk(Path::new(spec.path.as_deref()?)).ok()?;
            Some((spec.name.clone(), label::read(&*disk).ok()??.disk))
        })
        .collect();
    for member in members.iter_mut().filter(|m| m.state.is_usable()) {
        let twin = labels.iter().find(|(name, uuid)| *uuid == member.row.uuid && *name != member.row.name);
        if let Some((other, _)) = twin {
            member.state = State::ClaimedTwice { other: other.clone() };
            member.disk = None;
        }
    }
}
