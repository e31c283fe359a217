//! Why a file does not come back as it is, with the names of the disks and files that decide it.

use serde::Serialize;
use sieve_core::fate::{Cause, DiskIndex, Model, ObjectState, Shortage, Shortages, Standing, Unguarded};
use sieve_core::units::{ByteLength, DiskId, GRANULE};

use super::{VolumeModel, shown_path};
use crate::catalogue::objects;
use crate::error::Result;
use crate::pool::Pool;
use crate::scan::is_held;

/// Why a file's present content does not come back.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Reason {
    /// What is the matter with the file itself, if anything is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own: Option<Unguarded>,
    /// Which of its rows are short of parity, if some are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<RowsShort>,
}

/// Rows in which more lanes are missing than valid parities are left.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct RowsShort {
    /// The first of these rows.
    pub first: u64,
    /// The last of them.
    pub last: u64,
    /// All bytes of the content that do not come back, in these rows and in others.
    pub bytes: ByteLength,
    /// The lost disks that are not zero there.
    pub lost: Vec<String>,
    /// The lanes that are stale there.
    pub stale: Vec<StaleLane>,
    /// The parity disks that can be used there.
    pub parities: Vec<String>,
    /// The parity disks that are lost.
    pub lost_parities: Vec<String>,
    /// The parity disks that are there and not valid in these rows.
    pub invalid_parities: Vec<String>,
}

/// A lane whose snapshot content cannot be read on its own disk.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct StaleLane {
    /// The disk.
    pub disk: String,
    /// The file, where there still is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// What became of it.
    pub why: Unguarded,
}

/// What is the matter with an object itself.
pub(crate) fn own_trouble(model: &Model, object: &ObjectState) -> Option<Unguarded> {
    if object.catalogued.is_some() {
        return Some(Unguarded::NoReplica);
    }
    let has_past = object.older.is_some();
    let Some(version) = object.version else {
        return Some(if has_past { Unguarded::Changed } else { Unguarded::New });
    };
    let version = &model.versions[version as usize];
    match object.standing {
        Standing::Changed => Some(Unguarded::Changed),
        Standing::Doubtful | Standing::Touched => Some(Unguarded::Doubtful),
        Standing::Suspect => Some(Unguarded::Suspect),
        Standing::Same if version.is_complete() && version.data > 0 => None,
        Standing::Same if version.is_complete() => Some(Unguarded::NoReplica),
        Standing::Same => Some(if has_past { Unguarded::Changed } else { Unguarded::New }),
    }
}

/// The first content of an object of which rows are short.
pub(crate) fn shortage_of<'a>(
    object: &ObjectState,
    shortages: &'a Shortages,
) -> Option<(Shortage, &'a Cause)> {
    object.present().into_iter().chain(object.past()).find_map(|version| shortages.of(version))
}

impl RowsShort {
    /// Puts names to a cause.
    pub(crate) fn named(
        shortage: Shortage,
        cause: &Cause,
        name: impl Fn(DiskIndex) -> String,
        stale: Vec<StaleLane>,
    ) -> Self {
        let names = |disks: &[DiskIndex]| disks.iter().map(|disk| name(*disk)).collect();
        Self {
            first: shortage.rows.start(),
            last: shortage.rows.end().saturating_sub(1),
            bytes: ByteLength::new(shortage.granules.saturating_mul(GRANULE)),
            lost: names(&cause.lost),
            stale,
            parities: names(&cause.valid),
            lost_parities: names(&cause.lost_parities),
            invalid_parities: names(&cause.invalid_parities),
        }
    }
}

impl Reason {
    /// Traces the verdict on one object.
    pub(super) fn of(
        model: &VolumeModel,
        pool: &Pool,
        shortages: &Shortages,
        position: usize,
    ) -> Result<Self> {
        let object = &model.model.objects[position];
        let own = own_trouble(&model.model, object);
        let Some((shortage, cause)) = shortage_of(object, shortages) else {
            return Ok(Self { own, rows: None });
        };
        let name = |disk: DiskIndex| {
            let known = model.disks.get(usize::from(disk.0)).and_then(|id| pool.member(*id).ok());
            known.map_or_else(|| "another parity drive".into(), |m| m.row.name.clone())
        };
        let mut stale = Vec::new();
        for (disk, version) in &cause.stale {
            let (path, why) = stale_content(model, pool, model.disks[usize::from(disk.0)], *version)?;
            stale.push(StaleLane { disk: name(*disk), path, why });
        }
        Ok(Self { own, rows: Some(RowsShort::named(shortage, cause, name, stale)) })
    }
}

/// Which file a stale content is of, and what became of it.
fn stale_content(
    model: &VolumeModel,
    pool: &Pool,
    disk: DiskId,
    version: u32,
) -> Result<(Option<String>, Unguarded)> {
    let Some(id) = model.version_id(version) else { return Ok((None, Unguarded::Changed)) };
    let reading = pool.catalogue.reading();
    let Some(object) = objects::holder_of(reading, disk, id)? else { return Ok((None, Unguarded::Changed)) };
    let names = objects::names(reading, object.id)?;
    let path = names.iter().find(|path| !is_held(path)).map(|path| shown_path(path).0);
    let why = match object.standing {
        _ if object.older == Some(id) => Unguarded::Changed,
        Standing::Changed => Unguarded::Changed,
        Standing::Doubtful | Standing::Touched => Unguarded::Doubtful,
        Standing::Same | Standing::Suspect => Unguarded::Suspect,
    };
    Ok((path, why))
}
