//! What a route starts from: a pool that is there, or one on paper.

use sieve_core::design::given_curve;
use sieve_core::forecast::{SpeedCurve, default_curve};
use sieve_core::pool::{DiskSpec, PoolSpec, Role, Share, VolumeKind, VolumeSpec, find_bay};
use sieve_core::route::{Drive, DriveId, Ground, Seat, Standing};
use sieve_core::suggest::unknown;
use sieve_core::units::ByteLength;
use sieve_disk::event::Observer;
use sieve_disk::{Error, Kind, Result};
use sieve_pool::curves::Curves;
use sieve_pool::pool::Pool;

use crate::Look;
use crate::status::status;

/// On so many disks each file lies in a volume that becomes mirrored, unless `convert --copies` says otherwise.
const USUAL_COPIES: usize = 2;

/// What a route starts from, and what its commands have to say.
#[derive(Clone, Debug)]
pub struct Land {
    /// The disks and who sits where.
    pub ground: Ground,
    /// The volume.
    pub volume: String,
    /// Commands have to name the volume.
    pub names_volume: bool,
    /// Members whose space the pool file limits: the limit of the new disk has to be said.
    pub limited: Vec<String>,
    /// Disks of the pool file that are in no volume.
    pub in_file: Vec<String>,
    /// Empty bays, from the top.
    pub bays: Vec<String>,
    /// What should be known.
    pub notes: Vec<String>,
}

/// A pool that is there.
///
/// # Errors
/// When a member is missing.
pub fn of_pool(pool: &mut Pool, volume: Option<&str>, observer: &dyn Observer) -> Result<Land> {
    let volume = pool.volume(volume)?;
    let told = status(pool, Look::WhereShort, observer)?;
    if let Some(away) = told.disks.iter().find(|disk| disk.volume == volume.name && !disk.state.is_usable()) {
        let message = format!("disk {} is not there: a route begins from a pool that is whole", away.name);
        return Err(Error::new(Kind::Safety, "route.missing", message)
            .remedy("mount it; or, if it is dead, zinc-sieve rebuild brings it back onto another"));
    }
    let curves = Curves::read(&*pool.home)?;
    let mut land = Land::of(&pool.spec, &volume);
    for member in pool.members.iter().filter(|member| member.row.volume == volume.name) {
        let filesystem = member.filesystem.as_ref().map(|filesystem| &filesystem.id);
        let size = member.usable_bytes().unwrap_or_default();
        let used = if member.row.role == Role::Parity {
            ByteLength::ZERO
        } else {
            member.used_bytes(&pool.catalogue)?
        };
        let curve = curves.of(member.spec.as_ref(), filesystem);
        land.sit(member.spec.as_ref(), &member.row.name, member.row.role, size, used, curve);
    }
    let waits = told.sync_would_guard.unwrap_or_default();
    land.ground.start.synced = waits.files == 0 || land.ground.start.guard(&land.ground) == 0;
    land.ground.unsynced = waits.bytes;
    land.spares(&pool.spec);
    Ok(land)
}

/// A pool on paper, whose data disks are so full.
///
/// # Errors
/// When a size is not known.
pub fn of_paper(spec: &PoolSpec, volume: Option<&str>, full: Share) -> Result<Land> {
    let names = || spec.volumes.iter().map(|volume| volume.name.as_str());
    let volume = match (volume, spec.volumes.as_slice()) {
        (None, [only]) => only,
        (None, _) => {
            let message = "the pool file has several volumes, or none";
            return Err(
                Error::new(Kind::Usage, "volume.unknown", message).remedy("choose one with --volume NAME")
            );
        }
        (Some(name), volumes) => volumes
            .iter()
            .find(|volume| volume.name == name)
            .ok_or_else(|| Error::new(Kind::Usage, "volume.unknown", unknown("volume", name, names())))?,
    };
    let mut land = Land::of(spec, volume);
    let roles = [
        (Role::Data, volume.data.clone()),
        (Role::Parity, volume.parity.concat()),
        (Role::Cache, volume.cache.disks.clone()),
    ];
    for (role, members) in roles {
        for name in members {
            let disk = spec.disk(&name);
            let Some(size) = disk.and_then(|disk| disk.capacity) else {
                let message = format!("disk {name} is on paper without a capacity");
                return Err(Error::new(Kind::Usage, "paper.capacity", message)
                    .remedy("give it one in the pool file: capacity = \"12 TB\""));
            };
            let used = if role == Role::Data { size.exact() as f64 * full.fraction() } else { 0.0 };
            land.sit(disk, &name, role, size, ByteLength::new(used as u64), curve_on_paper(disk));
        }
    }
    land.notes
        .push(format!("on paper: data disks are taken to be {} % full (--full)", full.fraction() * 100.0));
    land.limited.clear();
    land.spares(spec);
    Ok(land)
}

