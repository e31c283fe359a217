//! One glance at a pool.

mod verdict;

use sieve_catalogue::contents;
use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use sieve_core::fate::{DiskIndex, Exposures, Unguarded};
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::ByteLength;

use super::after::{Step, after};
use sieve_actions::files::settle::{CacheStatus, caches};
use sieve_actions::guard::sync::suspicion;
use sieve_catalogue::label::Role;
use sieve_catalogue::proofs::Proof;
use sieve_catalogue::{apart, held_files, intents, objects, parity_state};
use sieve_core::count::Count;
use sieve_disk::event::Silent;
use sieve_disk::{Error, Result};
use sieve_pool::fate;
use sieve_pool::fate::Unfinished;
use sieve_pool::fate::{FileFate, VolumeModel};
use sieve_pool::images::open_images;
use sieve_pool::member::{Member, State};
use sieve_pool::pool::Pool;
use sieve_pool::scan;
use sieve_pool::writer::{AtWork, at_work};

pub use verdict::{NextLoss, Stakes, Verdict};

/// How a pool is.
#[derive(Clone, Debug, Serialize)]
pub struct Status {
    /// The pool's name.
    pub pool: String,
    /// In one word.
    pub verdict: Verdict,
    /// How the files would end.
    pub stakes: Stakes,
    /// The long work that is under way.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_work: Option<AtWork>,
    /// Its disks.
    pub disks: Vec<DiskStatus>,
    /// For each level, from 0 on: what may lose so many disks, whichever they are, and no more.
    pub guard: Vec<GuardLevel>,
    /// Why what is unguarded and should not be is.
    pub unguarded: BTreeMap<Unguarded, Count>,
    /// What a sync would guard that is unguarded now, where one can be made and would help.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sync_would_guard: Option<Count>,
    /// What was removed or replaced and is held until the next sync.
    pub held: Count,
    /// When the last sync began, nanoseconds since 1970.
    pub synced_at: Option<i64>,
    /// Now, nanoseconds since 1970.
    pub now: i64,
    /// Files of the same path on two disks of a volume.
    pub conflicts: Vec<Conflict>,
    /// Cells that are known to be damaged.
    pub damaged_cells: u64,
    /// Which losses were proven by a drill, and when.
    pub proven: Vec<Proof>,
    /// Volumes that may hold less than their disks could.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Limited>,
    /// The caches.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub caches: Vec<CacheStatus>,
    /// Folders whose content cannot be seen, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub out_of_sight: Vec<String>,
    /// What looks like an accident, so that a sync would stop before it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub suspicious: Option<Advice>,
    /// What is damaged of parity drives besides cells that were read, in words.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub damaged_tables: Vec<String>,
    /// What was noticed, in words.
    pub notes: Vec<String>,
}

/// A volume that may hold less than its disks could.
#[derive(Clone, Debug, Serialize)]
pub struct Limited {
    /// The volume.
    pub volume: String,
    /// What it holds.
    pub used: ByteLength,
    /// What it may hold.
    pub limit: ByteLength,
}

/// One disk.
#[derive(Clone, Debug, Serialize)]
pub struct DiskStatus {
    /// Its name.
    pub name: String,
    /// Its volume.
    pub volume: String,
    /// What it does.
    pub role: Role,
    /// What was found in its place.
    #[serde(flatten)]
    pub state: State,
    /// What is to be done about that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advice: Option<Advice>,
    /// Where it sits.
    pub bay: Option<String>,
    /// Its serial number.
    pub serial: Option<String>,
    /// What our files take on it.
    pub used: ByteLength,
    /// What may still be written to it.
    pub free: ByteLength,
    /// When it was last scanned, nanoseconds since 1970.
    pub scanned_at: Option<i64>,
    /// It takes no writes.
    pub read_only: bool,
}

/// What is wrong with a disk and what to do about it, in words.
#[derive(Clone, Debug, Serialize)]
pub struct Advice {
    /// What is wrong.
    pub message: String,
    /// What to do next.
    pub next: String,
}

