//! Which cells of parity are computed, by which method, and what is read for that.

use std::collections::{BTreeMap, BTreeSet};

use super::CellGeometry;
use crate::lane::{LaneMap, Rows};
use crate::units::{ByteLength, CellIndex, GRANULE, VersionId};

/// How a cell of parity is brought up to date.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// From the old parity and what changed: `parity ^= c · (old ^ new)`.
    Delta,
    /// From all lanes.
    Recompute,
}

/// The work for one cell of parity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WindowPlan {
    /// The cell of parity.
    pub cell: CellIndex,
    /// How.
    pub method: Method,
}

/// What decides between the methods.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Preference {
    /// The way that keeps the disks busy for the least time in all.
    #[default]
    LeastTime,
    /// The way that lets the most disks sleep.
    FewestDisks,
}

/// What planning needs to know besides the lanes.
pub trait Circumstances {
    /// The size in granules of the checksum cells of a content.
    fn content_cell(&self, version: VersionId) -> u64;
    /// The length of a content.
    fn content_size(&self, version: VersionId) -> ByteLength;
    /// A content of the snapshot can be read on its own disk.
    fn is_readable(&self, version: VersionId) -> bool;
    /// The parity cell exists on every parity disk, and is not known to be damaged there.
    fn has_parity(&self, cell: CellIndex) -> bool;
    /// Seconds that a byte takes on the disk of a lane.
    fn seconds_per_byte(&self, lane: usize) -> f64;
    /// Seconds that a byte takes on all parity disks together.
    fn parity_seconds_per_byte(&self) -> f64;
}

/// The work of a sync, and what it moves.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Work {
    /// The cells, in order.
    pub windows: Vec<WindowPlan>,
    /// Bytes to read, by lane.
    pub lane_bytes: Vec<u64>,
    /// Cells of parity to read, on each parity disk.
    pub parity_reads: u64,
}

impl Work {
    /// The cells of parity that are written, and those of them that are read before.
    pub fn cells(&self) -> (Vec<CellIndex>, Vec<CellIndex>) {
        let read = self.windows.iter().filter(|window| window.method == Method::Delta);
        (self.windows.iter().map(|window| window.cell).collect(), read.map(|window| window.cell).collect())
    }
}

/// Plans the cells in which `snapshot` and `target` differ, and those in `also`, each by the cheaper method.
///
/// Cells in which the same lanes differ are decided alike.
pub fn plan_windows(
    snapshot: &[&LaneMap],
    target: &[LaneMap],
    also: &BTreeSet<CellIndex>,
    geometry: CellGeometry,
    circumstances: &impl Circumstances,
    preference: Preference,
) -> Work {
    let changed: Vec<Vec<Rows>> = snapshot.iter().zip(target).map(|(old, new)| old.difference(new)).collect();
    let mut dirty = also.clone();
    dirty.extend(changed.iter().flatten().flat_map(|rows| geometry.cells(*rows)));
    let lanes = Lanes { snapshot, target, changed: &changed, geometry };
    let mut classes: BTreeMap<Vec<u16>, Costs> = BTreeMap::new();
    let mut delta = Reads::new(target.len());
    let mut cells: Vec<(CellIndex, Option<Vec<u16>>)> = Vec::with_capacity(dirty.len());
    let mut recompute = Reads::new(target.len());
    for cell in dirty {
        let whole = recompute.cell(&lanes, cell, Method::Recompute, circumstances);
        let class = lanes.delta_class(cell, also, circumstances);
        if let Some(class) = &class {
            let part = delta.cell(&lanes, cell, Method::Delta, circumstances);
            let costs = classes.entry(class.clone()).or_default();
            costs.recompute += seconds(&whole, circumstances);
            let parity = geometry.cell_bytes() as f64 * circumstances.parity_seconds_per_byte();
            costs.delta += seconds(&part, circumstances) + parity;
        }
        cells.push((cell, class));
    }
    let method = |class: &Option<Vec<u16>>| match class.as_ref().and_then(|class| classes.get(class)) {
        Some(costs) if preference == Preference::FewestDisks || costs.delta <= costs.recompute => {
            Method::Delta
        }
        _ => Method::Recompute,
    };
    let windows: Vec<WindowPlan> =
        cells.iter().map(|(cell, class)| WindowPlan { cell: *cell, method: method(class) }).collect();
    let mut work = Work { lane_bytes: vec![0; target.len()], ..Work::default() };
    let mut reads = Reads::new(target.len());
    for window in &windows {
        for (lane, bytes) in reads.cell(&lanes, window.cell, window.method, circumstances) {
            work.lane_bytes[lane] += bytes;
        }
        work.parity_reads += u64::from(window.method == Method::Delta);
    }
    Work { windows, ..work }
}

