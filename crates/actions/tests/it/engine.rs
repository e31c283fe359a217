//! Guards against a pass over rows that computes other bytes than one cell looked at with care: both see the same damage on the
//! same lost disks, and have to agree row by row; and what the pass leaves to care, it leaves for a reason.
//!
//! Holds I3.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::BTreeMap;

use sieve_core::lane::{LaneMap, Rows};
use sieve_core::units::{CellIndex, DiskId, GRANULE};
use sieve_disk::Result;
use sieve_pool::images::{load_snapshot, open_images};
use sieve_rows::content::Contents;
use sieve_rows::image::ParityImage;
use sieve_rows::stream::solve::{Progress, RowSink, Serves, Solving};
use sieve_rows::window::Snapshot;
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
    let solving = Solving {
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
        let window = snapshot.read(contents, images, cell, &mut problems).unwrap();
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
