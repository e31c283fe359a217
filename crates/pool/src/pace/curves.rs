//! Speed curves of disks as they were measured, kept beside the catalogue; and forecasts that use them.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sieve_core::amounts::Amounts;
use sieve_core::forecast::{
    CurveSource, Forecast, Link, Participant, Pass, SpeedCurve, Underway, assumed_processor, default_curve,
    forecast,
};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::{DiskSpec, PoolSpec};
use sieve_core::units::{ByteLength, Rate};

use crate::member::usable_bytes;
use crate::pool::Pool;
use sieve_disk::durable;
use sieve_disk::{Disk, FilesystemId, read_small};
use sieve_disk::{Error, Kind, Result};

/// One measured curve.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Measured {
    /// The filesystem that was measured.
    pub filesystem: FilesystemId,
    /// When, nanoseconds since 1970.
    pub at: i64,
    /// Share of the space from 0 to 1, and bytes per second there.
    pub points: Vec<(f64, Rate)>,
}

/// All measured curves of a pool's home.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Curves {
    /// The version of the format.
    pub format: u32,
    /// The curves, one a filesystem.
    pub curves: Vec<Measured>,
    /// What passes taught of disks, one a filesystem.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub learned: Vec<Learned>,
}

/// What passes taught of a disk.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Learned {
    /// The filesystem.
    pub filesystem: FilesystemId,
    /// When the last of them ended, nanoseconds since 1970.
    pub at: i64,
    /// So many times as fast as its curve says it is.
    pub factor: f64,
}

const FORMAT: u32 = 1;

fn path() -> RelPath {
    OurPlace::Curves.path()
}

impl Curves {
    /// Reads the curves beside a catalogue; none where there is no such file.
    ///
    /// # Errors
    /// When the file is damaged or newer.
    pub fn read(home: &dyn Disk) -> Result<Self> {
        if home.stat(&path())?.is_none() {
            return Ok(Self { format: FORMAT, ..Self::default() });
        }
        let place = sieve_disk::full_path(home, &path());
        let corrupt = |why: &str| {
            Error::new(Kind::Corrupt, "curves.damaged", format!("{}: {why}", place.display()))
                .remedy("remove this file: the disks are measured again by the next burn-in")
        };
        let read: Self = serde_json::from_slice(&read_small(home, &path(), 16 << 20)?)
            .map_err(|e| corrupt(&e.to_string()))?;
        if read.format > FORMAT {
            return Err(corrupt("this file is of a newer format"));
        }
        Ok(read)
    }

    /// Keeps a curve in place of the older one of the same filesystem.
    ///
    /// # Crash safety
    /// The old file stays whole until the new one is durable.
    ///
    /// # Errors
    /// What the disk says.
    pub fn keep(home: &dyn Disk, measured: Measured) -> Result<()> {
        let mut all = Self::read(home)?;
        all.curves.retain(|c| c.filesystem != measured.filesystem);
        // What was learned corrects another curve.
        all.learned.retain(|l| l.filesystem != measured.filesystem);
        all.curves.push(measured);
        all.write(home)
    }

    fn write(mut self, home: &dyn Disk) -> Result<()> {
        durable::make_own_folder(home, &OurPlace::Folder.path())?;
        self.format = FORMAT;
        let text = serde_json::to_vec_pretty(&self)
            .map_err(|e| Error::new(Kind::Internal, "curves.write", format!("the curves: {e}")))?;
        durable::write_file(home, &path(), &text)
    }

    fn factor_of(&self, filesystem: Option<&FilesystemId>) -> f64 {
        let learned = self.learned.iter().find(|l| Some(&l.filesystem) == filesystem);
        learned.map(|l| l.factor).filter(|factor| factor.is_finite() && *factor > 0.0).unwrap_or(1.0)
    }

    /// The curve of a disk: measured, else as its owner gives it, else as is assumed for its media; each corrected by what
    /// passes over the disk took.
    pub fn of(&self, spec: Option<&DiskSpec>, filesystem: Option<&FilesystemId>) -> SpeedCurve {
        let curve = self.uncorrected(spec, filesystem);
        let factor = self.factor_of(filesystem);
        if factor == 1.0 { curve } else { curve.scaled(factor) }
    }

