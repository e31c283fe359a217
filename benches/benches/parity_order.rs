//! How sequential a parity image stays: after a hundred small syncs it is read from its start to its end on a disk whose
//! head has to move (simulated). Printed as a share of what the same read takes when nothing ever moved.

use std::sync::Arc;

use sieve_core::forecast::{CurveSource, SpeedCurve};
use sieve_core::path::RelPath;
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, ParityIndex, Rate};
use sieve_disk::machine::Machine;
use sieve_rows::image::{ImageLimits, ParityImage, Part, PartPlace};
use sieve_testkit::{Chance, Drive, FaultyMachine, scratch};
use uuid::Uuid;

const CELL: u64 = 1 << 20;
const SYNCS: u64 = 100;

fn drive(capacity: u64) -> Drive {
    let rate = |mb: f64| Rate::from_per_second(mb * 1e6);
    let curve = SpeedCurve::new([(0.0, rate(240.0)), (1.0, rate(120.0))], CurveSource::Given);
    Drive::new(curve.expect("a curve"), capacity)
}

fn open(machine: &FaultyMachine, root: &std::path::Path, capacity: u64) -> ParityImage {
    let geometry = CellGeometry::with_cell(CELL).expect("a power of two");
    let (member, index) = (DiskId::new(1), ParityIndex::new(0));
    let limits = ImageLimits::for_bytes(ByteLength::new(capacity), geometry);
    let place = PartPlace { member, cells: 0..u32::MAX, limits };
    let disk = machine.open_disk(root).expect("the folder exists");
    let part = Part::open(disk, place, (Uuid::nil(), index, geometry), |_| Ok(true)).expect("no table yet");
    ParityImage::new(index, vec![part])
}

/// Writes cells as of a checkpoint, up to and with what follows its commit.
fn write(image: &mut ParityImage, cells: impl Iterator<Item = u32>, checkpoint: u64) {
    // What the cells hold does not matter here.
    let bytes = vec![0; CELL as usize];
    for cell in cells {
        image.write(CellIndex::new(cell), &bytes).expect("there is room");
    }
    image.prepare(CheckpointId::new(checkpoint)).expect("it can be made durable");
    image.committed();
    image.release();
}

/// Reads all cells in order; gives the seconds that the simulated disk takes.
fn read_all(machine: &FaultyMachine, root: &std::path::Path, image: &ParityImage, of: &[u64]) -> f64 {
    let capacity = 2 * of.len() as u64 * CELL;
    let cells = (0..).zip(of).map(|(cell, id)| (CellIndex::new(cell), CheckpointId::new(*id)));
    // The table was read when the image was opened: looking up where cells lie does not move the head.
    let reader = image.reader(cells);
    machine.set(root, |faults| faults.drive = Some(drive(capacity)));
    let mut buffer = vec![0; CELL as usize];
    for cell in 0..of.len() {
        let cell = CellIndex::new(u32::try_from(cell).expect("few"));
        let _ = reader.read_part(cell, 0, &mut buffer);
    }
    machine.clock(root)
}

fn measure(cells: u32, each: usize) -> f64 {
    let folder = scratch();
    let machine: Arc<FaultyMachine> = FaultyMachine::new();
    let root = folder.path();
    std::fs::create_dir(root.join(".zinc-sieve")).expect("a new folder");
    machine.set(root, |faults| {
        faults.hollow = Some(RelPath::new(".zinc-sieve/parity").expect("a path"));
    });
    // The disk is full to nine tenths.
    let mut image = open(&machine, root, u64::from(cells) * CELL * 10 / 9);
    let mut of = vec![1; cells as usize];
    write(&mut image, 0..cells, 1);
    let before = read_all(&machine, root, &image, &of);
    let mut chance = Chance::new(5);
    for sync in 0..SYNCS {
        // A few folders change: some cells in a row, here and there.
        let mut dirty = std::collections::BTreeSet::new();
        while dirty.len() < each {
            let start = chance.below(cells as usize);
            let length = 1 + chance.below(4);
            dirty.extend((start..(start + length).min(cells as usize)).map(|c| c as u32));
        }
        dirty.iter().for_each(|cell| of[*cell as usize] = sync + 2);
        write(&mut image, dirty.into_iter(), sync + 2);
    }
    before / read_all(&machine, root, &image, &of)
}

fn main() {
    println!("A full read of a parity image after {SYNCS} small syncs, as a share of the sequential speed");
    // Under `cargo test` a moment is enough.
    let scales: &[(u32, usize)] = if std::env::args().any(|a| a == "--bench") {
        &[(4096, 8), (16384, 16), (16384, 64)]
    } else {
        &[(2048, 4)]
    };
    for (cells, each) in scales {
        let share = measure(*cells, *each);
        println!("  {cells:>6} cells of 1 MiB, {each:>3} written by each sync: {share:.2}");
        // Nothing here depends on how fast this machine is.
        assert!(share >= 0.8, "the image does not stay sequential");
    }
}
