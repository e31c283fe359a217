//! One volume before a sync: its lanes as they are and as they are to be, its parity images.

use sieve_catalogue::contents::{self, NamedObject};
use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};

use sieve_core::checksum::Subtree;
use sieve_core::fate::Standing;
use sieve_core::lane::{IntervalMap, LaneMap, Rows, joined};
use sieve_core::path::RelPath;
use sieve_core::pool::VolumeSpec;
use sieve_core::sync::{
    CellGeometry, Circumstances, Data, Preference, Wanted, Work, lane_change, plan_lane, plan_windows,
};
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, GRANULE, ObjectId, VersionId};

use super::fill;
use super::report::{Options, SyncPlan};
use sieve_catalogue::label::Role;
use sieve_catalogue::rest::{self, Stirred};
use sieve_catalogue::{parity_state, unfinished};
use sieve_disk::Result;
use sieve_disk::Stamp;
use sieve_pool::curves::Curves;
use sieve_pool::images::{cells_by_disk, image_cells, load_snapshot, open_images};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::window::{Snapshot, SnapshotLane};

/// What a volume's lanes are and what they are to be.
pub(super) struct VolumeSync {
    pub(super) snapshot: Snapshot,
    pub(super) target: Vec<LaneMap>,
    pub(super) no_room: Vec<VersionId>,
    /// Contents whose checksums are not known yet, under provisional negative numbers (or their own, where an earlier
    /// sync had read a part).
    pub(super) fresh: HashMap<VersionId, Fresh>,
    /// What an earlier sync had read of some of them: their cells so far.
    pub(super) begun: HashMap<VersionId, Vec<Subtree>>,
    /// Disks whose lanes are what they are to be, and when that was so.
    at_rest: Vec<(DiskId, Stirred)>,
    facts: Facts,
}

/// A content whose checksums are computed while its rows are.
#[derive(Debug)]
pub(super) struct Fresh {
    pub(super) object: ObjectId,
    /// The lane, as a position in the snapshot.
    pub(super) lane: usize,
    pub(super) path: RelPath,
    pub(super) stamp: Stamp,
    pub(super) data: Data,
}

/// Which contents that are not read yet take part.
#[derive(Clone, Copy, Debug)]
pub(super) enum Unread<'a> {
    /// Only those with checksums.
    None,
    /// Those that are certainly new contents, but for the objects named.
    New { but: &'a BTreeSet<ObjectId> },
    /// All but those that differ although size and times say that they do not: what a sync may turn out to do.
    All,
    /// As all, but what only lost its change time's trust is taken to be what it was.
    Likely,
}

impl Unread<'_> {
    fn takes(self, object: ObjectId, standing: Standing, size: ByteLength) -> bool {
        match self {
            Self::None => false,
            Self::New { but } => {
                matches!(standing, Standing::Same | Standing::Changed)
                    && size > ByteLength::ZERO
                    && !but.contains(&object)
            }
            Self::All => standing != Standing::Suspect,
            Self::Likely => !matches!(standing, Standing::Suspect | Standing::Doubtful),
        }
    }
}

/// What planning asks about contents and disks.
#[derive(Default)]
struct Facts {
    /// Contents that can be read on their disks, with their lengths, in the order of their numbers.
    readable: Vec<(VersionId, ByteLength)>,
    /// Other contents that were asked for (those on disks at rest were not gone through): their lengths, and whether they
    /// can be read.
    others: RefCell<HashMap<VersionId, (ByteLength, bool)>>,
    seconds: Vec<f64>,
    parity_seconds: f64,
}

impl Facts {
    fn size_of_readable(&self, version: VersionId) -> Option<ByteLength> {
        let position = self.readable.binary_search_by_key(&version, |(v, _)| *v).ok()?;
        Some(self.readable[position].1)
    }
}

/// A planned sync, as planning asks about it.
struct Asked<'a> {
    pool: &'a Pool,
    facts: &'a Facts,
    expected: &'a IntervalMap<CheckpointId>,
}