impl From<Error> for Advice {
    fn from(error: Error) -> Self {
        Self { message: error.message, next: error.remedy.unwrap_or_default() }
    }
}

/// What may lose so many disks and no more.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct GuardLevel {
    /// How many disks.
    pub level: u8,
    /// Files.
    pub files: u64,
    /// Their bytes.
    pub bytes: ByteLength,
}

/// One path, two disks.
#[derive(Clone, Debug, Serialize)]
pub struct Conflict {
    /// The volume.
    pub volume: String,
    /// The path.
    pub path: String,
    /// The disks.
    pub disks: Vec<String>,
}

impl Status {
    /// Whether all disks are there, and something waits for nothing but a sync.
    fn a_sync_helps(&self) -> bool {
        use Unguarded::{Changed, Doubtful, New, StaleNeighbours};
        self.disks.iter().all(|d| d.state == State::Present && !d.read_only)
            && self.unguarded.keys().any(|why| matches!(why, New | Changed | Doubtful | StaleNeighbours))
    }
}

/// Scans what is there and takes stock.
///
/// # Errors
/// What a disk or the database says.
pub fn status(pool: &mut Pool) -> Result<Status> {
    let mut notes = pool.notes.clone();
    let mut out_of_sight = Vec::new();
    for report in scan::scan_all(pool, |_| true, &Silent)? {
        notes.extend(report.left_alone);
        out_of_sight.extend(report.out_of_sight);
    }
    pool.refresh_rows()?;
    let mut status = Status {
        pool: pool.spec.name.clone(),
        verdict: Verdict::Well,
        stakes: Stakes::default(),
        at_work: at_work(&*pool.home),
        disks: Vec::new(),
        guard: Vec::new(),
        unguarded: BTreeMap::new(),
        sync_would_guard: None,
        held: held(pool)?,
        synced_at: pool.catalogue.synced_at()?,
        now: pool.machine.now(),
        conflicts: conflicts(pool)?,
        damaged_cells: 0,
        proven: sieve_catalogue::proofs::all(pool.catalogue.reading())?,
        limits: limits(pool)?,
        caches: caches(pool)?,
        out_of_sight,
        suspicious: suspicion(pool, &[])?.map(Advice::from),
        damaged_tables: Vec::new(),
        notes,
    };
    for member in &pool.members {
        status.disks.push(disk_status(pool, member)?);
        let reading = pool.catalogue.reading();
        status.damaged_cells += match member.row.role {
            Role::Data | Role::Cache => parity_state::damaged_contents(reading, member.row.id)?.len() as u64,
            Role::Parity => parity_state::damaged_parity(reading, member.row.id)?.len() as u64,
        };
    }
    for volume in pool.volumes() {
        for rest in sieve_pool::pieces::rests(pool, &volume.name)? {
            status.notes.push(format!(
                "{}: some of its pieces are gone, others are left: zinc-sieve rm {} removes those",
                rest.path, rest.path
            ));
        }
    }
    status.damaged_tables = tables(pool)?;
    add_guards(pool, &mut status)?;
    if !intents::all(pool.catalogue.reading())?.is_empty() {
        status.notes.push(
            "something was begun and is not finished: another command is at it, or the next one that writes finishes it"
                .into(),
        );
    }
    status.verdict = status.judge();
    Ok(status)
}

fn disk_status(pool: &Pool, member: &Member) -> Result<DiskStatus> {
    let is_present = member.state == State::Present;
    Ok(DiskStatus {
        name: member.row.name.clone(),
        volume: member.row.volume.clone(),
        role: member.row.role,
        state: member.state.clone(),
        advice: (!is_present).then(|| Advice::from(member.refusal())),
        bay: member.spec.as_ref().and_then(|s| s.bay.clone()),
        serial: member.spec.as_ref().and_then(|s| s.serial.clone()),
        used: member.used_bytes(&pool.catalogue)?,
        free: member.free_bytes(&pool.catalogue)?,
        scanned_at: member.row.scanned_at,
        read_only: member.filesystem.as_ref().is_some_and(|f| f.read_only),
    })
}

