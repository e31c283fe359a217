//! Guards against rot that is overlooked, mended wrongly or laundered: a million random bits flip over the data and the
//! parity of a pool. FLIPS sets how many.
//!
//! Holds I3.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::PathBuf;

use serde_json::Value;
use sieve_testkit::{Chance, Lab};

const PROGRAM: &str = env!("CARGO_BIN_EXE_zinc-sieve");
const CELL: usize = 1 << 20;
const LANES: usize = 6;
const PARITIES: usize = 2;
/// So many cells in each file, and files on each disk: cells of files are cells of parity.
const FILE_CELLS: usize = 2;
const FILES: usize = 8;
const ROWS: usize = FILE_CELLS * FILES;

struct Rotting {
    lab: Lab,
    chance: Chance,
    contents: BTreeMap<(usize, usize), Vec<u8>>,
}

/// A cell of a file (lane, row) or of a parity (after the lanes).
type Place = (usize, usize);

fn build() -> Rotting {
    let lab = Lab::new(PROGRAM, LANES, PARITIES, "60 MB");
    let mut chance = Chance::new(41);
    lab.run(&["create", "--yes"]).expect(&[0]);
    let mut rotting = Rotting { lab, chance: Chance::new(42), contents: BTreeMap::new() };
    for lane in 0..LANES {
        for number in 0..FILES {
            let bytes = chance.bytes(FILE_CELLS * CELL);
            fs::write(rotting.file(lane, number), &bytes).unwrap();
            rotting.contents.insert((lane, number), bytes);
        }
    }
    rotting.lab.run(&["sync", "--yes"]).expect(&[0]);
    rotting
}

fn number(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |sum, byte| sum << 8 | u64::from(*byte))
}

impl Rotting {
    fn file(&self, lane: usize, number: usize) -> PathBuf {
        let disk = &self.lab.data[lane];
        self.lab.disk(disk).join(format!("{disk}-{number:02}.flac"))
    }

    /// The slot of each cell of a parity, as its table (docs/formats.md) has it.
    fn slots(&self, parity: usize) -> BTreeMap<usize, u64> {
        let table = fs::read(self.parity_folder(parity).join("table")).unwrap();
        let mut slots = BTreeMap::new();
        let mut at = 64;
        while at < table.len() {
            let count = number(&table[at + 4..at + 8]) as usize;
            for entry in table[at + 24..at + 24 + count * 32].chunks(32) {
                slots.insert(number(&entry[..4]) as usize, number(&entry[4..8]));
            }
            at += 24 + count * 32 + 16;
        }
        slots
    }

    fn parity_folder(&self, parity: usize) -> PathBuf {
        self.lab.disk(&self.lab.parity[parity]).join(".zinc-sieve/parity")
    }

    /// Flips about so many bits: in each row, those of up to three of its cells.
    fn rot(&mut self, flips: usize) -> BTreeSet<Place> {
        let mut places = BTreeSet::new();
        for row in 0..ROWS {
            for _ in 0..self.chance.below(4) {
                places.insert((self.chance.below(LANES + PARITIES), row));
            }
        }
        let each = flips.div_ceil(places.len().max(1));
        for place in &places {
            self.rot_cell(*place, each);
        }
        places
    }

    fn rot_cell(&mut self, (lane, row): Place, flips: usize) {
        let (path, offset) = if lane < LANES {
            (self.file(lane, row / FILE_CELLS), (row % FILE_CELLS * CELL) as u64)
        } else {
            let slot = self.slots(lane - LANES)[&row];
            (self.parity_folder(lane - LANES).join("segment-00000"), slot * CELL as u64)
        };
        let mut bytes = fs::read(&path).unwrap();
        let cell = &mut bytes[usize::try_from(offset).unwrap()..][..CELL];
        let before = cell.to_vec();
        while *cell == before {
            for _ in 0..flips {
                cell[self.chance.below(CELL)] ^= 1 << self.chance.below(8);
            }
        }
        self.lab.overwrite(&path, offset, cell);
    }

    fn place_of(&self, damaged: &Value) -> Place {
        let lane = self.lab.data.iter().position(|name| *name == damaged["disk"]).unwrap();
        let path = damaged["path"].as_str().unwrap();
        let file: usize = path[self.lab.data[lane].len() + 1..][..2].parse().unwrap();
        (lane, file * FILE_CELLS + damaged["bytes"]["from"].as_u64().unwrap() as usize / CELL)
    }

    /// What a verify says is damaged.
    fn found(&self, report: &Value) -> BTreeSet<Place> {
        let files = report["damaged"].as_array().unwrap().iter().map(|file| self.place_of(file));
        let mut found: BTreeSet<Place> = files.collect();
        for (disk, cells) in report["damaged_parity"].as_object().unwrap() {
            let parity = LANES + self.lab.parity.iter().position(|name| name == disk).unwrap();
            found.extend(cells.as_array().unwrap().iter().map(|c| (parity, c.as_u64().unwrap() as usize)));
        }
        found
    }

