//! One volume before a sync: its lanes as they are and as they are to be.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};

use sieve_catalogue::contents;
use sieve_catalogue::label::Role;
use sieve_catalogue::{parity_state, rest as resting, unfinished};
use sieve_core::checksum::Subtree;
use sieve_core::lane::{IntervalMap, LaneMap, Rows, joined};
use sieve_core::pool::VolumeSpec;
use sieve_core::sync::{CellGeometry, Circumstances, Preference, Work, plan_windows};
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, GRANULE, VersionId};
use sieve_disk::Result;
use sieve_pool::curves::Curves;
use sieve_pool::images::{image_cells, load_snapshot_with};
use sieve_pool::member::Member;
use sieve_pool::pool::Pool;
use sieve_rows::image::ParityImage;
use sieve_rows::window::Snapshot;

use super::gather::{Fresh, Unread, plan_one};
use super::report::Options;
use super::{fill, rest};

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
    facts: Facts,
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
    fn of(pool: &Pool, volume: &VolumeSpec, snapshot: Snapshot) -> Result<Self> {
        let curves = Curves::read(&*pool.home)?;
        let seconds = |member: &Member| {
            let curve = curves.of(member.spec.as_ref(), member.filesystem.as_ref().map(|f| &f.id));
            1.0 / curve.mean().per_second().max(1.0)
        };
        let facts = Facts {
            seconds: snapshot
                .lanes
                .iter()
                .map(|lane| pool.member(lane.disk).map(seconds))
                .collect::<Result<_>>()?,
            parity_seconds: pool.members_of(&volume.name, Role::Parity).map(seconds).sum(),
            ..Facts::default()
        };
        Ok(Self {
            snapshot,
            target: Vec::new(),
            no_room: Vec::new(),
            fresh: HashMap::new(),
            begun: HashMap::new(),
            facts,
        })
    }

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

/// Loads a volume with its target. Of disks at rest only the rows of cells are loaded in which another lane changes, or whose
/// parity is not valid in `images`; without those, all of them.
pub(super) fn load(
    pool: &Pool,
    volume: &VolumeSpec,
    images: Option<&[ParityImage]>,
    unread: Unread<'_>,
    options: &Options,
) -> Result<VolumeSync> {
    let reading = pool.catalogue.reading();
    let mut stirred = BTreeSet::new();
    for member in pool.members_of(&volume.name, Role::Data) {
        stirred.extend(resting::stirred(reading, member.row.id)?.map(|_| member.row.id));
    }
    let is_passed_over = |disk: DiskId| !stirred.contains(&disk);
    let snapshot = load_snapshot_with(pool, &volume.name, |disk| {
        let is_part = images.is_some() && is_passed_over(disk);
        if is_part { Ok(LaneMap::default()) } else { parity_state::lane(reading, disk) }
    })?;
    let mut sync = VolumeSync::of(pool, volume, snapshot)?;
    let limit = u64::from(image_cells(pool, &volume.name)?) * sync.snapshot.geometry.cell_rows();
    let unfinished = unfinished::all(reading)?;
    for position in 0..sync.snapshot.lanes.len() {
        let lane = &sync.snapshot.lanes[position];
        let member = pool.member(lane.disk)?;
        if is_passed_over(lane.disk) || !options.includes(&member.row.name) {
            sync.target.push(lane.map.clone());
            continue;
        }
        let (gathered, target) = plan_one(pool, lane, position, unread, &unfinished, limit)?;
        sync.target.push(target.lane);
        sync.no_room.extend(target.no_room);
        sync.fresh.extend(gathered.fresh);
        sync.facts.readable.extend(gathered.readable);
    }
    sync.facts.readable.sort_unstable();
    sync.begun = unfinished;
    sync.begun.retain(|version, _| sync.fresh.contains_key(version));
    if let Some(images) = images {
        let mut cells = sync.changed_cells();
        cells.append(&mut invalid_cells(pool, &sync.snapshot, images)?);
        let cells: Vec<CellIndex> = cells.into_iter().collect();
        let rows = joined_rows(sync.snapshot.geometry, &cells);
        for (lane, target) in sync.snapshot.lanes.iter_mut().zip(&mut sync.target) {
            if is_passed_over(lane.disk) {
                rest::prove(pool, lane, limit)?;
                lane.map = parity_state::lane_within(reading, lane.disk, &rows)?;
                target.clone_from(&lane.map);
            }
        }
    }
    Ok(sync)
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

/// The rows of contiguous cells, joined.
pub(super) fn joined_rows(geometry: CellGeometry, cells: &[CellIndex]) -> Vec<Rows> {
    joined(cells.iter().map(|cell| geometry.rows(*cell)).collect())
}
