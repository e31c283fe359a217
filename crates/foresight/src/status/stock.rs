//! Taking stock: what of a status follows from the catalogue and the members alone.
//!
//! With a million files that takes seconds, so it is kept beside the catalogue, and holds until something that it follows from
//! is another. Nothing in it depends on the time.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use serde::{Deserialize, Serialize};
use sieve_actions::guard::sync::suspicion;
use sieve_catalogue::label::Role;
use sieve_catalogue::{apart, contents, held_files, objects, parity_state, rest, shared};
use sieve_core::count::Count;
use sieve_core::fate::{DiskIndex, Exposures, Unguarded};
use sieve_core::layout::OurPlace;
use sieve_core::path::RelPath;
use sieve_core::pool::{VolumeKind, VolumeSpec};
use sieve_core::units::{ByteLength, DiskId};
use sieve_disk::{Result, durable};
use sieve_pool::fate::{self, CountedFile, Unfinished, VolumeModel};
use sieve_pool::member::State;
use sieve_pool::pool::Pool;

use super::members::tables;
use super::report::{Advice, Conflict, DiskStatus, NextLoss, Stakes};
use crate::after::{Step, after};

/// So many conflicts are told.
const MOST_CONFLICTS: usize = 1000;
/// Changes with what is kept, and with how it is worked out.
const FORMAT: u32 = 3;

/// What is there, and how guarded it is.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct Stock {
    pub(super) stakes: Stakes,
    /// What may lose so many disks and no more.
    pub(super) guard: BTreeMap<u8, Count>,
    pub(super) unguarded: BTreeMap<Unguarded, Count>,
    /// The same bytes, by the disk that they lie on.
    pub(super) unguarded_on: BTreeMap<DiskId, ByteLength>,
    pub(super) unguarded_since: Option<i64>,
    pub(super) sync_would_guard: Option<Count>,
    pub(super) held: Count,
    pub(super) conflicts: Vec<Conflict>,
    pub(super) suspicious: Option<Advice>,
    pub(super) damaged_cells: u64,
    /// Files of which some pieces are gone, in words.
    pub(super) rests: Vec<String>,
}

/// A stock, and what it was worked out from.
#[derive(Serialize, Deserialize)]
struct Kept {
    grounds: String,
    stock: Stock,
}

impl Stock {
    /// The stock of a pool: as it is kept, where nothing that it follows from is another since; else worked out, and kept.
    pub(super) fn of(pool: &Pool, disks: &[DiskStatus], tables: &[String]) -> Result<Self> {
        let Some(grounds) = grounds(pool, disks, tables)? else { return Self::take(pool, disks) };
        if let Some(kept) = kept(pool).filter(|kept| kept.grounds == grounds) {
            return Ok(kept.stock);
        }
        let stock = Self::take(pool, disks)?;
        let kept = Kept { grounds, stock };
        let text = serde_json::to_vec(&kept).expect("a stock is plain data");
        // Where nothing can be kept (a user who may only read, a full disk) it is worked out again the next time.
        let _ = durable::write_file(&*pool.home, &place(), &text);
        Ok(kept.stock)
    }

    fn take(pool: &Pool, disks: &[DiskStatus]) -> Result<Self> {
        let reading = pool.catalogue.reading();
        let mut stock = Self {
            held: held(pool)?,
            conflicts: conflicts(pool)?,
            suspicious: suspicion(pool, &[])?.map(Advice::from),
            ..Self::default()
        };
        for member in &pool.members {
            stock.damaged_cells += match member.row.role {
                Role::Data | Role::Cache => {
                    parity_state::damaged_contents(reading, member.row.id)?.len() as u64
                }
                Role::Parity => parity_state::damaged_parity(reading, member.row.id)?.len() as u64,
            };
        }
        for volume in pool.volumes() {
            for rest in sieve_pool::pieces::rests(pool, &volume.name)? {
                stock.rests.push(format!(
                    "{}: some of its pieces are gone, others are left: zinc-sieve rm {} removes those",
                    rest.path, rest.path
                ));
            }
            stock.rests.extend(begun_conversion(pool, &volume)?);
        }
        stock.add_guards(pool, disks)?;
        stock.unguarded_since = unguarded_since(pool, &stock.unguarded)?;
        Ok(stock)
    }

