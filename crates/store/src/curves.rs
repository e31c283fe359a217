//! Speed curves of disks as they were measured, kept beside the catalogue; and forecasts that use them.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use sieve_core::forecast::{
    CurveSource, Forecast, Link, Participant, Pass, SpeedCurve, assumed_processor, default_curve, forecast,
};
use sieve_core::path::RelPath;
use sieve_core::pool::{DiskSpec, PoolSpec};
use sieve_core::units::{ByteLength, Rate};

use crate::disk::{Disk, FilesystemId, read_small};
use crate::durable;
use crate::error::{Error, Kind, Result};
use crate::label::our_folder;
use crate::member::usable_bytes;
use crate::pool::Pool;

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
}

const FORMAT: u32 = 1;

fn path() -> RelPath {
    RelPath::fixed(".zinc-sieve/curves.json")
}

impl Curves {
    /// Reads the curves beside a catalogue; none where there is no such file.
    ///
    /// # Errors
    /// When the file is damaged or newer.
    pub fn read(home: &dyn Disk) -> Result<Self> {
        if home.stat(&path())?.is_none() {
            return Ok(Self { format: FORMAT, curves: Vec::new() });
        }
        let place = crate::disk::full_path(home, &path());
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
        durable::make_folders(home, &our_folder())?;
        let mut all = Self::read(home)?;
        all.format = FORMAT;
        all.curves.retain(|c| c.filesystem != measured.filesystem);
        all.curves.push(measured);
        let text = serde_json::to_vec_pretty(&all)
            .map_err(|e| Error::new(Kind::Internal, "curves.write", format!("the curves: {e}")))?;
        durable::write_file(home, &path(), &text)
    }

    /// The curve of a disk: measured, else as its owner gives it, else as is assumed for its media.
    pub fn of(&self, spec: Option<&DiskSpec>, filesystem: Option<&FilesystemId>) -> SpeedCurve {
        let measured = self
            .curves
            .iter()
            .find(|c| Some(&c.filesystem) == filesystem)
            .and_then(|c| SpeedCurve::new(c.points.iter().copied(), CurveSource::Measured { at: c.at }));
        let given = || spec.and_then(sieve_core::design::given_curve);
        measured.or_else(given).unwrap_or_else(|| default_curve(spec.and_then(|s| s.media)))
    }
}

/// Forecasts a pass that moves so many bytes on each disk, from its start on.
///
/// # Errors
/// When the measured curves are damaged.
pub fn forecast_pass(pool: &Pool, amounts: &BTreeMap<String, ByteLength>) -> Result<Forecast> {
    Ok(forecast(&pass_of(pool, amounts)?))
}

/// A pass that moves so many bytes on each disk, from its start on.
///
/// # Errors
/// When the measured curves are damaged.
pub fn pass_of(pool: &Pool, amounts: &BTreeMap<String, ByteLength>) -> Result<Pass> {
    let curves = Curves::read(&*pool.home)?;
    let mut pass = Pass { links: links(&pool.spec), processor: Some(assumed_processor()), disks: Vec::new() };
    for member in &pool.members {
        let Some(amount) = amounts.get(&member.row.name).filter(|a| **a > ByteLength::ZERO) else { continue };
        let spec = member.spec.as_ref();
        let space = usable_bytes(spec, member.filesystem.as_ref()).unwrap_or(*amount);
        let link = spec.and_then(|s| s.link.as_ref());
        pass.disks.push(Participant {
            name: member.row.name.clone(),
            end: *amount,
            capacity: space.max(*amount),
            curve: curves.of(spec, member.filesystem.as_ref().map(|f| &f.id)),
            link: link.and_then(|name| pass.links.iter().position(|l| l.name == *name)),
        });
    }
    Ok(pass)
}

fn links(spec: &PoolSpec) -> Vec<Link> {
    spec.links.iter().map(|l| Link { name: l.name.clone(), rate: l.rate }).collect()
}