impl Asked<'_> {
    /// A content that was not gone through: its length, and whether it can be read. Without a record nothing is.
    fn other(&self, version: VersionId) -> (ByteLength, bool) {
        let reading = self.pool.catalogue.reading();
        let ask = || match contents::readable_size(reading, version) {
            Ok(Some(size)) => (size, true),
            _ => (contents::size_of(reading, version).unwrap_or_default(), false),
        };
        *self.facts.others.borrow_mut().entry(version).or_insert_with(ask)
    }
}

impl Circumstances for Asked<'_> {
    fn content_cell(&self, version: VersionId) -> u64 {
        sieve_core::checksum::cell_size(self.content_size(version)) / GRANULE
    }

    fn content_size(&self, version: VersionId) -> ByteLength {
        self.facts.size_of_readable(version).unwrap_or_else(|| self.other(version).0)
    }

    fn is_readable(&self, version: VersionId) -> bool {
        self.facts.size_of_readable(version).is_some() || self.other(version).1
    }

    fn has_parity(&self, cell: CellIndex) -> bool {
        self.expected.at(u64::from(cell.get())).is_some()
    }

    fn seconds_per_byte(&self, lane: usize) -> f64 {
        self.facts.seconds.get(lane).copied().unwrap_or(0.0)
    }

    fn parity_seconds_per_byte(&self) -> f64 {
        self.facts.parity_seconds
    }
}

impl VolumeSync {
    /// The cells in which a lane changes.
    pub(super) fn changed_cells(&self) -> BTreeSet<CellIndex> {
        let lanes = self.snapshot.lanes.iter().zip(&self.target);
        let rows = lanes.flat_map(|(lane, target)| lane.map.difference(target));
        rows.flat_map(|rows| self.snapshot.geometry.cells(rows)).collect()
    }

    /// The work, cell by cell.
    pub(super) fn work(&self, pool: &Pool, also: &BTreeSet<CellIndex>, preference: Preference) -> Work {
        let current: Vec<&LaneMap> = self.snapshot.lanes.iter().map(|l| &l.map).collect();
        let asked = Asked { pool, facts: &self.facts, expected: &self.snapshot.expected };
        plan_windows(&current, &self.target, also, self.snapshot.geometry, &asked, preference)
    }
}

/// Loads a volume with its target.
pub(super) fn load(
    pool: &Pool,
    volume: &VolumeSpec,
    cells: u32,
    unread: Unread<'_>,
    options: &Options,
) -> Result<VolumeSync> {
    let snapshot = load_snapshot(pool, &volume.name)?;
    let limit = u64::from(cells) * snapshot.geometry.cell_rows();
    let mut sync = VolumeSync {
        snapshot,
        target: Vec::new(),
        no_room: Vec::new(),
        fresh: HashMap::new(),
        begun: HashMap::new(),
        at_rest: Vec::new(),
        facts: Facts::default(),
    };
    let curves = Curves::read(&*pool.home)?;
    let seconds = |member: &Member| {
        let curve = curves.of(member.spec.as_ref(), member.filesystem.as_ref().map(|f| &f.id));
        1.0 / curve.mean().per_second().max(1.0)
    };
    sync.facts.parity_seconds = pool.members_of(&volume.name, Role::Parity).map(seconds).sum();
    let unfinished = unfinished::all(pool.catalogue.reading())?;
    for (position, lane) in sync.snapshot.lanes.iter().enumerate() {
        let member = pool.member(lane.disk)?;
        sync.facts.seconds.push(seconds(member));
        if !options.includes(&member.row.name) {
            sync.target.push(lane.map.clone());
            continue;
        }
        let stirred = rest::stirred(pool.catalogue.reading(), lane.disk)?;
        if stirred.is_none() && !cfg!(debug_assertions) {
            sync.target.push(lane.map.clone());
            continue;
        }
        let complete = complete_contents(pool, lane)?;
        let unfinished = &unfinished;
        let gathered = Gathered::default();
        let mut contents =
            Contents { member, lane: position, unread, complete: &complete, unfinished, gathered };
        contents.gather(pool)?;
        let gathered = contents.gathered;
        let target = plan_lane(&lane.map, &gathered.wanted, limit);
        let is_at_rest = gathered.all_known && target.no_room.is_empty() && target.lane == lane.map;
        let Some(stirred) = stirred else {
            // Where assertions are on, every sync proves that what it may pass over has nothing for it.
            assert!(is_at_rest, "{} is said to be at rest", member.row.name);
            sync.target.push(target.lane);
            continue;
        };
        sync.at_rest.extend(is_at_rest.then_some((lane.disk, stirred)));
        sync.target.push(target.lane);
        sync.no_room.extend(target.no_room);
        sync.fresh.extend(gathered.fresh);
        sync.facts.readable.extend(gathered.readable);
    }
    sync.facts.readable.sort_unstable();
    sync.begun = unfinished;
    sync.begun.retain(|version, _| sync.fresh.contains_key(version));
    Ok(sync)
}