    fn add_guards(&mut self, pool: &Pool, disks: &[DiskStatus]) -> Result<()> {
        self.guard.insert(0, Count::default());
        let models = count_guards(pool, |volume, file| {
            let (size, guard) = (file.size, file.guard);
            self.guard.entry(guard.level).or_default().add(size);
            let is_on_purpose = guard.reason.is_some() && !volume.has_guard();
            self.stakes.add(size, file.fate, guard.level, is_on_purpose);
            if let Some(reason) = guard.reason.filter(|_| !is_on_purpose) {
                self.unguarded.entry(reason).or_default().add(size);
                if let Some(disk) = file.disk {
                    let on_disk = self.unguarded_on.entry(disk).or_default();
                    *on_disk = on_disk.plus(size);
                }
            }
        })?;
        if disks.iter().any(|disk| !disk.state.is_usable()) {
            let losses = models.iter().map(|model| next_losses(pool, model)).collect::<Result<Vec<_>>>()?;
            let worst = losses.into_iter().flatten().max_by_key(|loss| (loss.cost.bytes, loss.cost.files));
            self.stakes.next_loss = worst;
        }
        if self.a_sync_helps(disks) {
            self.sync_would_guard = Some(guarded_by_a_sync(pool, models, &self.unguarded)?);
        }
        Ok(())
    }

    /// Whether all disks are there, and something waits for nothing but a sync.
    fn a_sync_helps(&self, disks: &[DiskStatus]) -> bool {
        use Unguarded::{Changed, Doubtful, New, StaleNeighbours};
        disks.iter().all(|disk| disk.state == State::Present && !disk.read_only)
            && self.unguarded.keys().any(|why| matches!(why, New | Changed | Doubtful | StaleNeighbours))
    }
}

/// Whole copies of files in pieces take room until they become the files.
fn begun_conversion(pool: &Pool, volume: &VolumeSpec) -> Result<Option<String>> {
    let copies = sieve_pool::pieces::copies(pool, &volume.name)?;
    if copies.is_empty() {
        return Ok(None);
    }
    let mut made = Count::default();
    copies.iter().for_each(|copy| made.add(copy.object.size));
    Ok(Some(format!(
        "{}: a conversion to another kind was begun, and has copied files in pieces whole: {}, {}. When a sync has passed them, zinc-sieve convert {} --to KIND goes on; --to {} takes them back",
        volume.name,
        made.files,
        made.bytes,
        volume.name,
        volume.kind.word()
    )))
}

/// When the oldest of what waits for a sync, or on a cache, came or changed.
fn unguarded_since(pool: &Pool, unguarded: &BTreeMap<Unguarded, Count>) -> Result<Option<i64>> {
    use Unguarded::{Changed, Doubtful, New, OnCache};
    if !unguarded.keys().any(|why| matches!(why, New | Changed | Doubtful | OnCache)) {
        return Ok(None);
    }
    let mut oldest = None;
    for volume in pool.volumes().iter().filter(|volume| volume.has_guard()) {
        for member in pool.file_members(&volume.name) {
            let (reading, id) = (pool.catalogue.reading(), member.row.id);
            let of_disk = match member.row.role {
                Role::Cache => objects::oldest(reading, id)?,
                _ => objects::oldest_unsynced(reading, id)?,
            };
            oldest = [oldest, of_disk].into_iter().flatten().min();
        }
    }
    Ok(oldest)
}

fn place() -> RelPath {
    OurPlace::Folder.with("stock.json")
}