/// Seconds that a class of cells takes either way.
#[derive(Default)]
struct Costs {
    delta: f64,
    recompute: f64,
}

fn seconds(reads: &[(usize, u64)], circumstances: &impl Circumstances) -> f64 {
    reads.iter().map(|(lane, bytes)| *bytes as f64 * circumstances.seconds_per_byte(*lane)).sum()
}

struct Lanes<'a> {
    snapshot: &'a [&'a LaneMap],
    target: &'a [LaneMap],
    changed: &'a [Vec<Rows>],
    geometry: CellGeometry,
}

impl Lanes<'_> {
    /// The rows of a lane that differ within a cell.
    fn changed_in(&self, lane: usize, cell: CellIndex) -> impl Iterator<Item = Rows> {
        changed_within(&self.changed[lane], self.geometry.rows(cell))
    }

    /// The lanes that differ in a cell, if what parity encodes there can be had from the disks that changed; nothing
    /// where the cell can only be computed from all lanes.
    fn delta_class(
        &self,
        cell: CellIndex,
        also: &BTreeSet<CellIndex>,
        circumstances: &impl Circumstances,
    ) -> Option<Vec<u16>> {
        if also.contains(&cell) || !circumstances.has_parity(cell) {
            return None;
        }
        let mut class = Vec::new();
        for (lane, snapshot) in self.snapshot.iter().enumerate() {
            let mut differs = false;
            for rows in self.changed_in(lane, cell) {
                differs = true;
                if snapshot.overlapping(rows).any(|piece| !circumstances.is_readable(piece.value.version)) {
                    return None;
                }
            }
            if differs {
                class.push(u16::try_from(lane).unwrap_or(u16::MAX));
            }
        }
        Some(class)
    }
}

/// The parts of ranges in order that lie within `rows`.
pub fn changed_within(changed: &[Rows], rows: Rows) -> impl Iterator<Item = Rows> {
    let from = changed.partition_point(|range| range.end() <= rows.start());
    changed[from..]
        .iter()
        .take_while(move |range| range.start() < rows.end())
        .map(move |range| range.intersection(rows))
}

/// Counts what is read: a checksum cell that two windows share is read once when they follow each other.
struct Reads {
    at_hand: Vec<Option<(VersionId, u64)>>,
}

impl Reads {
    fn new(lanes: usize) -> Self {
        Self { at_hand: vec![None; lanes] }
    }

    /// Bytes to read for a cell, by lane.
    fn cell(
        &mut self,
        lanes: &Lanes<'_>,
        cell: CellIndex,
        method: Method,
        circumstances: &impl Circumstances,
    ) -> Vec<(usize, u64)> {
        let mut reads = Vec::new();
        for lane in 0..lanes.target.len() {
            let mut bytes = 0;
            let mut count = |map: &LaneMap, rows: Rows| {
                for (version, cell) in content_cells(map, rows, &|v| circumstances.content_cell(v)) {
                    if self.at_hand[lane] != Some((version, cell)) {
                        let size = circumstances.content_cell(version) * GRANULE;
                        bytes +=
                            size.min(circumstances.content_size(version).exact().saturating_sub(cell * size));
                        self.at_hand[lane] = Some((version, cell));
                    }
                }
            };
            match method {
                Method::Recompute => count(&lanes.target[lane], lanes.geometry.rows(cell)),
                Method::Delta => {
                    for rows in lanes.changed_in(lane, cell) {
                        count(lanes.snapshot[lane], rows);
                        count(&lanes.target[lane], rows);
                    }
                }
            }
            if bytes > 0 {
                reads.push((lane, bytes));
            }
        }
        reads
    }
}