/// The contents of unsettled objects that are all in the snapshot.
fn complete_contents(pool: &Pool, lane: &SnapshotLane) -> Result<BTreeSet<VersionId>> {
    let unsettled = contents::of_unsettled(pool.catalogue.reading(), lane.disk)?;
    let mut missing: HashMap<VersionId, i64> =
        unsettled.into_iter().map(|(version, granules)| (version, granules.cast_signed())).collect();
    if !missing.is_empty() {
        for piece in lane.map.iter() {
            if let Some(granules) = missing.get_mut(&piece.value.version) {
                *granules -= piece.rows.length().cast_signed();
            }
        }
    }
    Ok(missing.into_iter().filter(|(_, granules)| *granules == 0).map(|(version, _)| version).collect())
}

/// What comes together while the contents of a lane are gone through.
struct Gathered {
    wanted: Vec<Wanted>,
    fresh: HashMap<VersionId, Fresh>,
    readable: Vec<(VersionId, ByteLength)>,
    /// Everything is as it was checksummed to its end, and nothing is held.
    all_known: bool,
}

impl Default for Gathered {
    fn default() -> Self {
        Self { wanted: Vec::new(), fresh: HashMap::new(), readable: Vec::new(), all_known: true }
    }
}

/// The contents that a lane is to hold, in the order of their paths.
struct Contents<'a> {
    member: &'a Member,
    lane: usize,
    unread: Unread<'a>,
    complete: &'a BTreeSet<VersionId>,
    /// Contents that were read in part, with what is known of them.
    unfinished: &'a HashMap<VersionId, Vec<Subtree>>,
    gathered: Gathered,
}

impl Contents<'_> {
    fn gather(&mut self, pool: &Pool) -> Result<()> {
        let disk = self.member.row.id;
        let reading = pool.catalogue.reading();
        let damaged = parity_state::damaged_contents(reading, disk)?.into_iter();
        let damaged: BTreeSet<VersionId> = damaged.map(|(version, _)| version).collect();
        let mut linked = BTreeSet::new();
        contents::for_each_named(reading, disk, |path, named| {
            let object = named.object()?;
            // With hard links an object counts under its first name.
            if linked.contains(&object) {
                return Ok(());
            }
            if !path.is_held() {
                linked.insert(object);
            }
            self.object(named, path, &damaged)
        })
    }

    fn object(
        &mut self,
        named: &NamedObject<'_>,
        path: RelPath,
        damaged: &BTreeSet<VersionId>,
    ) -> Result<()> {
        let (object, standing) = (named.object()?, named.standing()?);
        let content = named.version()?;
        let version = content.map(|(version, _)| version);
        let is_read = |version: &VersionId| !self.unfinished.contains_key(version);
        let known = version.filter(|v| standing == Standing::Same && is_read(v));
        self.gathered.all_known &= known.is_some() && !path.is_held();
        if let (Some(version), Some((_, size))) = (known, content) {
            if !damaged.contains(&version) {
                self.gathered.readable.push((version, size));
            }
            if !path.is_held() {
                let data = self.data(named, size)?;
                self.gathered.wanted.push(Wanted { version, data });
            }
            return Ok(());
        }
        if path.is_held() {
            return Ok(());
        }
        let size = named.stamp()?.size;
        let is_taken = self.unread.takes(object, standing, size);
        if standing == Standing::Doubtful
            && matches!(self.unread, Unread::Likely)
            && let Some(version) = version.filter(is_read)
        {
            self.gathered.readable.push((version, size));
            let data = self.data(named, size)?;
            self.gathered.wanted.push(Wanted { version, data });
            return Ok(());
        }
        // What could not be read stays in parity as it is there, if it is all there; its rows do not change.
        // What differs although its times say that it does not is not taken, read or not.
        let kept =
            version.into_iter().chain(named.older()?).filter(|v| !is_taken && self.complete.contains(v));
        self.gathered.wanted.extend(kept.map(|version| Wanted { version, data: Data::Dense(0) }));
        if is_taken {
            self.take(named, path, version.filter(|_| standing == Standing::Same))?;
        }
        Ok(())
    }

    fn data(&self, named: &NamedObject<'_>, size: ByteLength) -> Result<Data> {
        Ok(Data::new(&named.data(size)?))
    }

    /// Takes a content without checksums: a new one, or one that was read in part.
    fn take(&mut self, named: &NamedObject<'_>, path: RelPath, begun: Option<VersionId>) -> Result<()> {
        let (object, stamp) = (named.object()?, named.stamp()?);
        let size = stamp.size;
        let number = begun.unwrap_or_else(|| VersionId::new(-object.get()));
        self.gathered.readable.push((number, size));
        let data = match begun {
            Some(_) => self.data(named, size)?,
            None if named.allocated()? >= size => Data::Dense(size.granules()),
            None => {
                let ranges = self.member.usable()?.open(&path).and_then(|file| file.data_ranges());
                Data::new(&ranges.unwrap_or_default())
            }
        };
        self.gathered.wanted.push(Wanted { version: number, data: data.clone() });
        self.gathered.fresh.insert(number, Fresh { object, lane: self.lane, path, stamp, data });
        Ok(())
    }
}