    /// Mends, and holds what stays damaged against what the number of damaged cells in each row allows.
    fn mend(&self, damaged: &BTreeSet<Place>) -> BTreeSet<Place> {
        let in_row = |row: usize| damaged.iter().filter(move |place| place.1 == row);
        let hopeless: BTreeSet<Place> = damaged
            .iter()
            .filter(|place| in_row(place.1).count() > PARITIES && in_row(place.1).any(|p| p.0 < LANES))
            .copied()
            .collect();
        let code = i32::from(!hopeless.is_empty());
        let report = self.lab.run(&["verify", "--json"]).expect(&[1]).json();
        assert_eq!(self.found(&report), *damaged, "what is found is what rotted");
        let run = self.lab.run(&["verify", "--mend", "--yes", "--json"]).expect(&[code]).json();
        let left: BTreeSet<Place> =
            run["left"].as_array().unwrap().iter().map(|cell| self.place_of(cell)).collect();
        let of_files = |places: &BTreeSet<Place>| -> BTreeSet<Place> {
            places.iter().filter(|place| place.0 < LANES).copied().collect()
        };
        assert_eq!(left, of_files(&hopeless), "all is mended where the row allows, and nothing else");
        hopeless
    }

    fn bytes_of(&self, lane: usize, row: usize) -> &[u8] {
        &self.contents[&(lane, row / FILE_CELLS)][row % FILE_CELLS * CELL..][..CELL]
    }

    /// Whatever is not damaged is what it was; then the owner brings back the rest from elsewhere.
    fn compare_and_bring_back(&self, damaged: &BTreeSet<Place>) {
        for lane in 0..LANES {
            for row in 0..ROWS {
                if !self.contents.contains_key(&(lane, row / FILE_CELLS)) {
                    continue;
                }
                let path = self.file(lane, row / FILE_CELLS);
                let now = &fs::read(&path).unwrap()[row % FILE_CELLS * CELL..][..CELL];
                let expected = self.bytes_of(lane, row);
                assert_eq!(now != expected, damaged.contains(&(lane, row)), "lane {lane}, row {row}");
                if now != expected {
                    self.lab.overwrite(&path, (row % FILE_CELLS * CELL) as u64, expected);
                }
            }
        }
    }
}

#[test]
fn every_flipped_bit_is_found_and_what_can_be_mended_is() {
    let flips: usize = std::env::var("FLIPS").ok().and_then(|n| n.parse().ok()).unwrap_or(1_000_000);
    let mut rotting = build();
    for _ in 0..5 {
        let damaged = rotting.rot(flips / 10);
        let left = rotting.mend(&damaged);
        rotting.compare_and_bring_back(&left);
        // What was brought back is seen, and the parity of those rows can be computed again.
        rotting.lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
        rotting.lab.run(&["sync", "--yes"]).expect(&[0]);
        rotting.lab.run(&["verify"]).expect(&[0]);
    }
}

/// A sync in between has to compute rows in which something rotted unnoticed. If it took the damage for what is right,
/// the original bytes would no longer fit to the parity.
#[test]
fn no_flipped_bit_gets_into_parity() {
    let flips: usize = std::env::var("FLIPS").ok().and_then(|n| n.parse().ok()).unwrap_or(1_000_000);
    let mut rotting = build();
    for round in 0..5 {
        // The rows of this file have to be computed again.
        let (lane, number) = (round % LANES, round);
        let name = rotting.file(lane, number);
        let name = name.file_name().unwrap().to_str().unwrap();
        rotting.lab.run(&["rm", name, "--yes"]).expect(&[0]);
        rotting.contents.remove(&(lane, number));
        rotting.rot_what_is_there(flips / 10);
        rotting.lab.run(&["sync", "--yes"]).expect(&[0, 1]);
        rotting.lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
        for ((lane, number), bytes) in &rotting.contents {
            let path = rotting.file(*lane, *number);
            if fs::read(&path).unwrap() != *bytes {
                rotting.lab.overwrite(&path, 0, bytes);
            }
        }
        rotting.lab.run(&["verify", "--mend", "--yes"]).expect(&[0, 1]);
        rotting.lab.run(&["sync", "--yes"]).expect(&[0, 1]);
        rotting.lab.run(&["verify"]).expect(&[0]);
    }
}

impl Rotting {
    /// Flips bits in files and in parity, as many as come.
    fn rot_what_is_there(&mut self, flips: usize) {
        for row in 0..ROWS {
            for _ in 0..self.chance.below(4) {
                let lane = self.chance.below(LANES + PARITIES);
                let is_there = match lane.checked_sub(LANES) {
                    None => self.contents.contains_key(&(lane, row / FILE_CELLS)),
                    Some(parity) => self.slots(parity).contains_key(&row),
                };
                if is_there {
                    self.rot_cell((lane, row), flips / (ROWS * 3 / 2));
                }
            }
        }
    }
}
