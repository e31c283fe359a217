//! Guards against a pass over rows that computes other bytes than one cell looked at with care: both see the same damage on the
//! same lost disks, and have to agree row by row; and what the pass leaves to care, it leaves for a reason.
//!
//! Holds I3.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use sieve_catalogue::versions::{self, VersionRow};
use sieve_core::lane::{LaneMap, Rows};
use sieve_core::units::{CellIndex, DiskId, GRANULE, VersionId};
use sieve_disk::event::Silent;
use sieve_disk::{Disk, RealDisk, Result};
use sieve_pool::images::{load_snapshot, open_images, recall};
use sieve_pool::pool::Pool;
use sieve_rows::content::Contents;
use sieve_rows::image::ParityImage;
use sieve_rows::recall::{Recall, Wanted};
use sieve_rows::stream::solve::{Progress, RowSink, Serves, Solving};
use sieve_rows::window::{Snapshot, SnapshotLane};
use sieve_testkit::Chance;

use super::faults::{Scene, rel, scene};

const VOLUME: &str = "recordings";

/// Keeps every granule that it is handed.
struct Keeper {
    lane: usize,
    granules: BTreeMap<u64, Vec<u8>>,
}

impl RowSink for Keeper {
    fn lane(&self) -> usize {
        self.lane
    }

    fn take_rows(&mut self, _map: &LaneMap, rows: Rows, bytes: &[u8], _unknown: &[Rows]) -> Result<()> {
        let granules = bytes.chunks(GRANULE as usize).map(<[u8]>::to_vec);
        self.granules.extend((rows.start()..rows.end()).zip(granules));
        Ok(())
    }
}

struct Endless;

impl Progress for Endless {
    fn advance(&mut self) {}

    fn is_stopped(&self) -> bool {
        false
    }
}

/// Flips bits in files and in parity, as each of them is read.
fn damage(scene: &Scene, chance: &mut Chance) {
    for _ in 0..chance.below(6) {
        let disk = ["alder", "beech", "cedar", "oak", "pine"][chance.below(5)];
        let (file, length) = match disk {
            "oak" | "pine" => (".zinc-sieve/parity/segment-00000".to_string(), 5_000_000),
            disk => (format!("{disk}-{}.flac", chance.below(4)), 600_000),
        };
        let flip = (rel(&file), chance.below(length) as u64);
        scene.machine.set(&scene.path(disk), |faults| faults.flipped.push(flip));
    }
}

#[test]
fn the_pass_and_the_careful_look_agree() {
    let left: usize = (0..16).map(both_ways).sum();
    assert!(left > 20, "some cells are left to care: {left}");
}

/// Looks at all cells of a damaged pool in both ways; returns how many the pass left to care.
fn both_ways(seed: u64) -> usize {
    let (scene, mut chance) = (scene(), Chance::new(seed));
    damage(&scene, &mut chance);
    let lost: Vec<&str> =
        [&["alder"][..], &["oak"], &["beech", "cedar"], &["cedar", "pine"]][chance.below(4)].to_vec();
    let pool = scene.open().unwrap();
    let lost: Vec<DiskId> = lost.iter().map(|name| pool.member_named(name).unwrap().row.id).collect();
    let snapshot = load_snapshot(&pool, VOLUME).unwrap();
    let images = open_images(&pool, VOLUME, &lost).unwrap();
    let all = open_images(&pool, VOLUME, &[]).unwrap();
    let lost_images: Vec<&ParityImage> =
        all.iter().filter(|image| images.iter().all(|there| there.index() != image.index())).collect();
    let is_lost = |lane: &usize| lost.contains(&snapshot.lanes[*lane].disk);
    let mut keepers: Vec<Keeper> = (0..snapshot.lanes.len())
        .filter(is_lost)
        .map(|lane| Keeper { lane, granules: BTreeMap::new() })
        .collect();
    let cells: Vec<CellIndex> = snapshot.cells().collect();
    let mut solving = Solving {
        places: &pool,
        snapshot: &snapshot,
        read: images
            .iter()
            .map(|image| (image, Serves::ToSolve))
            .chain(lost_images.iter().map(|image| (*image, Serves::ToCompare)))
            .collect(),
        lost: &lost,
        sinks: keepers.iter_mut().map(|keeper| keeper as &mut dyn RowSink).collect(),
        written: &mut [],
        memory: sieve_core::units::ByteLength::new(64 << 20),
    };
    let solved = solving.run(&cells, &mut Endless).unwrap();
    assert_eq!(solved.ordered, cells.len());
    assert!(cells.len() > 4 && solved.left.len() < cells.len(), "both ways are met: {solved:?}");
    let mut contents = Contents::without(&pool, lost.clone());
    for cell in cells {
        let look = Look::at(&snapshot, &mut contents, &images, &lost_images, cell);
        if solved.left.contains(&cell) {
            assert!(look.is_wrong, "seed {seed}: cell {cell} was left for no reason");
            continue;
        }
        for keeper in &keepers {
            let (window, unknown) = &look.lanes[keeper.lane];
            assert!(unknown.is_empty(), "seed {seed}: cell {cell} cannot be known");
            for (row, bytes) in (look.rows.start()..).zip(window.chunks(GRANULE as usize)) {
                // Rows of cells in which the lane has nothing are not handed over.
                let kept = keeper.granules.get(&row).map_or(&[0; GRANULE as usize][..], Vec::as_slice);
                assert_eq!(kept, bytes, "seed {seed}: row {row} of lane {}", keeper.lane);
            }
        }
    }
    solved.left.len()
}

/// One cell with care.
struct Look {
    rows: Rows,
    lanes: Vec<(Vec<u8>, Vec<Rows>)>,
    /// Something in it is not as it should be.
    is_wrong: bool,
}