/// Parity that is expected on a drive and is not valid there, in words: its table was damaged, or the drive is new.
///
/// # Errors
/// What a disk or the database says.
pub fn tables(pool: &Pool) -> Result<Vec<String>> {
    let mut found = Vec::new();
    for volume in pool.volumes() {
        let expected = parity_state::parity_cells(pool.catalogue.reading(), &volume.name)?;
        for image in open_images(pool, &volume.name, &[])? {
            for part in image.parts() {
                let name = &pool.member(part.member())?.row.name;
                let missing = part.missing(&expected).len();
                match (part.damage(), missing) {
                    (Some(why), _) => found.push(format!("parity on {name}: {why}: nothing on it guards anything; the next sync computes it anew")),
                    (None, 0) => {}
                    (None, cells) => found.push(format!(
                        "parity on {name}: {cells} cells are not valid (its table is damaged, or they were never computed): the next sync computes them"
                    )),
                }
            }
        }
    }
    Ok(found)
}

fn limits(pool: &Pool) -> Result<Vec<Limited>> {
    let mut limits = Vec::new();
    for volume in pool.volumes() {
        if let Some((used, limit)) = pool.size_limit(&volume)? {
            limits.push(Limited { volume: volume.name, used, limit });
        }
    }
    Ok(limits)
}

/// What is unguarded and why, as the disks were last scanned.
///
/// # Errors
/// What a disk or the database says.
pub fn unguarded(pool: &Pool) -> Result<BTreeMap<Unguarded, Count>> {
    let mut found: BTreeMap<Unguarded, Count> = BTreeMap::new();
    let count = |_: &VolumeSpec, file: &FileFate<'_>| {
        if let Some(reason) = file.unguarded {
            found.entry(reason).or_default().add(file.size_bytes);
        }
    };
    count_guards(pool, count).map(|_| found)
}