    fn uncorrected(&self, spec: Option<&DiskSpec>, filesystem: Option<&FilesystemId>) -> SpeedCurve {
        let measured = self
            .curves
            .iter()
            .find(|c| Some(&c.filesystem) == filesystem)
            .and_then(|c| SpeedCurve::new(c.points.iter().copied(), CurveSource::Measured { at: c.at }));
        let given = spec.and_then(sieve_core::design::given_curve);
        let thought = given.unwrap_or_else(|| default_curve(spec.and_then(|s| s.media)));
        measured.map_or_else(|| thought.clone(), |measured| measured.completed(&thought))
    }
}

/// Forecasts what moves so many bytes on each disk, from its start on: a pass over each volume, one after another.
///
/// # Errors
/// When the measured curves are damaged.
pub fn forecast_pass(pool: &Pool, amounts: &Amounts) -> Result<Forecast> {
    let mut of_volumes: BTreeMap<&str, Amounts> = BTreeMap::new();
    for member in &pool.members {
        let amount = amounts.get(&member.row.name).filter(|amount| *amount > ByteLength::ZERO);
        let of_volume = of_volumes.entry(&member.row.volume).or_default();
        of_volume.extend(amount.map(|amount| (member.row.name.clone(), amount)));
    }
    let moving = of_volumes.values().filter(|amounts| !amounts.is_empty());
    let passes = moving.map(|amounts| Ok(forecast(&pass_of(pool, amounts)?))).collect::<Result<Vec<_>>>()?;
    Ok(Forecast::in_turn(passes))
}

/// A pass that moves so many bytes on each disk, from its start on.
///
/// # Errors
/// When the measured curves are damaged.
pub fn pass_of(pool: &Pool, amounts: &Amounts) -> Result<Pass> {
    let curves = Curves::read(&*pool.home)?;
    let mut pass = Pass { links: links(&pool.spec), processor: Some(assumed_processor()), disks: Vec::new() };
    for member in &pool.members {
        let Some(amount) = amounts.get(&member.row.name).filter(|a| *a > ByteLength::ZERO) else { continue };
        let spec = member.spec.as_ref();
        let space = usable_bytes(spec, member.filesystem.as_ref()).unwrap_or(amount);
        let link = spec.and_then(|s| s.link.as_ref());
        pass.disks.push(Participant {
            name: member.row.name.clone(),
            end: amount,
            capacity: space.max(amount),
            curve: curves.of(spec, member.filesystem.as_ref().map(|f| &f.id)),
            link: link.and_then(|name| pass.links.iter().position(|l| l.name == *name)),
        });
    }
    Ok(pass)
}

/// Learns from a pass that is over how fast the disks really were: the next forecast takes it into account.
///
/// # Errors
/// When the measured curves are damaged, or cannot be written.
pub fn learn(pool: &Pool, underway: &Underway) -> Result<()> {
    let mut curves = Curves::read(&*pool.home)?;
    let before = curves.clone();
    for (place, disk) in underway.pass().disks.iter().enumerate() {
        let member = pool.members.iter().find(|member| member.row.name == disk.name);
        let Some(filesystem) = member.and_then(|member| member.filesystem.as_ref()) else { continue };
        // Several members may lie on one filesystem: each corrects what was thought before, not one another.
        let former = before.factor_of(Some(&filesystem.id));
        let Some(factor) = underway.learned(place, former) else { continue };
        curves.learned.retain(|l| l.filesystem != filesystem.id);
        curves.learned.push(Learned { filesystem: filesystem.id.clone(), at: pool.machine.now(), factor });
    }
    if curves == before { Ok(()) } else { curves.write(&*pool.home) }
}

/// The links of a pool file, as forecasts take them.
pub fn links(spec: &PoolSpec) -> Vec<Link> {
    spec.links.iter().map(|l| Link { name: l.name.clone(), rate: l.rate }).collect()
}
