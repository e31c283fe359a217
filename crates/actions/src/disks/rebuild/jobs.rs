//! What has to be written to a rebuilt data disk.

use std::collections::{BTreeMap, HashMap};

use sieve_core::fate::{Fate, Recovered, Standing};
use sieve_core::lane::Rows;
use sieve_core::units::{ByteLength, DiskId, GRANULE, ObjectId, VersionId};

use sieve_catalogue::objects;
use sieve_catalogue::objects::ObjectRow;
use sieve_catalogue::{parity_state, versions};
use sieve_disk::Result;
use sieve_pool::fate::VolumeModel;
use sieve_pool::pool::Pool;

/// One object of the lost disk. There may be millions, so it is kept small; its names are in the catalogue.
pub(crate) struct Job {
    pub(crate) object: ObjectId,
    pub(crate) size: ByteLength,
    pub(crate) version: Option<VersionId>,
    pub(crate) older: Option<VersionId>,
    pub(crate) standing: Standing,
}

/// A content of the lost disk's lane, while it is put together.
pub(crate) struct Assembly {
    pub(crate) size: ByteLength,
    /// Granules that do not come back.
    pub(crate) lost: Vec<Rows>,
    pub(crate) state: Option<Recovered>,
}

/// The objects of a disk.
pub(crate) fn jobs(pool: &Pool, disk: DiskId) -> Result<Vec<Job>> {
    let mut jobs = Vec::new();
    objects::for_each(pool.catalogue.reading(), disk, |object| {
        let ObjectRow { id, size, version, older, standing, .. } = object;
        jobs.push(Job { object: id, size, version, older, standing });
    })?;
    Ok(jobs)
}

/// The contents that some object of the disk may come back with: in the lane, or without data and recorded.
pub(crate) fn assemblies(
    pool: &Pool,
    disk: DiskId,
    jobs: &[Job],
    newest_replica: u32,
) -> Result<BTreeMap<VersionId, Assembly>> {
    let lane = parity_state::lane(pool.catalogue.reading(), disk)?;
    let mut found: BTreeMap<VersionId, Assembly> = BTreeMap::new();
    let mapped_granules = lane.iter().fold(HashMap::<VersionId, u64>::new(), |mut sums, piece| {
        *sums.entry(piece.value.version).or_default() += piece.rows.length();
        sums
    });
    for version in jobs.iter().flat_map(|job| job.version.iter().chain(&job.older)) {
        if found.contains_key(version) {
            continue;
        }
        let row = versions::get(pool.catalogue.reading(), *version)?;
        let data: u64 = row.data.iter().map(|r| r.length()).sum();
        let mapped = mapped_granules.get(version).copied().unwrap_or(0);
        if data == 0 && !(1..=newest_replica).contains(&row.recorded) || data > 0 && mapped == 0 {
            continue;
        }
        let mut lost = Vec::new();
        if mapped < data {
            // Only partly in the snapshot, after an interrupted sync.
            lost.push(Rows::new(0, row.sum.size.granules()));
            for piece in lane.iter().filter(|p| p.value.version == *version) {
                lost = sieve_rows::window::without(&lost, Rows::at(piece.value.offset, piece.rows.length()));
            }
        }
        found.insert(*version, Assembly { size: row.sum.size, lost, state: None });
    }
    Ok(found)
}

/// The fate that an object met, and the content it came back with.
pub(crate) fn outcome(job: &Job, assemblies: &BTreeMap<VersionId, Assembly>) -> (Fate, Option<VersionId>) {
    let state =
        |version: &VersionId| assemblies.get(version).and_then(|a| a.state).unwrap_or(Recovered::Nothing);
    let same = job.standing == Standing::Same;
    let present = job.version.filter(|_| same);
    let past: Vec<VersionId> = job.version.filter(|_| !same).into_iter().chain(job.older).collect();
    let states: Vec<Recovered> = past.iter().map(state).collect();
    let (fate, which) = sieve_core::fate::fate_by_contents(present.as_ref().map(state), &states);
    (fate, if fate == Fate::Rebuilt { present } else { which.map(|position| past[position]) })
}

/// Files that a rebuild of the disk is expected to write, held ones included, and what they take (holes nothing).
pub(crate) fn expected_size(
    pool: &Pool,
    model: &VolumeModel,
    disk: DiskId,
    has_copy: impl Fn(ObjectId) -> bool,
) -> Result<(u64, ByteLength)> {
    let lost = model.lost_set(&[disk]);
    let verdicts = sieve_core::fate::verdicts(&model.model, &lost);
    let (mut files, mut bytes) = (0, ByteLength::ZERO);
    for job in jobs(pool, disk)? {
        let position = model.object_index(job.object);
        let source = position.and_then(|position| verdicts.sources[position]);
        let copied = || position.filter(|_| has_copy(job.object));
        let source = source.or_else(|| model.model.objects[copied()?].present());
        if let Some(version) = source {
            files += 1;
            let version = &model.model.versions[version as usize];
            // To the byte, as a disk is filled: rounded up, what filled a disk would not go onto one that is its equal.
            bytes = bytes.plus(version.size.min(ByteLength::new(version.data * GRANULE)));
        }
    }
    Ok((files, bytes))
}