/// What a sync does to one lane.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Serialize, schemars::JsonSchema)]
pub struct LaneChange {
    /// Contents that get rows of parity.
    pub entering_files: u64,
    /// The bytes of those rows.
    pub entering_bytes: ByteLength,
    /// Contents that give rows up: what was removed, replaced or changed.
    pub leaving_files: u64,
    /// The bytes of those rows.
    pub leaving_bytes: ByteLength,
}

/// Compares a lane as it is in the snapshot with what it is to be.
pub fn lane_change(snapshot: &LaneMap, target: &LaneMap) -> LaneChange {
    let differing = snapshot.difference(target);
    let count = |lane: &LaneMap| {
        let pieces = || differing.iter().flat_map(|rows| lane.overlapping(*rows));
        let mut contents: Vec<VersionId> = pieces().map(|p| p.value.version).collect();
        contents.sort_unstable();
        contents.dedup();
        let rows: u64 = pieces().map(|p| p.rows.length()).sum();
        (contents.len() as u64, ByteLength::new(rows * GRANULE))
    };
    let (entering_files, entering_bytes) = count(target);
    let (leaving_files, leaving_bytes) = count(snapshot);
    LaneChange { entering_files, entering_bytes, leaving_files, leaving_bytes }
}

/// The checksum cells of contents that touch `rows` of a lane, in lane order.
pub(crate) fn content_cells(
    lane: &LaneMap,
    rows: Rows,
    content_cell: &impl Fn(VersionId) -> u64,
) -> Vec<(VersionId, u64)> {
    lane.overlapping(rows)
        .flat_map(|piece| {
            let size = content_cell(piece.value.version);
            let first = piece.value.offset / size;
            let end = (piece.value.offset + piece.rows.length()).div_ceil(size);
            (first..end).map(move |cell| (piece.value.version, cell))
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lane::Piece;

    #[test]
    fn a_lane_tells_what_enters_and_what_leaves() {
        let piece = |v| Piece { version: VersionId::new(v), offset: 0 };
        let (mut snapshot, mut target) = (LaneMap::default(), LaneMap::default());
        snapshot.insert(Rows::at(0, 10), piece(1));
        snapshot.insert(Rows::at(10, 5), piece(2));
        target.insert(Rows::at(0, 10), piece(1));
        target.insert(Rows::at(10, 2), piece(3));
        target.insert(Rows::at(20, 1), piece(4));
        let change = lane_change(&snapshot, &target);
        assert_eq!((change.entering_files, change.entering_bytes.exact()), (2, 3 * 4096));
        assert_eq!((change.leaving_files, change.leaving_bytes.exact()), (1, 5 * 4096));
        assert_eq!(lane_change(&target, &target), LaneChange::default());
    }

    /// Eight lanes of one content each, over ten cells.
    struct Even {
        unreadable: Vec<VersionId>,
    }

    impl Circumstances for Even {
        fn content_cell(&self, _: VersionId) -> u64 {
            256
        }
        fn content_size(&self, version: VersionId) -> ByteLength {
            ByteLength::new(if version.get() < 100 { 10 << 20 } else { 3 << 20 })
        }
        fn is_readable(&self, version: VersionId) -> bool {
            !self.unreadable.contains(&version)
        }
        fn has_parity(&self, cell: CellIndex) -> bool {
            cell.get() < 10
        }
        fn seconds_per_byte(&self, _: usize) -> f64 {
            1e-8
        }
        fn parity_seconds_per_byte(&self) -> f64 {
            2e-8
        }
    }

    const GEOMETRY_CELL: u64 = 1 << 20;

    fn lanes(count: i64) -> Vec<LaneMap> {
        (0..count)
            .map(|lane| {
                let mut map = LaneMap::default();
                map.insert(Rows::at(0, 2560), Piece { version: VersionId::new(lane), offset: 0 });
                map
            })
            .collect()
    }

    fn plan(snapshot: &[LaneMap], target: &[LaneMap], even: &Even, preference: Preference) -> Work {
        let geometry = CellGeometry::with_cell(GEOMETRY_CELL).unwrap();
        let snapshot: Vec<&LaneMap> = snapshot.iter().collect();
        plan_windows(&snapshot, target, &BTreeSet::new(), geometry, even, preference)
    }

    fn even() -> Even {
        Even { unreadable: Vec::new() }
    }

    #[test]
    fn what_arrives_on_one_disk_of_eight_reads_that_disk_and_parity_alone() {
        let mut snapshot = lanes(8);
        snapshot[3].remove(Rows::at(0, 768));
        let mut target = snapshot.clone();
        target[3].insert(Rows::at(0, 768), Piece { version: VersionId::new(100), offset: 0 });
        let work = plan(&snapshot, &target, &even(), Preference::LeastTime);
        assert_eq!(
            work.windows.iter().map(|w| (w.cell.get(), w.method)).collect::<Vec<_>>(),
            [(0, Method::Delta), (1, Method::Delta), (2, Method::Delta)]
        );
        assert_eq!(work.lane_bytes, [0, 0, 0, 3 << 20, 0, 0, 0, 0]);
        assert_eq!(work.parity_reads, 3);
    }

    #[test]
    fn many_changed_lanes_are_recomputed_unless_disks_are_to_sleep() {
        let snapshot = lanes(3);
        let mut target = snapshot.clone();
        for (lane, map) in target.iter_mut().take(2).enumerate() {
            map.insert(Rows::at(0, 768), Piece { version: VersionId::new(100 + lane as i64), offset: 0 });
        }
        // Old and new of two lanes and two parities, against three lanes.
        let work = plan(&snapshot, &target, &even(), Preference::LeastTime);
        assert!(work.windows.iter().all(|w| w.method == Method::Recompute));
        assert_eq!((work.lane_bytes[2], work.parity_reads), (3 << 20, 0));
        let work = plan(&snapshot, &target, &even(), Preference::FewestDisks);
        assert!(work.windows.iter().all(|w| w.method == Method::Delta));
        assert_eq!((work.lane_bytes[2], work.parity_reads), (0, 3));
    }

    #[test]
    fn what_cannot_be_read_any_more_or_has_no_parity_yet_is_recomputed() {
        let snapshot = lanes(8);
        let mut target = snapshot.clone();
        target[3].remove(Rows::at(0, 2560));
        let gone = Even { unreadable: vec![VersionId::new(3)] };
        for preference in [Preference::LeastTime, Preference::FewestDisks] {
            let work = plan(&snapshot, &target, &gone, preference);
            assert!(work.windows.iter().all(|w| w.method == Method::Recompute));
            assert_eq!(work.lane_bytes[3], 0);
            // What is held is read once, and the other disks sleep.
            let work = plan(&snapshot, &target, &even(), preference);
            assert_eq!((work.lane_bytes[3], work.lane_bytes[0], work.parity_reads), (10 << 20, 0, 10));
        }
        let mut beyond = lanes(8);
        beyond[0].insert(Rows::at(2560, 768), Piece { version: VersionId::new(100), offset: 0 });
        let work = plan(&lanes(8), &beyond, &even(), Preference::LeastTime);
        assert_eq!((work.windows[0].method, work.lane_bytes[0]), (Method::Recompute, 3 << 20));
        assert!(plan(&beyond, &beyond, &even(), Preference::LeastTime).windows.is_empty());
    }
}
