//! Guards against an image that takes more memory the larger it is, and against a table in memory that says something else than
//! the one on the disk.
#![allow(
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a test may fail, and writes its own files"
)]

use std::fs;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

use sieve_core::lane::{IntervalMap, Rows};
use sieve_core::sync::CellGeometry;
use sieve_core::units::{ByteLength, CellIndex, CheckpointId, DiskId, ParityIndex};
use sieve_disk::{Disk, RealDisk};
use uuid::Uuid;

use super::table::{self, Entry};
use super::{ImageLimits, ParityImage, Part, PartPlace};

/// As many as the largest image has.
const CELLS: u32 = 4_000_000;
const CELL: usize = 1 << 20;
const CHECKPOINT: CheckpointId = CheckpointId::new(9);

fn identity() -> (Uuid, ParityIndex, CellGeometry) {
    (Uuid::nil(), ParityIndex::new(0), CellGeometry::with_cell(CELL as u64).unwrap())
}

fn open(folder: &Path) -> Part {
    let disk: Arc<dyn Disk> = Arc::new(RealDisk::open(folder).unwrap());
    let limits = ImageLimits::for_bytes(ByteLength::new(5 << 40), identity().2);
    let place = PartPlace { member: DiskId::new(1), cells: 0..u32::MAX, limits };
    Part::open(disk, place, identity(), |_| Ok(true)).unwrap()
}

/// A number of bytes that the system tells of this process.
fn memory(what: &str) -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with(what)).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() * 1024
}

/// An image of four terabytes: its table as it is on a disk, its last segment a hole.
fn large_image(folder: &Path) {
    let parity = folder.join(".zinc-sieve/parity");
    fs::create_dir_all(&parity).unwrap();
    let mut sum = [0; 16];
    sum.copy_from_slice(&blake3::hash(&vec![0; CELL]).as_bytes()[..16]);
    let entries = (0..CELLS).map(|cell| (cell, Entry { slot: cell, checkpoint: CHECKPOINT, sum }));
    let mut file = fs::File::create(parity.join("table")).unwrap();
    table::bytes_of(identity(), entries, |bytes| file.write_all(bytes).unwrap());
    let segment = fs::File::create(parity.join(format!("segment-{:05}", (CELLS - 1) / 1024))).unwrap();
    segment.set_len(1 << 30).unwrap();
}

#[test]
fn the_largest_image_takes_little_memory() {
    let folder = tempfile::tempdir().unwrap();
    large_image(folder.path());
    fs::write("/proc/self/clear_refs", "5").unwrap();
    let before = memory("VmRSS");
    let mut image = ParityImage::new(ParityIndex::new(0), vec![open(folder.path())]);
    let last = CellIndex::new(CELLS - 1);
    let mut expected = IntervalMap::default();
    expected.insert(Rows::new(0, u64::from(CELLS)), CHECKPOINT);
    assert!(image.parts()[0].damage().is_none() && image.missing(&expected).is_empty());
    assert_eq!(image.read(last, CHECKPOINT), Some(vec![0; CELL]));
    let parts = image.reader([(last, CHECKPOINT), (CellIndex::new(7), CHECKPOINT)].into_iter());
    assert!(!parts.is_absent(last));
    // A cell is written, and then the whole table anew.
    image.write(last, &vec![3; CELL]).unwrap();
    image.prepare(CheckpointId::new(10)).unwrap();
    image.committed();
    image.write(CellIndex::new(4), &vec![4; CELL]).unwrap();
    expected.insert(Rows::at(u64::from(last.get()), 1), CheckpointId::new(10));
    image.finish_copy(&expected).unwrap();
    let most = memory("VmHWM") - before;
    assert!(most < 64 << 20, "{most} bytes for {CELLS} cells");
    for image in [image, ParityImage::new(ParityIndex::new(0), vec![open(folder.path())])] {
        assert!(image.missing(&expected).is_empty());
        assert_eq!(image.read(last, CheckpointId::new(10)), Some(vec![3; CELL]));
        assert_eq!(image.read(CellIndex::new(4), CHECKPOINT), Some(vec![4; CELL]));
        assert_eq!(image.read(last, CHECKPOINT), None, "it is of another checkpoint");
    }
}

#[test]
fn a_table_that_is_written_anew_by_another_is_not_read_as_the_old_one() {
    let folder = tempfile::tempdir().unwrap();
    let image = || ParityImage::new(ParityIndex::new(0), vec![open(folder.path())]);
    let mut writer = image();
    for cell in 0..20 {
        writer.write(CellIndex::new(cell), &vec![cell as u8; CELL]).unwrap();
    }
    writer.prepare(CHECKPOINT).unwrap();
    writer.committed();
    let reader = image();
    // The writer goes on, and writes the table anew in another order.
    let expected = [(0..20, CHECKPOINT)].into_iter().fold(IntervalMap::default(), |mut map, (cells, id)| {
        map.insert(Rows::new(cells.start, cells.end), id);
        map
    });
    writer.write(CellIndex::new(0), &vec![99; CELL]).unwrap();
    writer.finish_copy(&expected).unwrap();
    for cell in 0..20 {
        let content = vec![cell as u8; CELL];
        assert_eq!(reader.read(CellIndex::new(cell), CHECKPOINT), Some(content), "the reader's own cells");
    }
    assert_eq!(image().read(CellIndex::new(0), CHECKPOINT), Some(vec![99; CELL]));
}