/// What the coming sync would make of a volume.
pub struct Coming {
    /// The lanes; contents not read yet have the negative number of their object.
    pub lanes: Vec<(DiskId, LaneMap)>,
    /// Contents that get parity, and are not read yet: the negative numbers of their objects.
    pub unread: Vec<VersionId>,
    /// The rows whose parity is computed anew.
    pub dirty: Vec<Rows>,
}

/// Plans the coming sync of a volume, without doing it.
///
/// # Errors
/// What a disk or the database says.
pub fn coming_sync(pool: &Pool, volume: &str) -> Result<Coming> {
    let volumes = pool.volumes();
    let spec = volumes.iter().find(|v| v.name == volume).ok_or_else(|| {
        sieve_disk::Error::new(
            sieve_disk::Kind::Internal,
            "volume.unknown",
            format!("there is no volume `{volume}`"),
        )
    })?;
    let images = open_images(pool, volume, &[])?;
    let sync = load(pool, spec, image_cells(pool, volume)?, Unread::All, &Options::default())?;
    let also = invalid_cells(pool, &sync.snapshot, &images)?;
    let work = sync.work(pool, &also, Preference::default());
    let cells: Vec<CellIndex> = work.windows.iter().map(|w| w.cell).collect();
    let dirty = joined_rows(sync.snapshot.geometry, &cells);
    let lanes = sync.snapshot.lanes.iter().map(|l| l.disk).zip(sync.target).collect();
    let no_room: BTreeSet<VersionId> = sync.no_room.into_iter().collect();
    let is_taken = |version: &VersionId| version.get() < 0 && !no_room.contains(version);
    let mut unread: Vec<VersionId> = sync.fresh.into_keys().filter(is_taken).collect();
    unread.sort_unstable();
    Ok(Coming { lanes, unread, dirty })
}

/// Notes which disks are at rest now, so that the next sync need not go through what is on them.
///
/// # Errors
/// What a disk or the database says.
pub(super) fn note_rest(pool: &Pool, volume: &VolumeSpec, options: &Options) -> Result<()> {
    let sync = load(pool, volume, image_cells(pool, &volume.name)?, Unread::None, options)?;
    if sync.at_rest.is_empty() {
        return Ok(());
    }
    pool.catalogue
        .transaction(|t| sync.at_rest.iter().try_for_each(|(disk, when)| rest::note(t, *disk, *when)))
}