/// Shows each file to `visit`, with its volume, and returns the models of the volumes.
fn count_guards(pool: &Pool, mut visit: impl FnMut(&VolumeSpec, &FileFate<'_>)) -> Result<Vec<VolumeModel>> {
    let mut models = Vec::new();
    for volume in pool.volumes() {
        let model = fate::load(pool, &volume.name)?;
        let evaluation = model.evaluate(&[]);
        model.for_each_file(pool, &evaluation, |file| {
            visit(&volume, &file);
            Ok(())
        })?;
        models.push(model);
    }
    Ok(models)
}

fn add_guards(pool: &Pool, status: &mut Status) -> Result<()> {
    let mut levels: BTreeMap<u8, Count> = BTreeMap::from([(0, Count::default())]);
    let (stakes, unguarded) = (&mut status.stakes, &mut status.unguarded);
    let models = count_guards(pool, |volume, file| {
        levels.entry(file.guard).or_default().add(file.size_bytes);
        let is_on_purpose = file.unguarded.is_some() && !volume.has_guard();
        stakes.add(file.size_bytes, file.fate, file.guard, is_on_purpose);
        if let Some(reason) = file.unguarded.filter(|_| !is_on_purpose) {
            unguarded.entry(reason).or_default().add(file.size_bytes);
        }
    })?;
    if status.has_disk_away() {
        let losses = models.iter().map(|model| next_losses(pool, model)).collect::<Result<Vec<_>>>()?;
        let worst = losses.into_iter().flatten().max_by_key(|loss| (loss.cost.bytes, loss.cost.files));
        status.stakes.next_loss = worst;
    }
    if status.a_sync_helps() {
        status.sync_would_guard = Some(guarded_by_a_sync(pool, models, &status.unguarded)?);
    }
    status.guard = every_level(&levels);
    Ok(())
}

/// What the loss of each disk that is there would cost on top of those that are missing. Exact: see `core/fate/exposure`.
fn next_losses(pool: &Pool, model: &VolumeModel) -> Result<Vec<NextLoss>> {
    let names = model.name_counts(pool)?;
    let stakes =
        Exposures::new(&model.model, &model.missing, 1).stakes(&model.model, |position| names[position]);
    let cost_of = |lost: &[DiskIndex]| stakes.cost(&lost.iter().copied().collect());
    let already = cost_of(&[]);
    let mut losses = Vec::new();
    for id in &model.disks {
        let Some(index) = model.index(*id).filter(|index| !model.missing.contains(index)) else { continue };
        let all = cost_of(&[index]);
        let cost =
            Count { files: all.files.saturating_sub(already.files), bytes: all.bytes.minus(already.bytes) };
        losses.push(NextLoss { disk: pool.member(*id)?.row.name.clone(), cost });
    }
    Ok(losses)
}

/// From 0 to the highest level, without gaps.
pub(crate) fn every_level(levels: &BTreeMap<u8, Count>) -> Vec<GuardLevel> {
    let top = levels.keys().max().copied().unwrap_or(0);
    let of = |level| levels.get(&level).copied().unwrap_or_default();
    (0..=top).map(|level| GuardLevel { level, files: of(level).files, bytes: of(level).bytes }).collect()
}

/// What is unguarded now and would not be after a sync.
fn guarded_by_a_sync(
    pool: &Pool,
    models: Vec<VolumeModel>,
    unguarded: &BTreeMap<Unguarded, Count>,
) -> Result<Count> {
    let mut left = Count::default();
    for mut model in models {
        after(&mut model, pool, &Step::Sync)?;
        let evaluation = model.evaluate(&[]);
        model.for_each_file(pool, &evaluation, |file| {
            if file.unguarded.is_some() {
                left.add(file.size_bytes);
            }
            Ok(())
        })?;
    }
    let files: u64 = unguarded.values().map(|count| count.files).sum();
    let bytes: ByteLength = unguarded.values().map(|count| count.bytes).sum();
    Ok(Count { files: files.saturating_sub(left.files), bytes: bytes.minus(left.bytes) })
}

fn held(pool: &Pool) -> Result<Count> {
    let mut count = Count::default();
    for member in &pool.members {
        for row in held_files::all(pool.catalogue.reading(), member.row.id)? {
            let object = objects::by_path(pool.catalogue.reading(), member.row.id, &row.path)?;
            count.add(object.map(|o| o.size).unwrap_or_default());
        }
    }
    Ok(count)
}

/// So many conflicts are told.
const MOST_CONFLICTS: usize = 1000;

fn conflicts(pool: &Pool) -> Result<Vec<Conflict>> {
    let (mut mirrored, mut cached) = (BTreeMap::new(), BTreeSet::new());
    for volume in pool.volumes() {
        if volume.kind == VolumeKind::Mirrored {
            mirrored.insert(volume.name.clone(), apart::all(pool.catalogue.reading(), &volume.name)?);
        } else if volume.has_cache() {
            cached.insert(volume.name);
        }
    }
    let unfinished = Unfinished::look(pool)?;
    let mut found = Vec::new();
    contents::for_each_shared_path(pool.catalogue.reading(), |shared| {
        // Copies are what a mirrored volume is for, and one that is behind follows with the next sync.
        let is_copy = mirrored.get(&shared.volume).map(|apart| !apart.contains(&shared.path));
        let is_cached = shared.contents < 2 && cached.contains(&shared.volume);
        if is_copy.unwrap_or(is_cached) || unfinished.names(&shared.path) {
            return true;
        }
        if found.len() == MOST_CONFLICTS {
            return false;
        }
        let path = shared.path.to_string();
        found.push(Conflict { volume: shared.volume, path, disks: shared.disks });
        true
    })?;
    Ok(found)
}