fn curve_on_paper(disk: Option<&DiskSpec>) -> SpeedCurve {
    disk.and_then(given_curve).unwrap_or_else(|| default_curve(disk.and_then(|disk| disk.media)))
}

impl Land {
    fn of(spec: &PoolSpec, volume: &VolumeSpec) -> Self {
        let taken = |bay: &str| spec.disks.iter().any(|disk| disk.bay.as_deref() == Some(bay));
        let all = spec.cases.iter().flat_map(|case| case.rows.iter().flatten().flatten());
        let bays: Vec<String> = all.filter(|bay| !taken(bay)).cloned().collect();
        let in_case =
            |disk: &DiskSpec| disk.bay.as_deref().is_some_and(|bay| find_bay(&spec.cases, bay).is_some());
        let is_known = !spec.cases.is_empty() && spec.disks.iter().any(in_case);
        let start =
            Standing { kind: volume.kind, seats: Vec::new(), synced: true, day: None, emptied: Vec::new() };
        let copies = if volume.kind == VolumeKind::Mirrored { volume.copies } else { USUAL_COPIES };
        let free_bays = is_known.then_some(bays.len());
        let ground = Ground {
            drives: Vec::new(),
            start,
            unsynced: ByteLength::ZERO,
            free_bays,
            floor: 0,
            copies,
            stay: volume.fast.iter().map(|name| name.as_str().into()).collect(),
        };
        Self {
            ground,
            volume: volume.name.clone(),
            names_volume: spec.volumes.len() > 1,
            limited: Vec::new(),
            in_file: Vec::new(),
            bays,
            notes: Vec::new(),
        }
    }

    fn drive(&mut self, spec: Option<&DiskSpec>, name: &str, size: ByteLength, curve: SpeedCurve) -> DriveId {
        self.ground.drives.push(Drive {
            name: name.into(),
            size,
            curve,
            from: None,
            path: spec.and_then(|spec| spec.path.clone()),
            bay: spec.and_then(|spec| spec.bay.clone()),
            serial: spec.and_then(|spec| spec.serial.clone()),
        });
        DriveId::new(self.ground.drives.len() - 1)
    }

    fn sit(
        &mut self,
        spec: Option<&DiskSpec>,
        name: &str,
        role: Role,
        size: ByteLength,
        used: ByteLength,
        curve: SpeedCurve,
    ) {
        let drive = self.drive(spec, name, size, curve);
        if spec.is_some_and(|spec| spec.capacity.is_some()) {
            self.limited.push(name.into());
        }
        self.ground.start.seats.push(Seat { name: name.into(), role, drive, used });
        self.ground.start.put_in_order();
    }

    /// Disks of the pool file that are in no volume can join, too.
    fn spares(&mut self, spec: &PoolSpec) {
        for disk in spec.disks.iter().filter(|disk| spec.volume_of(&disk.name).is_none()) {
            if let Some(size) = disk.capacity {
                self.drive(Some(disk), &disk.name, size, curve_on_paper(Some(disk)));
                self.in_file.push(disk.name.clone());
            }
        }
    }
}