/// Cells that some parity disk does not have as it should, or has damaged.
pub(super) fn invalid_cells(
    pool: &Pool,
    snapshot: &Snapshot,
    images: &[ParityImage],
) -> Result<BTreeSet<CellIndex>> {
    let mut cells = BTreeSet::new();
    for image in images {
        cells.append(&mut fill::invalid(pool, snapshot, image)?);
    }
    Ok(cells)
}

/// Adds the work for a volume to a plan.
pub(super) fn estimate(
    pool: &Pool,
    volume: &VolumeSpec,
    options: &Options,
    plan: &mut SyncPlan,
) -> Result<()> {
    let images = open_images(pool, &volume.name, &[])?;
    let sync = load(pool, volume, image_cells(pool, &volume.name)?, Unread::Likely, options)?;
    let also = invalid_cells(pool, &sync.snapshot, &images)?;
    let work = sync.work(pool, &also, options.preference());
    let changed = sync.changed_cells();
    plan.cells += work.windows.len() as u64;
    plan.cells_by_delta += work.parity_reads;
    plan.no_room.extend(no_room(pool, &sync)?);
    let name = |disk: DiskId| pool.member(disk).map(|m| m.row.name.clone());
    let to_read = read_of_lanes(pool, &volume.name, &sync, &work)?;
    for ((lane, target), bytes) in sync.snapshot.lanes.iter().zip(&sync.target).zip(to_read) {
        plan.changes.insert(name(lane.disk)?, lane_change(&lane.map, target));
        let mut read = bytes;
        if options.includes(&name(lane.disk)?) {
            let (files, bytes) = contents::unread(pool.catalogue.reading(), lane.disk)?;
            plan.files_to_checksum += files;
            read = read.plus(bytes);
        }
        plan.read_bytes.insert(name(lane.disk)?, read);
    }
    let cell_bytes = sync.snapshot.geometry.cell_bytes();
    for (member, count) in cells_by_disk(pool, &volume.name, &work.cells().1) {
        plan.read_bytes.insert(member.row.name.clone(), ByteLength::new(count * cell_bytes));
    }
    for image in &images {
        let invalid = fill::invalid(pool, &sync.snapshot, image)?;
        for part in image.parts() {
            // Where nothing else changes, only what is not valid is written.
            let here = |cell: &&CellIndex| part.covers(**cell);
            let anew = invalid.difference(&changed).filter(here).count();
            let cells = (changed.iter().filter(here).count() + anew) as u64;
            plan.written_bytes.insert(name(part.member())?, ByteLength::new(cells * cell_bytes));
        }
    }
    Ok(())
}

/// The rows of contiguous cells, joined.
pub(super) fn joined_rows(geometry: CellGeometry, cells: &[CellIndex]) -> Vec<Rows> {
    joined(cells.iter().map(|cell| geometry.rows(*cell)).collect())
}

/// Bytes that are read of each data disk; where there is no parity to compute, only what has no checksum yet.
pub(super) fn read_of_lanes(
    pool: &Pool,
    volume: &str,
    sync: &VolumeSync,
    work: &Work,
) -> Result<Vec<ByteLength>> {
    if pool.members_of(volume, Role::Parity).next().is_some() {
        return Ok(work.lane_bytes.iter().map(|bytes| ByteLength::new(*bytes)).collect());
    }
    let mut fresh = vec![ByteLength::ZERO; sync.snapshot.lanes.len()];
    for content in sync.fresh.values() {
        fresh[content.lane] = fresh[content.lane].plus(content.stamp.size);
    }
    Ok(fresh)
}

/// The files that find no room below the end of the parity drives.
pub(super) fn no_room(pool: &Pool, sync: &VolumeSync) -> Result<Vec<String>> {
    let mut places = Vec::new();
    for version in &sync.no_room {
        match sync.fresh.get(version) {
            Some(fresh) => places.push(place_of(pool, sync, fresh)?),
            None => places.extend(super::places::places(pool, &[*version])?),
        }
    }
    Ok(places)
}

pub(super) fn place_of(pool: &Pool, sync: &VolumeSync, fresh: &Fresh) -> Result<String> {
    let disk = pool.member(sync.snapshot.lanes[fresh.lane].disk)?.usable()?;
    Ok(sieve_disk::full_path(&**disk, &fresh.path).display().to_string())
}
