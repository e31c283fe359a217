//! Why a file does not come back as it is, with the names of the disks and files that decide it.

use std::collections::{HashMap, HashSet};

use schemars::JsonSchema;
use serde::Serialize;
use sieve_core::fate::{
    Cause, DiskIndex, LostSet, Model, ObjectState, Shortage, Shortages, Standing, Unguarded, own_trouble,
};
use sieve_core::path::shown_with_bytes;
use sieve_core::units::{ByteLength, GRANULE};

use super::model::VolumeModel;
use crate::pool::Pool;
use sieve_catalogue::objects;
use sieve_disk::Result;

/// Why a file's present content does not come back.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Reason {
    /// What is the matter with the file itself, if anything is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own: Option<Unguarded>,
    /// Which of its rows are short of parity, if some are.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<RowsShort>,
}

/// Rows in which more lanes are missing than valid parities are left.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct StaleLane {
    /// The disk.
    pub disk: String,
    /// The file, where there still is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// What became of it.
    pub why: Unguarded,
}

/// The first content of an object of which rows are short.
pub fn shortage_of<'a>(object: &ObjectState, shortages: &'a Shortages) -> Option<(Shortage, &'a Cause)> {
    object.present().into_iter().chain(object.past()).find_map(|version| shortages.of(version))
}

impl RowsShort {
    /// Puts names to a cause.
    pub fn named(
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
    pub(crate) fn of(model: &VolumeModel, pool: &Pool, traces: &Traces, position: usize) -> Result<Self> {
        let object = &model.model.objects[position];
        let own = own_trouble(&model.model, object);
        let Some((shortage, cause)) = shortage_of(object, &traces.shortages) else {
            return Ok(Self { own, rows: None });
        };
        let name = |disk: DiskIndex| {
            let known = model.disks.get(usize::from(disk.0)).and_then(|id| pool.member(*id).ok());
            known.map_or_else(|| "another parity drive".into(), |m| m.row.name.clone())
        };
        let mut stale = Vec::new();
        for (disk, version) in &cause.stale {
            let (path, why) = traces.stale_content(model, pool, *version)?;
            stale.push(StaleLane { disk: name(*disk), path, why });
        }
        Ok(Self { own, rows: Some(RowsShort::named(shortage, cause, name, stale)) })
    }
}

/// Why contents do not come back, and which objects the stale ones are of.
pub(crate) struct Traces {
    shortages: Shortages,
    /// For each stale content the position of its object, where there still is one.
    holders: HashMap<u32, usize>,
}

impl Traces {
    /// Traces the contents of `wanted` under a loss.
    pub(crate) fn new(model: &Model, lost: &LostSet, wanted: impl Fn(u32) -> bool) -> Self {
        let pieces = model.lanes.iter().flat_map(|lane| &lane.pieces);
        let stale: HashSet<u32> = pieces.filter(|piece| piece.stale).map(|piece| piece.version).collect();
        let mut holders = HashMap::new();
        for (position, object) in model.objects.iter().enumerate() {
            for content in object.version.into_iter().chain(object.older).filter(|c| stale.contains(c)) {
                holders.insert(content, position);
            }
        }
        Self { shortages: Shortages::new(model, lost, wanted), holders }
    }

    /// Which file a stale content is of, and what became of it.
    fn stale_content(
        &self,
        model: &VolumeModel,
        pool: &Pool,
        version: u32,
    ) -> Result<(Option<String>, Unguarded)> {
        let Some(position) = self.holders.get(&version) else { return Ok((None, Unguarded::Changed)) };
        let names = match model.object_id(*position) {
            Some(id) => objects::names(pool.catalogue.reading(), id)?,
            None => Vec::new(),
        };
        let path = names.iter().find(|path| !path.is_held()).map(|path| shown_with_bytes(path).0);
        let object = &model.model.objects[*position];
        let why = match object.standing {
            _ if object.older == Some(version) => Unguarded::Changed,
            Standing::Changed => Unguarded::Changed,
            Standing::Doubtful | Standing::Touched => Unguarded::Doubtful,
            Standing::Same | Standing::Suspect => Unguarded::Suspect,
        };
        Ok((path, why))
    }
}