/// What a stock follows from, in words; nothing where this reader knows more than the catalogue does.
fn grounds(pool: &Pool, disks: &[DiskStatus], tables: &[String]) -> Result<Option<String>> {
    if pool.catalogue.has_own_state()
        || pool.out_of_sight.borrow().values().any(|folders| !folders.is_empty())
    {
        return Ok(None);
    }
    let Ok(pool_file) = std::fs::read_to_string(&pool.file) else { return Ok(None) };
    let Some(revision) = sieve_catalogue::revision(pool.catalogue.reading())? else { return Ok(None) };
    let mut grounds = format!("{FORMAT} {} {revision}\n{pool_file}\n", env!("CARGO_PKG_VERSION"));
    for (disk, member) in disks.iter().zip(&pool.members) {
        let _ = writeln!(grounds, "{} {:?} {} {:?}", disk.name, disk.state, disk.read_only, member.replica);
    }
    grounds.extend(tables.iter().map(String::as_str));
    Ok(Some(grounds))
}

fn kept(pool: &Pool) -> Option<Kept> {
    let text = std::fs::read(sieve_disk::full_path(&*pool.home, &place())).ok()?;
    serde_json::from_slice(&text).ok()
}

/// What is unguarded and why, as the disks were last scanned.
///
/// # Errors
/// What a disk or the database says.
pub fn unguarded(pool: &Pool) -> Result<BTreeMap<Unguarded, Count>> {
    let is_at_rest = is_at_rest(pool)?;
    if is_at_rest && !cfg!(debug_assertions) {
        return Ok(BTreeMap::new());
    }
    let mut found: BTreeMap<Unguarded, Count> = BTreeMap::new();
    let count = |_: &VolumeSpec, file: CountedFile| {
        if let Some(reason) = file.guard.reason {
            found.entry(reason).or_default().add(file.size);
        }
    };
    count_guards(pool, count)?;
    assert!(found.is_empty() || !is_at_rest, "everything is said to be at rest: {found:?}");
    Ok(found)
}

/// Whether everything is known to be guarded without looking at a single file: all disks are there, every lane is what it is to
/// be, all parity is valid, nothing is damaged, and every replica is the newest.
fn is_at_rest(pool: &Pool) -> Result<bool> {
    let reading = pool.catalogue.reading();
    let head = parity_state::head(reading)?.map(|head| head.number);
    let has_parity = |volume: &VolumeSpec| pool.members_of(&volume.name, Role::Parity).next().is_some();
    if head.is_none() || !pool.volumes().iter().all(has_parity) || !tables(pool)?.is_empty() {
        return Ok(false);
    }
    for member in &pool.members {
        let id = member.row.id;
        let is_at_rest = member.state == State::Present
            && member.row.replica == head
            && match member.row.role {
                Role::Data => {
                    rest::stirred(reading, id)?.is_none()
                        && !contents::has_left_out(reading, id)?
                        && parity_state::damaged_contents(reading, id)?.is_empty()
                }
                Role::Cache => objects::taken(reading, id)?.files == 0,
                Role::Parity => parity_state::damaged_parity(reading, id)?.is_empty(),
            };
        if !is_at_rest {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Shows each file to `visit`, with its volume, and returns the models of the volumes.
fn count_guards(pool: &Pool, mut visit: impl FnMut(&VolumeSpec, CountedFile)) -> Result<Vec<VolumeModel>> {
    let mut models = Vec::new();
    for volume in pool.volumes() {
        let model = fate::load(pool, &volume.name)?;
        let evaluation = model.evaluate(&[]);
        model.for_each_counted(pool, &evaluation, |file| visit(&volume, file))?;
        models.push(model);
    }
    Ok(models)
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
        model.for_each_counted(pool, &evaluation, |file| {
            if file.guard.reason.is_some() {
                left.add(file.size);
            }
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
    shared::for_each_path(pool.catalogue.reading(), |shared| {
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