impl Look {
    fn at(
        snapshot: &Snapshot,
        contents: &mut Contents<'_>,
        images: &[ParityImage],
        lost_images: &[&ParityImage],
        cell: CellIndex,
    ) -> Self {
        let mut problems = Vec::new();
        let there: Vec<&ParityImage> = images.iter().collect();
        let window = snapshot.read(contents, &there, cell, &mut problems).unwrap();
        // A disk that is taken to be lost is none of them.
        let is_damage = |problem: &sieve_rows::window::ReadProblem| {
            !matches!(problem.problem, sieve_rows::content::CellProblem::Absent)
        };
        let expected = snapshot.expected.at(u64::from(cell.get())).unwrap();
        let mut is_wrong = problems.iter().any(is_damage);
        is_wrong |= window.lanes.iter().any(|lane| !lane.unknown.is_empty());
        is_wrong |=
            images.iter().chain(lost_images.iter().copied()).any(|i| i.read(cell, expected).is_none());
        let lanes = window.lanes.into_iter().map(|lane| (lane.bytes, lane.unknown)).collect();
        Self { rows: window.rows, lanes, is_wrong }
    }
}

/// Contents are brought back to files cell by cell exactly as far as their rows can be known with care: from a disk that is not
/// there, and from one that is there and has damage.
#[test]
fn what_is_recalled_is_what_can_be_known() {
    let (mut whole, mut torn) = (0, 0);
    for seed in 0..16 {
        let (scene, mut chance) = (scene(), Chance::new(seed));
        damage(&scene, &mut chance);
        let away: &[&str] = [&["alder"][..], &[], &["beech", "cedar"], &["cedar"]][chance.below(4)];
        let pool = scene.open().unwrap();
        let without: Vec<DiskId> = away.iter().map(|name| pool.member_named(name).unwrap().row.id).collect();
        let snapshot = load_snapshot(&pool, VOLUME).unwrap();
        let images = open_images(&pool, VOLUME, &[]).unwrap();
        let folder = tempfile::tempdir().unwrap();
        for (number, lane) in snapshot.lanes.iter().enumerate() {
            let unknown = unknown_granules(&pool, &snapshot, &images, &without, number);
            let rows = contents_of(&pool, lane);
            let missing =
                recall_all(&recall(&pool, &snapshot, &images, &without), lane.disk, &rows, folder.path());
            for (row, missing) in rows.iter().zip(missing) {
                let is_unknown = |cell: &u64| {
                    let here = Rows::at(cell * row.cell_granules(), row.cell_granules());
                    unknown.iter().any(|(of, lost)| *of == row.id && !lost.intersection(here).is_empty())
                };
                let expected: Vec<u64> = (0..row.sum.cells.len() as u64).filter(is_unknown).collect();
                assert_eq!(missing, expected, "seed {seed}: content {} of lane {number}", row.id);
                whole += usize::from(missing.is_empty());
                torn += usize::from(!missing.is_empty());
            }
        }
    }
    assert!(whole > 50 && torn > 5, "both are met: {whole} whole, {torn} torn");
}

/// The contents of a lane, each once.
fn contents_of(pool: &Pool, lane: &SnapshotLane) -> Vec<Arc<VersionRow>> {
    let versions: BTreeSet<VersionId> = lane.map.iter().map(|piece| piece.value.version).collect();
    let get = |version| Arc::new(versions::get(pool.catalogue.reading(), version).unwrap());
    versions.into_iter().map(get).collect()
}

/// Brings all contents back in one pass, and the cells of each by themselves: both ways miss the same, and have the same bytes.
fn recall_all(recall: &Recall<'_>, disk: DiskId, rows: &[Arc<VersionRow>], folder: &Path) -> Vec<Vec<u64>> {
    let to = RealDisk::open(folder).unwrap();
    let name = |row: &VersionRow| rel(&format!("{disk}-{}", row.id));
    let mut outputs: Vec<_> = rows.iter().map(|row| to.create(&name(row)).unwrap()).collect();
    let wanted = rows.iter().zip(&mut outputs);
    let wanted = wanted.map(|(row, output)| Wanted { row: Arc::clone(row), output: &mut **output }).collect();
    let missing = recall.write(disk, wanted, &Silent).unwrap();
    for ((row, output), missing) in rows.iter().zip(&mut outputs).zip(&missing) {
        for cell in 0..row.sum.cells.len() as u64 {
            let alone = recall.cells(disk, row, cell..cell + 1, &Silent).unwrap().remove(&cell);
            assert_eq!(alone.is_none(), missing.contains(&cell), "cell {cell} of content {}", row.id);
            let (start, length) = row.cell_span(cell);
            let mut written = vec![0; length as usize];
            output.read_at(&mut written, start).unwrap();
            assert!(alone.is_none_or(|alone| alone == written));
        }
    }
    missing
}

/// The granules of a lane's contents that cannot be known with care.
fn unknown_granules(
    pool: &Pool,
    snapshot: &Snapshot,
    images: &[ParityImage],
    without: &[DiskId],
    lane: usize,
) -> Vec<(VersionId, Rows)> {
    let mut contents = Contents::without(pool, without.to_vec());
    let images: Vec<&ParityImage> = images.iter().collect();
    let mut lost = Vec::new();
    for cell in snapshot.cells() {
        let window = snapshot.read(&mut contents, &images, cell, &mut Vec::new()).unwrap();
        for unknown in &window.lanes[lane].unknown {
            for piece in snapshot.lanes[lane].map.overlapping(*unknown) {
                let here = piece.rows.intersection(*unknown);
                let first = piece.value.offset + (here.start() - piece.rows.start());
                lost.push((piece.value.version, Rows::at(first, here.length())));
            }
        }
    }
    lost
}
